-- +goose Up

-- Ordered stages of a course, and who has come how far. Nobody's history goes when one
-- is removed: it is only not listed any more.
CREATE TABLE progressions (
    id         uuid PRIMARY KEY,
    name       text NOT NULL,
    course_id  uuid NOT NULL,
    stages     jsonb NOT NULL,
    version    int NOT NULL DEFAULT 1,
    on_since   timestamptz,
    removed_at timestamptz,
    created_at timestamptz NOT NULL DEFAULT now(),
    updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX progressions_name ON progressions (lower(name)) WHERE removed_at IS NULL;
CREATE TRIGGER progressions_marked AFTER INSERT OR UPDATE OR DELETE ON progressions FOR EACH STATEMENT EXECUTE FUNCTION mark_rules();

-- reached maps stages to when they were reached; round counts the changes.
CREATE TABLE progression_people (
    progression_id uuid NOT NULL REFERENCES progressions ON DELETE CASCADE,
    person_id      uuid NOT NULL,
    reached        jsonb NOT NULL DEFAULT '{}',
    next           text NOT NULL DEFAULT '',
    percent        int NOT NULL DEFAULT 0,
    round          int NOT NULL DEFAULT 0,
    updated_at     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (progression_id, person_id)
);

-- Who learns in a course now: in a section whose term is not over.
CREATE VIEW course_learners AS
    SELECT DISTINCT c.id AS course_id, x.id AS section_id, p.id AS person_id
    FROM courses c
    JOIN sections x ON x.connection_id = c.connection_id AND x.course = c.sourced_id AND x.gone_at IS NULL
    JOIN section_facts f ON f.section_id = x.id AND (f.ends_on IS NULL OR f.ends_on >= current_date)
    JOIN enrolments e ON e.connection_id = x.connection_id AND e.section = x.sourced_id AND e.gone_at IS NULL AND e.role = 'student'
    JOIN people p ON p.connection_id = e.connection_id AND p.sourced_id = e.person AND p.gone_at IS NULL;

-- Badges of stages are awarded by deliveries, like those of rules.
ALTER TABLE deliveries ADD progression_id uuid REFERENCES progressions ON DELETE CASCADE;
DROP INDEX deliveries_once;
CREATE UNIQUE INDEX deliveries_once ON deliveries (event_id, coalesce(rule_id, offer_id, progression_id), position, coalesce(undoes, '00000000-0000-0000-0000-000000000000'));

-- +goose Down
DELETE FROM deliveries WHERE progression_id IS NOT NULL;
DROP INDEX deliveries_once;
CREATE UNIQUE INDEX deliveries_once ON deliveries (event_id, coalesce(rule_id, offer_id), position, coalesce(undoes, '00000000-0000-0000-0000-000000000000'));
ALTER TABLE deliveries DROP progression_id;
DROP VIEW course_learners;
DROP TABLE progression_people, progressions;
