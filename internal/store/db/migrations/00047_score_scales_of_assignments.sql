-- +goose Up
-- Assignments were kept without their score scales: they are read as if they had changed.
UPDATE gradebook_records SET sum = 0 WHERE collection = 'lineItems';
UPDATE gradebook_reads SET whole_at = 'epoch';

-- +goose Down
SELECT 1;
