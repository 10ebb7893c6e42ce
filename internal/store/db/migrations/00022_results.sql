-- +goose Up

-- Which result of an assessment counts for a rule: every one, or the latest, the best or
-- the first, by the time at which it was reached.
ALTER TABLE rules ADD counts text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE rules DROP counts;
