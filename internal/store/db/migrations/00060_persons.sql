-- +goose Up
-- One person may have records in several registers. Each record has an id of its own, made of the register's; records that
-- are one person's have the same id: that of one of them, into which the others are merged.
DROP VIEW course_learners;
DROP INDEX people_id;
ALTER TABLE people DROP id;
ALTER TABLE people ADD merged_into uuid;
ALTER TABLE people ADD id uuid NOT NULL
    GENERATED ALWAYS AS (coalesce(merged_into, md5(interface_id::text || '/person/' || sourced_id)::uuid)) STORED;
-- Of the records of one person one leads: its name and address are shown. Every other record leads.
ALTER TABLE people ADD leads boolean NOT NULL DEFAULT true;
CREATE INDEX people_id ON people (id);
CREATE INDEX people_merged_into ON people (merged_into) WHERE merged_into IS NOT NULL;

CREATE VIEW course_learners AS
    SELECT DISTINCT c.id AS course_id, x.id AS section_id, p.id AS person_id
    FROM courses c
    JOIN sections x ON x.interface_id = c.interface_id AND x.course = c.sourced_id AND x.gone_at IS NULL
    JOIN section_facts f ON f.section_id = x.id AND (f.ends_on IS NULL OR f.ends_on >= current_date)
    JOIN enrolments e ON e.interface_id = x.interface_id AND e.section = x.sourced_id AND e.gone_at IS NULL AND e.role = 'student'
    JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person AND p.gone_at IS NULL;

-- Which record of each person leads: one that is still listed by a register that is there, before the record whose id the
-- others have taken over.
-- +goose StatementBegin
CREATE FUNCTION choose_leading(who uuid[]) RETURNS void LANGUAGE sql AS $$
    UPDATE people p SET leads = (p.interface_id, p.sourced_id) = (b.interface_id, b.sourced_id)
    FROM (SELECT DISTINCT ON (o.id) o.id, o.interface_id, o.sourced_id FROM people o
        WHERE o.id = ANY (who)
        ORDER BY o.id, EXISTS (SELECT 1 FROM interfaces c WHERE c.id = o.interface_id AND c.removed_at IS NOT NULL),
            o.gone_at IS NOT NULL, o.merged_into IS NOT NULL, o.interface_id, o.sourced_id) b
    WHERE p.id = b.id AND p.id = ANY (who) AND p.leads <> ((p.interface_id, p.sourced_id) = (b.interface_id, b.sourced_id))
$$;
-- +goose StatementEnd

-- What is kept when two persons become one, so that they can be two again.
CREATE TABLE person_merges (
    id        uuid PRIMARY KEY,
    person_id uuid NOT NULL, -- who remains
    other_id  uuid NOT NULL, -- who was merged into them
    name      text NOT NULL,
    other     text NOT NULL,
    evidence  jsonb NOT NULL DEFAULT '[]',
    records   jsonb NOT NULL DEFAULT '[]', -- of the other: interface, sourced id, and what they had been merged into before
    moved     jsonb NOT NULL DEFAULT '{}', -- table -> keys of the rows that were the other's
    dropped   jsonb NOT NULL DEFAULT '{}', -- table -> rows of the other of which one person can have only one
    merged_by text NOT NULL,
    merged_at timestamptz NOT NULL DEFAULT now(),
    split_by  text NOT NULL DEFAULT '',
    split_at  timestamptz
);
CREATE INDEX person_merges_person ON person_merges (person_id) WHERE split_at IS NULL;
CREATE UNIQUE INDEX person_merges_other ON person_merges (other_id) WHERE split_at IS NULL;

-- The ids that somebody had before they were merged.
-- +goose StatementBegin
CREATE FUNCTION former_ids(who uuid) RETURNS SETOF uuid LANGUAGE sql STABLE AS $$
    WITH RECURSIVE f AS (
        SELECT other_id FROM person_merges WHERE person_id = who AND split_at IS NULL
        UNION SELECT m.other_id FROM f JOIN person_merges m ON m.person_id = f.other_id AND m.split_at IS NULL)
    SELECT other_id FROM f
$$;
-- +goose StatementEnd

-- Records of two registers that look like one person's, as they were looked for last.
CREATE TABLE same_people (
    a_interface uuid NOT NULL,
    a_sourced   text NOT NULL,
    b_interface uuid NOT NULL,
    b_sourced   text NOT NULL,
    certainty    text NOT NULL,
    signs       text[] NOT NULL DEFAULT '{}',
    PRIMARY KEY (a_interface, a_sourced, b_interface, b_sourced)
);

-- Of which records somebody said that they are two people's.
CREATE TABLE different_people (
    a_interface uuid NOT NULL,
    a_sourced   text NOT NULL,
    b_interface uuid NOT NULL,
    b_sourced   text NOT NULL,
    decided_by  text NOT NULL,
    decided_at  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (a_interface, a_sourced, b_interface, b_sourced)
);

-- +goose Down
-- Persons who are one would be two again, with everything at one of them: they are split first.
-- +goose StatementBegin
DO $$ BEGIN
    IF EXISTS (SELECT 1 FROM person_merges WHERE split_at IS NULL) THEN
        RAISE EXCEPTION 'people were merged: split them first';
    END IF;
END $$;
-- +goose StatementEnd
DROP TABLE different_people, same_people, person_merges;
DROP FUNCTION choose_leading(uuid[]), former_ids(uuid);
DROP VIEW course_learners;
DROP INDEX people_id, people_merged_into;
ALTER TABLE people DROP id, DROP leads, DROP merged_into;
ALTER TABLE people ADD id uuid NOT NULL GENERATED ALWAYS AS (md5(interface_id::text || '/person/' || sourced_id)::uuid) STORED;
CREATE INDEX people_id ON people (id);
CREATE VIEW course_learners AS
    SELECT DISTINCT c.id AS course_id, x.id AS section_id, p.id AS person_id
    FROM courses c
    JOIN sections x ON x.interface_id = c.interface_id AND x.course = c.sourced_id AND x.gone_at IS NULL
    JOIN section_facts f ON f.section_id = x.id AND (f.ends_on IS NULL OR f.ends_on >= current_date)
    JOIN enrolments e ON e.interface_id = x.interface_id AND e.section = x.sourced_id AND e.gone_at IS NULL AND e.role = 'student'
    JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person AND p.gone_at IS NULL;
