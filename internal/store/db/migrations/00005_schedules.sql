-- +goose Up

-- When a pairing runs next by itself, and when its class opens by itself.
ALTER TABLE pairings ADD next_at timestamptz, ADD opens_at timestamptz;
CREATE INDEX pairings_due ON pairings (next_at) WHERE next_at IS NOT NULL AND ended_at IS NULL;
CREATE INDEX pairings_opening ON pairings (opens_at) WHERE opens_at IS NOT NULL AND ended_at IS NULL;

-- Removals above the guard that wait for a person's approval.
ALTER TABLE pairings ADD guarded int NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE pairings DROP next_at, DROP opens_at, DROP guarded;
