-- +goose Up
-- The content of attachments of statements, where an interface keeps it.
CREATE TABLE statement_attachments (
    interface_id uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    sha2         text NOT NULL,
    content_type text NOT NULL,
    body         bytea NOT NULL,
    came_at      timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (interface_id, sha2)
);

-- +goose Down
DROP TABLE statement_attachments;
