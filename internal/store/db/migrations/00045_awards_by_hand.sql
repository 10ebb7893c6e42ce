-- +goose Up

-- Who awarded a badge by hand or from a file, with their note and evidence; '' for those that rules awarded.
ALTER TABLE awards
    ADD awarded_by text NOT NULL DEFAULT '',
    ADD note text NOT NULL DEFAULT '',
    ADD evidence jsonb;

-- +goose Down
ALTER TABLE awards DROP awarded_by, DROP note, DROP evidence;
