-- +goose Up
-- What a session sees stands beside what its requests write, each of which writes all of that when it ends: by what
-- names are made up while they are hidden, and as whom of the register it looks.
ALTER TABLE sessions
    ADD names_key     text NOT NULL DEFAULT '',
    ADD viewed_person text NOT NULL DEFAULT '',
    ADD viewed_name   text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE sessions DROP viewed_name, DROP viewed_person, DROP names_key;
