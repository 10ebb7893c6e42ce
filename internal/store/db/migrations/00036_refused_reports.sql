-- +goose Up

-- What services reported that could not be taken, counted by day: requests whose signature is
-- refused, and events that cannot be used.
CREATE TABLE refused_reports (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    kind          text NOT NULL CHECK (kind IN ('signature', 'event')),
    day           date NOT NULL,
    count         bigint NOT NULL,
    detail        text NOT NULL, -- why the latest was
    at            timestamptz NOT NULL,
    PRIMARY KEY (connection_id, kind, day)
);

-- +goose Down
DROP TABLE refused_reports;
