-- +goose Up
-- Plain words, second part: kinds of action say what they do, and each column what it holds.
-- +goose StatementBegin
CREATE FUNCTION renamed_action(a jsonb) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT CASE a->>'kind'
        WHEN 'operate' THEN jsonb_set(a, '{kind}', '"call-operation"')
        WHEN 'row' THEN jsonb_set(a, '{kind}', '"append-row"')
        WHEN 'send' THEN jsonb_set(a, '{kind}', '"send-event"')
        ELSE a END
$$;
-- +goose StatementEnd
UPDATE rules SET actions = (SELECT jsonb_agg(renamed_action(a) ORDER BY n) FROM jsonb_array_elements(actions) WITH ORDINALITY AS x (a, n))
    WHERE jsonb_typeof(actions) = 'array' AND actions <> '[]';
UPDATE rule_versions SET draft = draft || jsonb_build_object('Actions', (SELECT jsonb_agg(renamed_action(a) ORDER BY n) FROM jsonb_array_elements(draft->'Actions') WITH ORDINALITY AS x (a, n)))
    WHERE jsonb_typeof(draft->'Actions') = 'array' AND draft->'Actions' <> '[]';
UPDATE rule_versions SET draft = draft - 'Once' - 'Quiet' || jsonb_build_object('OncePerPerson', draft->'Once', 'QuietHours', draft->'Quiet');
UPDATE deliveries SET action = renamed_action(action) WHERE action->>'kind' IN ('operate', 'row', 'send');
DROP FUNCTION renamed_action(jsonb);
-- What failures are counted for carries the action's kind in its name: they are counted anew.
DELETE FROM rests WHERE operation <> '';
UPDATE deliveries SET held_for = '' WHERE held_for <> '';
ALTER TABLE rules RENAME once TO once_per_person;
ALTER TABLE rules RENAME quiet TO quiet_hours;
ALTER TABLE rule_tallies RENAME TO rule_counts;
ALTER INDEX rule_tallies_rule RENAME TO rule_counts_rule;
ALTER TABLE pairings RENAME quiet TO left_as_is;
ALTER TABLE pairings RENAME guard_told TO guard_notified;
-- That a target is gone stood in place of its name.
ALTER TABLE pairings ADD target_lost boolean NOT NULL DEFAULT false;
UPDATE pairings SET target_lost = true, target_seen = '' WHERE target_seen = E'\x01gone';
ALTER TABLE ignored_classes RENAME said_by TO ignored_by;
ALTER TABLE ignored_classes RENAME said_at TO ignored_at;
ALTER TABLE not_accounts RENAME said_by TO decided_by;
ALTER TABLE not_accounts RENAME said_at TO decided_at;
ALTER TABLE person_marks RENAME said_by TO decided_by;
ALTER TABLE person_marks RENAME said_at TO decided_at;
ALTER TABLE progress RENAME tally TO done_bits;
ALTER TABLE enrolments RENAME standing TO state;
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION people_of_list(list uuid) RETURNS TABLE (connection_id uuid, person text, role text, begins date) LANGUAGE sql STABLE AS $$
    WITH RECURSIVE l AS (SELECT * FROM people_lists WHERE id = list),
    within AS (
        SELECT o.connection_id, o.sourced_id FROM l JOIN orgs o ON o.connection_id = l.connection_id AND o.sourced_id = l.ref AND l.kind = 'organisation'
        UNION SELECT o.connection_id, o.sourced_id FROM within w JOIN orgs o ON o.connection_id = w.connection_id AND o.parent = w.sourced_id AND o.gone_at IS NULL),
    chosen AS (
        SELECT p.connection_id, p.sourced_id, 'ext:not-enrolled' AS otherwise FROM within w JOIN people p ON p.connection_id = w.connection_id AND p.org = w.sourced_id AND p.gone_at IS NULL
        UNION ALL SELECT p.connection_id, p.sourced_id, 'student' FROM l JOIN people_list_members m ON m.list_id = l.id AND l.kind = 'named' JOIN people p ON p.id = m.person_id AND p.connection_id = l.connection_id AND p.gone_at IS NULL)
    SELECT e.connection_id, e.person, e.role, CASE WHEN e.state = 'waiting' THEN e.begin_date END
        FROM l JOIN sections s ON s.connection_id = l.connection_id AND s.course = l.ref AND l.kind = 'course' AND s.gone_at IS NULL
        JOIN enrolments e ON e.connection_id = s.connection_id AND e.section = s.sourced_id AND (e.gone_at IS NULL OR e.state = 'waiting')
    UNION ALL
    SELECT c.connection_id, c.sourced_id, coalesce(e.role, c.otherwise), NULL
        FROM chosen c LEFT JOIN LATERAL (
            SELECT x.role FROM enrolments x JOIN sections s ON s.connection_id = x.connection_id AND s.sourced_id = x.section AND s.gone_at IS NULL
            WHERE x.connection_id = c.connection_id AND x.person = c.sourced_id AND x.gone_at IS NULL
            ORDER BY CASE x.role WHEN 'teacher' THEN 0 WHEN 'student' THEN 1 ELSE 2 END, x.role LIMIT 1) e ON true
$$;
-- +goose StatementEnd

-- +goose Down
ALTER TABLE enrolments RENAME state TO standing;
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION people_of_list(list uuid) RETURNS TABLE (connection_id uuid, person text, role text, begins date) LANGUAGE sql STABLE AS $$
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
-- +goose StatementEnd
ALTER TABLE progress RENAME done_bits TO tally;
ALTER TABLE person_marks RENAME decided_at TO said_at;
ALTER TABLE person_marks RENAME decided_by TO said_by;
ALTER TABLE not_accounts RENAME decided_at TO said_at;
ALTER TABLE not_accounts RENAME decided_by TO said_by;
ALTER TABLE ignored_classes RENAME ignored_at TO said_at;
ALTER TABLE ignored_classes RENAME ignored_by TO said_by;
UPDATE pairings SET target_seen = E'\x01gone' WHERE target_lost;
ALTER TABLE pairings DROP target_lost;
ALTER TABLE pairings RENAME guard_notified TO guard_told;
ALTER TABLE pairings RENAME left_as_is TO quiet;
ALTER INDEX rule_counts_rule RENAME TO rule_tallies_rule;
ALTER TABLE rule_counts RENAME TO rule_tallies;
ALTER TABLE rules RENAME quiet_hours TO quiet;
ALTER TABLE rules RENAME once_per_person TO once;
-- +goose StatementBegin
CREATE FUNCTION renamed_action(a jsonb) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT CASE a->>'kind'
        WHEN 'call-operation' THEN jsonb_set(a, '{kind}', '"operate"')
        WHEN 'append-row' THEN jsonb_set(a, '{kind}', '"row"')
        WHEN 'send-event' THEN jsonb_set(a, '{kind}', '"send"')
        ELSE a END
$$;
-- +goose StatementEnd
UPDATE rules SET actions = (SELECT jsonb_agg(renamed_action(a) ORDER BY n) FROM jsonb_array_elements(actions) WITH ORDINALITY AS x (a, n))
    WHERE jsonb_typeof(actions) = 'array' AND actions <> '[]';
UPDATE rule_versions SET draft = draft || jsonb_build_object('Actions', (SELECT jsonb_agg(renamed_action(a) ORDER BY n) FROM jsonb_array_elements(draft->'Actions') WITH ORDINALITY AS x (a, n)))
    WHERE jsonb_typeof(draft->'Actions') = 'array' AND draft->'Actions' <> '[]';
UPDATE rule_versions SET draft = draft - 'OncePerPerson' - 'QuietHours' || jsonb_build_object('Once', draft->'OncePerPerson', 'Quiet', draft->'QuietHours');
UPDATE deliveries SET action = renamed_action(action) WHERE action->>'kind' IN ('call-operation', 'append-row', 'send-event');
DROP FUNCTION renamed_action(jsonb);
