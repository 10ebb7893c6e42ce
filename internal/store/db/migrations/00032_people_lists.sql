-- +goose Up

-- Lists of people that can be paired like a section: everybody of a course or of an
-- organisation of a register, or those whom somebody names.
CREATE TABLE people_lists (
    id            uuid PRIMARY KEY,
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    kind          text NOT NULL CHECK (kind IN ('course', 'organisation', 'named')),
    ref           text NOT NULL, -- the course's or organisation's sourced id
    name          text NOT NULL,
    made_by       text NOT NULL,
    version       int NOT NULL DEFAULT 1,
    created_at    timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE people_list_members (
    list_id   uuid NOT NULL REFERENCES people_lists ON DELETE CASCADE,
    person_id uuid NOT NULL,
    PRIMARY KEY (list_id, person_id)
);
ALTER TABLE section_facts ADD list text NOT NULL DEFAULT ''; -- kind of the people list that it is about, if it is

-- Who is on a list, by the register as it is: one row for each enrolment that says so. People
-- of an organisation who are enrolled nowhere have no role; those who were named learn.
-- +goose StatementBegin
CREATE FUNCTION people_of_list(list uuid) RETURNS TABLE (connection_id uuid, person text, role text, begins date) LANGUAGE sql STABLE AS $$
    WITH RECURSIVE l AS (SELECT * FROM people_lists WHERE id = list),
    within AS (
        SELECT o.connection_id, o.sourced_id FROM l JOIN orgs o ON o.connection_id = l.connection_id AND o.sourced_id = l.ref AND l.kind = 'organisation'
        UNION SELECT o.connection_id, o.sourced_id FROM within w JOIN orgs o ON o.connection_id = w.connection_id AND o.parent = w.sourced_id AND o.gone_at IS NULL),
    chosen AS (
        SELECT p.connection_id, p.sourced_id, 'ext:not-enrolled' AS otherwise FROM within w JOIN people p ON p.connection_id = w.connection_id AND p.org = w.sourced_id AND p.gone_at IS NULL
        UNION ALL SELECT p.connection_id, p.sourced_id, 'student' FROM l JOIN people_list_members m ON m.list_id = l.id AND l.kind = 'named' JOIN people p ON p.id = m.person_id AND p.connection_id = l.connection_id AND p.gone_at IS NULL)
    SELECT e.connection_id, e.person, e.role, CASE WHEN e.standing = 'waiting' THEN e.begin_date END
        FROM l JOIN sections s ON s.connection_id = l.connection_id AND s.course = l.ref AND l.kind = 'course' AND s.gone_at IS NULL
        JOIN enrolments e ON e.connection_id = s.connection_id AND e.section = s.sourced_id AND (e.gone_at IS NULL OR e.standing = 'waiting')
    UNION ALL
    SELECT c.connection_id, c.sourced_id, coalesce(e.role, c.otherwise), NULL
        FROM chosen c LEFT JOIN LATERAL (
            SELECT x.role FROM enrolments x JOIN sections s ON s.connection_id = x.connection_id AND s.sourced_id = x.section AND s.gone_at IS NULL
            WHERE x.connection_id = c.connection_id AND x.person = c.sourced_id AND x.gone_at IS NULL
            ORDER BY CASE x.role WHEN 'teacher' THEN 0 WHEN 'student' THEN 1 ELSE 2 END, x.role LIMIT 1) e ON true
$$;

-- What lists of sections show of them.
CREATE FUNCTION refresh_people_lists(register uuid) RETURNS void LANGUAGE sql AS $$
    DELETE FROM section_facts f WHERE f.connection_id = register AND f.list <> '' AND NOT EXISTS (SELECT FROM people_lists l WHERE l.id = f.section_id);
    INSERT INTO section_facts (section_id, connection_id, title, code, class_type, org, course_id, course, course_code, term_ids, terms, begins_on, ends_on, teachers, teacher_ids, roles, learners, gone, list)
    SELECT l.id, l.connection_id, l.name, '', '', coalesce(o.name, ''), coalesce(c.id, '00000000-0000-0000-0000-000000000000'), coalesce(c.title, ''), coalesce(c.code, ''), '{}', '{}', NULL, NULL,
           coalesce(p.teachers, '{}'), coalesce(p.teacher_ids, '{}'), coalesce(p.roles, '{}'), coalesce(p.learners, 0),
           l.kind = 'course' AND c.id IS NULL OR l.kind = 'organisation' AND o.name IS NULL, l.kind
    FROM people_lists l
    LEFT JOIN courses c ON l.kind = 'course' AND c.connection_id = l.connection_id AND c.sourced_id = l.ref AND c.gone_at IS NULL
    LEFT JOIN orgs o ON l.kind = 'organisation' AND o.connection_id = l.connection_id AND o.sourced_id = l.ref AND o.gone_at IS NULL
    LEFT JOIN LATERAL (
        SELECT array_agg(DISTINCT h.given_name || ' ' || h.family_name) FILTER (WHERE x.role = 'teacher') AS teachers,
               array_agg(DISTINCT h.id::text) FILTER (WHERE x.role = 'teacher') AS teacher_ids,
               array_agg(DISTINCT x.role ORDER BY x.role) AS roles, count(DISTINCT h.id) FILTER (WHERE x.role = 'student')::int AS learners
        FROM people_of_list(l.id) x JOIN people h ON h.connection_id = x.connection_id AND h.sourced_id = x.person WHERE x.begins IS NULL) p ON true
    WHERE l.connection_id = register
    ON CONFLICT (section_id) DO UPDATE SET title = excluded.title, org = excluded.org, course_id = excluded.course_id, course = excluded.course, course_code = excluded.course_code,
        teachers = excluded.teachers, teacher_ids = excluded.teacher_ids, roles = excluded.roles, learners = excluded.learners, gone = excluded.gone;
$$;
-- +goose StatementEnd

-- +goose Down
DELETE FROM section_facts WHERE list <> '';
ALTER TABLE section_facts DROP list;
DROP FUNCTION refresh_people_lists(uuid);
DROP FUNCTION people_of_list(uuid);
DROP TABLE people_list_members;
DROP TABLE people_lists;
