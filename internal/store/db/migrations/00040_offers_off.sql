-- +goose Up
-- An offer that is off gives nothing and takes nothing; what is bought meanwhile is kept.
ALTER TABLE offers ADD COLUMN off_since timestamptz;

-- +goose Down
ALTER TABLE offers DROP COLUMN off_since;
