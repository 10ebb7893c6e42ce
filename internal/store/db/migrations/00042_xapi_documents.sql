-- +goose Up
-- What platforms keep here beside statements: state, profiles of activities and of agents.
CREATE TABLE statement_documents (
    interface_id uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    place        bytea NOT NULL, -- hash of its kind, activity and agent
    registration text NOT NULL DEFAULT '',
    document_id  text NOT NULL,
    content_type text NOT NULL,
    body         bytea NOT NULL,
    etag         text NOT NULL,
    changed_at   timestamptz NOT NULL,
    PRIMARY KEY (interface_id, place, registration, document_id)
);

-- +goose Down
DROP TABLE statement_documents;
