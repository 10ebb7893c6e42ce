-- +goose Up

-- Where an enrolment stands by what the register lists and by its own dates:
--   in       listed, and today is one of its days
--   waiting  listed, and its first day is to come
--   over     listed, and its last day has passed
--   gone     no longer listed
-- gone_at is NULL for those that are in, and only for them. joined_at is NULL until the
-- first day has come.
ALTER TABLE enrolments ADD standing text NOT NULL DEFAULT 'in', ALTER joined_at DROP NOT NULL;
UPDATE enrolments SET standing = 'gone' WHERE gone_at IS NOT NULL;
UPDATE enrolments SET standing = 'over', gone_at = end_date + 1 WHERE standing = 'in' AND end_date < current_date;
UPDATE enrolments SET standing = 'waiting', gone_at = now(), joined_at = NULL WHERE standing = 'in' AND begin_date > current_date;
CREATE INDEX enrolments_turn ON enrolments ((CASE standing WHEN 'waiting' THEN begin_date ELSE end_date + 1 END)) WHERE standing = 'waiting' OR standing = 'in' AND end_date IS NOT NULL;

-- The last day of a term; until now the register's own date stood there, which is the first
-- day after it.
UPDATE terms SET end_date = end_date - 1, row_hash = NULL;
SELECT refresh_section_facts(id, NULL) FROM connections WHERE kind IN ('oneroster', 'oneroster-csv');

-- +goose Down
DELETE FROM enrolments WHERE joined_at IS NULL;
DROP INDEX enrolments_turn;
ALTER TABLE enrolments DROP standing, ALTER joined_at SET NOT NULL;
UPDATE terms SET end_date = end_date + 1, row_hash = NULL;
