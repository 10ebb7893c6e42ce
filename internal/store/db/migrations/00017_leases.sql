-- +goose Up

-- Processes that work, each with a lease that it renews. What a process has claimed is
-- its own until its lease is over. The columns that follow tell where its process can be
-- looked for.
CREATE TABLE workers (
    id      text PRIMARY KEY,
    machine text NOT NULL,
    pid     int NOT NULL,
    started bigint NOT NULL,
    until   timestamptz NOT NULL
);

-- What only one may do at a time, and who does it.
CREATE TABLE locks (
    name   text PRIMARY KEY,
    worker text NOT NULL,
    token  uuid NOT NULL
);

-- Deliveries are their own queue. Whoever makes an attempt claims the delivery for it, and
-- notes when it began, before the call is made; the attempt is added when it has ended.
ALTER TABLE deliveries ADD claimed_by text, ADD begun_at timestamptz, ADD held_for text NOT NULL DEFAULT '';
ALTER TABLE deliveries SET (fillfactor = 70);
CREATE INDEX deliveries_ready ON deliveries (connection_id, (coalesce(greatest(due_at, next_at), '-infinity'::timestamptz)), id) WHERE state IN ('queued', 'retrying');
-- +goose StatementBegin
DO $$ BEGIN
    IF to_regclass('river_job') IS NOT NULL THEN DELETE FROM river_job WHERE kind = 'deliver'; END IF;
END $$;
-- +goose StatementEnd

ALTER TABLE attempts ALTER millis SET DEFAULT 0;

-- Services, and single operations of them, that keep failing and are left alone for a
-- while. The service itself is the operation ''.
CREATE TABLE rests (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    operation     text NOT NULL DEFAULT '',
    title         text NOT NULL DEFAULT '',
    reason        text NOT NULL DEFAULT '',
    failures      int NOT NULL DEFAULT 0,
    rests         int NOT NULL DEFAULT 0,
    since         timestamptz,
    counted_at    timestamptz,
    rests_until   timestamptz,
    PRIMARY KEY (connection_id, operation)
);
INSERT INTO rests (connection_id, failures, since, counted_at, rests_until) SELECT id, failures, now(), now(), rests_until FROM connections WHERE failures > 0;
ALTER TABLE connections DROP failures, DROP rests_until;

-- +goose Down
ALTER TABLE connections ADD failures int NOT NULL DEFAULT 0, ADD rests_until timestamptz;
UPDATE connections c SET failures = r.failures, rests_until = r.rests_until FROM rests r WHERE r.connection_id = c.id AND r.operation = '';
DROP TABLE rests;
DROP INDEX deliveries_ready;
ALTER TABLE deliveries DROP claimed_by, DROP begun_at, DROP held_for;
DROP TABLE locks, workers;
