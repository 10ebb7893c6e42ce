-- +goose Up

-- Classes at a service of which somebody said that they are no business of Kanban's.
CREATE TABLE ignored_classes (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    ref           text NOT NULL,
    said_by       text NOT NULL,
    said_at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (connection_id, ref)
);

-- +goose Down
DROP TABLE ignored_classes;
