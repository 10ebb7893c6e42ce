-- +goose Up
-- What a teacher calls their sections, in which order they stand, and their pictures: seen by that teacher only.
CREATE TABLE own_sections (
    user_id    uuid NOT NULL REFERENCES users ON DELETE CASCADE,
    section_id uuid NOT NULL,
    position   int NOT NULL DEFAULT 0,
    short_name text NOT NULL DEFAULT '',
    picture    bytea,
    PRIMARY KEY (user_id, section_id)
);

-- A task may be a difference that a teacher hands to whoever can mend it, with the comparison as it was; what they
-- answer returns to the teacher.
ALTER TABLE tasks
    ALTER delivery_id DROP NOT NULL,
    ADD asked_by uuid REFERENCES users ON DELETE SET NULL,
    ADD asker    text NOT NULL DEFAULT '',
    ADD about    jsonb,
    ADD answer   text NOT NULL DEFAULT '';
CREATE INDEX tasks_section ON tasks (section_id) WHERE about IS NOT NULL;

-- +goose Down
DELETE FROM tasks WHERE delivery_id IS NULL;
DROP INDEX tasks_section;
ALTER TABLE tasks DROP answer, DROP about, DROP asker, DROP asked_by, ALTER delivery_id SET NOT NULL;
DROP TABLE own_sections;
