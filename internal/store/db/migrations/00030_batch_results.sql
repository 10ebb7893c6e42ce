-- +goose Up

-- A batch is done by a job, one item after the other: what became of each is kept at once,
-- so that whoever goes on after a stop does none of them twice. When the last is done they
-- go into the batch.
ALTER TABLE batches
    ADD approved boolean NOT NULL DEFAULT false,
    ADD done_by  text NOT NULL DEFAULT '',
    ADD ended_at timestamptz;
UPDATE batches SET ended_at = applied_at, done_by = made_by WHERE applied_at IS NOT NULL;
CREATE TABLE batch_results (
    batch_id uuid NOT NULL REFERENCES batches ON DELETE CASCADE,
    item     int NOT NULL,
    result   jsonb NOT NULL,
    PRIMARY KEY (batch_id, item)
);

-- +goose Down
DROP TABLE batch_results;
ALTER TABLE batches DROP approved, DROP done_by, DROP ended_at;
