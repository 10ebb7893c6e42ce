-- +goose Up

-- Whose records a read changed, and which of their fields.
CREATE TABLE read_differences (
    run_id uuid PRIMARY KEY REFERENCES runs ON DELETE CASCADE,
    list   jsonb NOT NULL,
    more   int   NOT NULL
);

-- +goose Down
DROP TABLE read_differences;
