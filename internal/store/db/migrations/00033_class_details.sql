-- +goose Up

-- What services want to know of a class: its level and subject, from the section or its
-- course (OneRoster grades and subjects).
ALTER TABLE sections ADD level text NOT NULL DEFAULT '', ADD subject text NOT NULL DEFAULT '';
ALTER TABLE courses ADD level text NOT NULL DEFAULT '', ADD subject text NOT NULL DEFAULT '';
UPDATE sections SET row_hash = NULL; -- the next read looks at them anew
UPDATE courses SET row_hash = NULL;
ALTER TABLE section_facts ADD level text NOT NULL DEFAULT '', ADD subject text NOT NULL DEFAULT '';
ALTER TABLE pairings ADD details jsonb; -- what the class is made with
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION refresh_section_facts(register uuid, only_ids uuid[]) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    before text := current_setting('enable_nestloop');
    wanted text := CASE WHEN only_ids IS NULL THEN '' ELSE 'AND e.section IN (SELECT sourced_id FROM these)' END;
BEGIN
    -- Many are joined whole; a plan that looks each of them up would take longer.
    IF only_ids IS NULL OR cardinality(only_ids) > 500 THEN
        PERFORM set_config('enable_nestloop', 'off', true);
    END IF;
    -- The text is planned anew each time, with the register's own statistics: a plan for
    -- any register would be one for none.
    EXECUTE format($sql$
        WITH these AS MATERIALIZED (
            SELECT * FROM sections s WHERE s.connection_id = %1$L %2$s
        ), dates AS ( -- few sets of terms are shared by all sections
            SELECT x.terms, array_agg(t.sourced_id ORDER BY t.sourced_id) AS ids, array_agg(t.title ORDER BY t.start_date, t.title) AS titles,
                   min(t.start_date) AS begins, max(t.end_date) AS ends
            FROM (SELECT DISTINCT terms FROM these) x, unnest(x.terms) term
            JOIN terms t ON t.connection_id = %1$L AND t.sourced_id = term AND t.gone_at IS NULL
            GROUP BY x.terms
        ), counted AS MATERIALIZED (
            SELECT e.section, e.role, count(*)::int AS people, array_agg(e.person) FILTER (WHERE e.role = 'teacher') AS teachers
            FROM enrolments e WHERE e.connection_id = %1$L AND e.gone_at IS NULL %3$s GROUP BY e.section, e.role
        ), seats AS (
            SELECT section, array_agg(role ORDER BY role) AS roles, sum(people) FILTER (WHERE role = 'student') AS learners FROM counted GROUP BY section
        ), teaching AS (
            SELECT c.section, array_agg(DISTINCT h.given_name || ' ' || h.family_name) AS teachers, array_agg(DISTINCT h.id::text) AS teacher_ids
            FROM counted c, unnest(c.teachers) w JOIN people h ON h.connection_id = %1$L AND h.sourced_id = w AND NOT h.secondary
            WHERE c.teachers IS NOT NULL GROUP BY c.section
        )
        INSERT INTO section_facts (section_id, connection_id, title, code, class_type, org, course_id, course, course_code, term_ids, terms, begins_on, ends_on, teachers, teacher_ids, roles, learners, gone, level, subject)
        SELECT s.id, %1$L, s.title, s.code, s.class_type, coalesce(o.name, ''), c.id, c.title, c.code,
               coalesce(d.ids, '{}'), coalesce(d.titles, '{}'), d.begins, d.ends,
               coalesce(t.teachers, '{}'), coalesce(t.teacher_ids, '{}'), coalesce(e.roles, '{}'), coalesce(e.learners, 0), s.gone_at IS NOT NULL,
               coalesce(nullif(s.level, ''), c.level), coalesce(nullif(s.subject, ''), c.subject)
        FROM these s
        JOIN courses c ON c.connection_id = %1$L AND c.sourced_id = s.course
        LEFT JOIN orgs o ON o.connection_id = %1$L AND o.sourced_id = s.org
        LEFT JOIN dates d ON d.terms = s.terms
        LEFT JOIN seats e ON e.section = s.sourced_id
        LEFT JOIN teaching t ON t.section = s.sourced_id
        ON CONFLICT (section_id) DO UPDATE SET
            title = excluded.title, code = excluded.code, class_type = excluded.class_type, org = excluded.org, course_id = excluded.course_id,
            course = excluded.course, course_code = excluded.course_code, term_ids = excluded.term_ids, terms = excluded.terms,
            begins_on = excluded.begins_on, ends_on = excluded.ends_on, teachers = excluded.teachers, teacher_ids = excluded.teacher_ids,
            roles = excluded.roles, learners = excluded.learners, gone = excluded.gone,
            level = excluded.level, subject = excluded.subject
    $sql$, register, CASE WHEN only_ids IS NULL THEN '' ELSE format('AND s.id = ANY (%L::uuid[])', only_ids) END, wanted);
    PERFORM set_config('enable_nestloop', before, true);
END $$;
-- +goose StatementEnd

-- +goose Down
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION refresh_section_facts(register uuid, only_ids uuid[]) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    before text := current_setting('enable_nestloop');
    wanted text := CASE WHEN only_ids IS NULL THEN '' ELSE 'AND e.section IN (SELECT sourced_id FROM these)' END;
BEGIN
    -- Many are joined whole; a plan that looks each of them up would take longer.
    IF only_ids IS NULL OR cardinality(only_ids) > 500 THEN
        PERFORM set_config('enable_nestloop', 'off', true);
    END IF;
    -- The text is planned anew each time, with the register's own statistics: a plan for
    -- any register would be one for none.
    EXECUTE format($sql$
        WITH these AS MATERIALIZED (
            SELECT * FROM sections s WHERE s.connection_id = %1$L %2$s
        ), dates AS ( -- few sets of terms are shared by all sections
            SELECT x.terms, array_agg(t.sourced_id ORDER BY t.sourced_id) AS ids, array_agg(t.title ORDER BY t.start_date, t.title) AS titles,
                   min(t.start_date) AS begins, max(t.end_date) AS ends
            FROM (SELECT DISTINCT terms FROM these) x, unnest(x.terms) term
            JOIN terms t ON t.connection_id = %1$L AND t.sourced_id = term AND t.gone_at IS NULL
            GROUP BY x.terms
        ), counted AS MATERIALIZED (
            SELECT e.section, e.role, count(*)::int AS people, array_agg(e.person) FILTER (WHERE e.role = 'teacher') AS teachers
            FROM enrolments e WHERE e.connection_id = %1$L AND e.gone_at IS NULL %3$s GROUP BY e.section, e.role
        ), seats AS (
            SELECT section, array_agg(role ORDER BY role) AS roles, sum(people) FILTER (WHERE role = 'student') AS learners FROM counted GROUP BY section
        ), teaching AS (
            SELECT c.section, array_agg(DISTINCT h.given_name || ' ' || h.family_name) AS teachers, array_agg(DISTINCT h.id::text) AS teacher_ids
            FROM counted c, unnest(c.teachers) w JOIN people h ON h.connection_id = %1$L AND h.sourced_id = w AND NOT h.secondary
            WHERE c.teachers IS NOT NULL GROUP BY c.section
        )
        INSERT INTO section_facts
        SELECT s.id, %1$L, s.title, s.code, s.class_type, coalesce(o.name, ''), c.id, c.title, c.code,
               coalesce(d.ids, '{}'), coalesce(d.titles, '{}'), d.begins, d.ends,
               coalesce(t.teachers, '{}'), coalesce(t.teacher_ids, '{}'), coalesce(e.roles, '{}'), coalesce(e.learners, 0), s.gone_at IS NOT NULL
        FROM these s
        JOIN courses c ON c.connection_id = %1$L AND c.sourced_id = s.course
        LEFT JOIN orgs o ON o.connection_id = %1$L AND o.sourced_id = s.org
        LEFT JOIN dates d ON d.terms = s.terms
        LEFT JOIN seats e ON e.section = s.sourced_id
        LEFT JOIN teaching t ON t.section = s.sourced_id
        ON CONFLICT (section_id) DO UPDATE SET
            title = excluded.title, code = excluded.code, class_type = excluded.class_type, org = excluded.org, course_id = excluded.course_id,
            course = excluded.course, course_code = excluded.course_code, term_ids = excluded.term_ids, terms = excluded.terms,
            begins_on = excluded.begins_on, ends_on = excluded.ends_on, teachers = excluded.teachers, teacher_ids = excluded.teacher_ids,
            roles = excluded.roles, learners = excluded.learners, gone = excluded.gone
    $sql$, register, CASE WHEN only_ids IS NULL THEN '' ELSE format('AND s.id = ANY (%L::uuid[])', only_ids) END, wanted);
    PERFORM set_config('enable_nestloop', before, true);
END $$;
-- +goose StatementEnd
ALTER TABLE pairings DROP details;
ALTER TABLE section_facts DROP level, DROP subject;
ALTER TABLE courses DROP level, DROP subject;
ALTER TABLE sections DROP level, DROP subject;
