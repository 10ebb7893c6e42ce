-- +goose Up

-- An award can be revoked, for a reason, and given anew after that. Its number is its
-- place in the status list that its credential names; what was signed before there were
-- any names none.
CREATE SEQUENCE award_numbers AS bigint MINVALUE 0 START 0;
ALTER TABLE awards
    ADD number bigint,
    ADD section_id uuid,
    ADD course_id uuid,
    ADD revoked_at timestamptz,
    ADD revoked_by text NOT NULL DEFAULT '',
    ADD reason text NOT NULL DEFAULT '';
UPDATE awards a SET section_id = e.section_id, course_id = e.course_id FROM events e WHERE e.id = a.event_id;
ALTER TABLE awards DROP CONSTRAINT awards_badge_id_person_id_key;
CREATE UNIQUE INDEX awards_held ON awards (badge_id, person_id) WHERE revoked_at IS NULL;
CREATE INDEX awards_person ON awards (person_id);
CREATE INDEX awards_revoked ON awards (badge_id, number) WHERE revoked_at IS NOT NULL;

-- +goose Down
DELETE FROM awards WHERE revoked_at IS NOT NULL;
DROP INDEX awards_revoked, awards_person, awards_held;
ALTER TABLE awards ADD CONSTRAINT awards_badge_id_person_id_key UNIQUE (badge_id, person_id);
ALTER TABLE awards DROP number, DROP section_id, DROP course_id, DROP revoked_at, DROP revoked_by, DROP reason;
DROP SEQUENCE award_numbers;
