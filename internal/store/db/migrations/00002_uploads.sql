-- +goose Up

-- A package of the register that was uploaded, until its run has read it.
CREATE TABLE uploads (
    run_id  uuid PRIMARY KEY REFERENCES runs ON DELETE CASCADE,
    content bytea NOT NULL
);
ALTER TABLE uploads ALTER content SET STORAGE EXTERNAL; -- a ZIP cannot be compressed again

-- +goose Down
DROP TABLE uploads;
