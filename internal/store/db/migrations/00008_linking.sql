-- +goose Up

-- Counts whenever what lists show of sections changes, so that a process knows
-- whether what it holds in memory is still right.
CREATE TABLE section_version (one boolean PRIMARY KEY DEFAULT true CHECK (one), version bigint NOT NULL DEFAULT 1);
INSERT INTO section_version DEFAULT VALUES;

-- What lists show of a section, worked out when a read changed it, so that a list
-- of ten thousand sections need not look at every enrolment.
CREATE TABLE section_facts (
    section_id    uuid PRIMARY KEY,
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    title         text NOT NULL,
    code          text NOT NULL,
    class_type    text NOT NULL,
    org           text NOT NULL,
    course_id     uuid NOT NULL,
    course        text NOT NULL,
    course_code   text NOT NULL,
    term_ids      text[] NOT NULL,
    terms         text[] NOT NULL,
    begins_on     date,
    ends_on       date,
    teachers      text[] NOT NULL,
    teacher_ids   text[] NOT NULL,
    roles         text[] NOT NULL,
    learners      int NOT NULL,
    gone          boolean NOT NULL
);
CREATE INDEX section_facts_listed ON section_facts (title, section_id);

-- +goose StatementBegin
-- The text is planned anew each time, with the register's own statistics: a plan for
-- any register would be one for none. Everything of a register is joined whole.
CREATE FUNCTION refresh_section_facts(register uuid, only_ids uuid[]) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    before text := current_setting('enable_nestloop');
BEGIN
    IF only_ids IS NULL THEN
        PERFORM set_config('enable_nestloop', 'off', true);
    END IF;
    EXECUTE format($sql$
        WITH these AS MATERIALIZED (
            SELECT * FROM sections s WHERE s.connection_id = %1$L %2$s
        ), dates AS (
            SELECT s.sourced_id, array_agg(t.sourced_id ORDER BY t.sourced_id) AS ids, array_agg(t.title ORDER BY t.start_date, t.title) AS titles,
                   min(t.start_date) AS begins, max(t.end_date) AS ends
            FROM (SELECT sourced_id, unnest(terms) AS term FROM these) s
            JOIN terms t ON t.connection_id = %1$L AND t.sourced_id = s.term AND t.gone_at IS NULL
            GROUP BY s.sourced_id
        ), seats AS (
            SELECT e.section,
                   array_agg(DISTINCT h.given_name || ' ' || h.family_name) FILTER (WHERE e.role = 'teacher' AND NOT h.secondary) AS teachers,
                   array_agg(DISTINCT h.id::text) FILTER (WHERE e.role = 'teacher' AND NOT h.secondary) AS teacher_ids,
                   array_agg(DISTINCT e.role) AS roles,
                   count(DISTINCT e.person) FILTER (WHERE e.role = 'student')::int AS learners
            FROM these s
            JOIN enrolments e ON e.connection_id = %1$L AND e.section = s.sourced_id AND e.gone_at IS NULL
            JOIN people h ON h.connection_id = %1$L AND h.sourced_id = e.person
            GROUP BY e.section
        )
        INSERT INTO section_facts
        SELECT s.id, %1$L, s.title, s.code, s.class_type, coalesce(o.name, ''), c.id, c.title, c.code,
               coalesce(d.ids, '{}'), coalesce(d.titles, '{}'), d.begins, d.ends,
               coalesce(e.teachers, '{}'), coalesce(e.teacher_ids, '{}'), coalesce(e.roles, '{}'), coalesce(e.learners, 0), s.gone_at IS NOT NULL
        FROM these s
        JOIN courses c ON c.connection_id = %1$L AND c.sourced_id = s.course
        LEFT JOIN orgs o ON o.connection_id = %1$L AND o.sourced_id = s.org
        LEFT JOIN dates d ON d.sourced_id = s.sourced_id
        LEFT JOIN seats e ON e.section = s.sourced_id
        ON CONFLICT (section_id) DO UPDATE SET
            title = excluded.title, code = excluded.code, class_type = excluded.class_type, org = excluded.org, course_id = excluded.course_id,
            course = excluded.course, course_code = excluded.course_code, term_ids = excluded.term_ids, terms = excluded.terms,
            begins_on = excluded.begins_on, ends_on = excluded.ends_on, teachers = excluded.teachers, teacher_ids = excluded.teacher_ids,
            roles = excluded.roles, learners = excluded.learners, gone = excluded.gone
    $sql$, register, CASE WHEN only_ids IS NULL THEN '' ELSE format('AND s.id = ANY (%L::uuid[])', only_ids) END);
    PERFORM set_config('enable_nestloop', before, true);
END $$;
-- +goose StatementEnd
SELECT refresh_section_facts(id, NULL) FROM connections WHERE kind LIKE 'oneroster%';

-- Sections that are handled as one. One that was unlinked keeps its row.
CREATE TABLE linked_sets (
    id          uuid PRIMARY KEY,
    name        text NOT NULL,
    lead_id     uuid NOT NULL,
    reason      text NOT NULL DEFAULT '', -- why the rule for linking was overridden
    made_by     text NOT NULL,
    version     int NOT NULL DEFAULT 1,
    created_at  timestamptz NOT NULL DEFAULT now(),
    unlinked_at timestamptz
);
CREATE TABLE linked_sections (
    set_id      uuid NOT NULL REFERENCES linked_sets ON DELETE CASCADE,
    section_id  uuid NOT NULL,
    position    int NOT NULL,
    unlinked_at timestamptz,
    PRIMARY KEY (set_id, section_id)
);
CREATE UNIQUE INDEX linked_sections_once ON linked_sections (section_id) WHERE unlinked_at IS NULL;

-- Rosters and results as they were before sections were linked.
CREATE TABLE safety_copies (
    id         uuid PRIMARY KEY,
    set_id     uuid NOT NULL REFERENCES linked_sets ON DELETE CASCADE,
    content    bytea NOT NULL,
    people     int NOT NULL,
    results    int NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

ALTER TABLE pairings ADD set_id uuid REFERENCES linked_sets;
-- Which sections a pairing is about: its own, or all of its set.
CREATE VIEW paired_sections AS
    SELECT p.id AS pairing_id, p.connection_id, p.set_id, coalesce(l.section_id, p.section_id) AS section_id
    FROM pairings p LEFT JOIN linked_sections l ON l.set_id = p.set_id AND l.unlinked_at IS NULL
    WHERE p.ended_at IS NULL;
-- The groups inside a target, one for each section of the set.
CREATE TABLE pairing_groups (
    pairing_id uuid NOT NULL REFERENCES pairings ON DELETE CASCADE,
    section_id uuid NOT NULL,
    ref        text NOT NULL,
    PRIMARY KEY (pairing_id, section_id)
);
-- Whom Kanban put into which of them.
CREATE TABLE group_placements (
    pairing_id uuid NOT NULL REFERENCES pairings ON DELETE CASCADE,
    section_id uuid NOT NULL,
    remote_id  text NOT NULL,
    PRIMARY KEY (pairing_id, section_id, remote_id)
);

-- The name that the target has at the service, by the latest comparison.
ALTER TABLE pairings ADD target_seen text NOT NULL DEFAULT '';
-- A comparison, with a run of what it finds, that was asked for and is still to come.
ALTER TABLE pairings ADD asked_at timestamptz, ADD asked_by text NOT NULL DEFAULT '', ADD asked_run boolean NOT NULL DEFAULT false;
CREATE INDEX pairings_asked ON pairings (connection_id) WHERE asked_at IS NOT NULL;
CREATE INDEX runs_pairing ON runs (pairing_id, id) WHERE pairing_id IS NOT NULL;
CREATE INDEX placements_account ON placements (remote_id);
CREATE INDEX pairings_section ON pairings (section_id) WHERE ended_at IS NULL;

-- Something that is done to many at once: shown first, then done exactly so.
CREATE TABLE batches (
    id         uuid PRIMARY KEY,
    act        text NOT NULL,
    options    jsonb NOT NULL DEFAULT '{}',
    items      jsonb NOT NULL DEFAULT '[]',
    made_by    text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    applied_at timestamptz
);
ALTER TABLE runs ADD batch_id uuid REFERENCES batches ON DELETE SET NULL;
CREATE INDEX runs_batch ON runs (batch_id) WHERE batch_id IS NOT NULL;

-- Who was asked by mail to approve removals; the token itself is kept nowhere.
CREATE TABLE approvals (
    token_hash       bytea PRIMARY KEY,
    pairing_id       uuid NOT NULL REFERENCES pairings ON DELETE CASCADE,
    administrator_id uuid NOT NULL REFERENCES administrators ON DELETE CASCADE,
    created_at       timestamptz NOT NULL DEFAULT now(),
    used_at          timestamptz
);
-- How many removals were announced by mail, so that the same is not said twice.
ALTER TABLE pairings ADD guard_told int NOT NULL DEFAULT 0;
-- Why the latest comparison through a connection did not come about.
ALTER TABLE connections ADD trouble text NOT NULL DEFAULT '', ADD trouble_code text NOT NULL DEFAULT '';
-- Who approved removals above the guard.
ALTER TABLE runs ADD approved_by text NOT NULL DEFAULT '';

-- +goose Down
SELECT 1 / 0; -- linked sets would be lost: restore a backup
