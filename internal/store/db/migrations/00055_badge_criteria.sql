-- +goose Up
ALTER TABLE badges ADD asks jsonb; -- what has to be done, as programs read it

-- +goose Down
ALTER TABLE badges DROP asks;
