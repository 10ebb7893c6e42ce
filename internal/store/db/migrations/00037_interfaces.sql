-- +goose Up
-- An outside system is a connection; what speaks one protocol with it is an interface of it. What
-- was a connection so far becomes an interface, with its id, and a new connection stands above it.
-- +goose StatementBegin
CREATE FUNCTION rename_everywhere(was text, becomes text, was_table text, becomes_table text) RETURNS void LANGUAGE plpgsql AS $$
DECLARE r record; text_now text;
BEGIN
    FOR r IN SELECT c.oid::regclass AS relation FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid
        WHERE c.relnamespace = current_schema()::regnamespace AND a.attname = was AND NOT a.attisdropped
            AND c.relkind IN ('r', 'p', 'v') AND NOT c.relispartition LOOP
        EXECUTE format('ALTER TABLE %s RENAME COLUMN %I TO %I', r.relation, was, becomes);
    END LOOP;
    FOR r IN SELECT p.oid::regprocedure AS signature, pg_get_functiondef(p.oid) AS definition FROM pg_proc p
        WHERE p.pronamespace = current_schema()::regnamespace AND p.prosrc LIKE '%' || was || '%' AND p.proname <> 'rename_everywhere' LOOP
        text_now := regexp_replace(r.definition, '\m' || was || '\M', becomes, 'g');
        text_now := regexp_replace(text_now, '\m(FROM|JOIN) ' || was_table || '\M', '\1 ' || becomes_table, 'g');
        EXECUTE 'DROP FUNCTION ' || r.signature;
        EXECUTE text_now;
    END LOOP;
END
$$;
CREATE FUNCTION renamed_member(list jsonb, was text, becomes text) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT coalesce(jsonb_agg(CASE WHEN a ? was THEN a - was || jsonb_build_object(becomes, a->was) ELSE a END ORDER BY n), '[]')
        FROM jsonb_array_elements(list) WITH ORDINALITY AS x (a, n)
$$;
-- +goose StatementEnd
SELECT rename_everywhere('connection_id', 'interface_id', 'connections', 'interfaces');
ALTER TABLE connections RENAME TO interfaces;
ALTER INDEX connections_pkey RENAME TO interfaces_pkey;
ALTER INDEX connections_name RENAME TO interfaces_name;

CREATE TABLE connections (
    id          uuid PRIMARY KEY,
    name        text NOT NULL,
    owner       text NOT NULL DEFAULT '', -- who minds it
    address     text NOT NULL DEFAULT '', -- of its own pages
    notes       text NOT NULL DEFAULT '',
    at_once     int NOT NULL DEFAULT 0 CHECK (at_once >= 0),    -- calls at a time through all its interfaces, 0 for no limit
    per_minute  int NOT NULL DEFAULT 0 CHECK (per_minute >= 0), -- the same in a minute
    rest_after  int NOT NULL DEFAULT 0 CHECK (rest_after >= 0), -- failures in a row until it rests, 0 for the usual number
    paused_at   timestamptz,
    removed_at  timestamptz,
    removed_by  text NOT NULL DEFAULT '',
    version     int NOT NULL DEFAULT 1,
    created_at  timestamptz NOT NULL DEFAULT now(),
    updated_at  timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX connections_name ON connections (lower(name)) WHERE removed_at IS NULL;

-- An interface's label tells it from the others of its connection; its name is the connection's,
-- with the label where there is one.
ALTER TABLE interfaces ADD connection_id uuid, ADD label text NOT NULL DEFAULT '';
UPDATE interfaces SET connection_id = gen_random_uuid();
INSERT INTO connections (id, name, removed_at, removed_by, created_at, updated_at)
    SELECT connection_id, name, removed_at, removed_by, created_at, updated_at FROM interfaces;
ALTER TABLE interfaces ALTER connection_id SET NOT NULL, ADD FOREIGN KEY (connection_id) REFERENCES connections;
CREATE INDEX interfaces_connection ON interfaces (connection_id);

UPDATE rules SET actions = renamed_member(actions, 'connectionId', 'interfaceId') WHERE jsonb_typeof(actions) = 'array' AND actions <> '[]';
UPDATE rules SET condition = replace(condition, 'connectionId', 'interfaceId'), stop = replace(stop, 'connectionId', 'interfaceId')
    WHERE condition || stop LIKE '%connectionId%';
UPDATE rule_versions SET draft = jsonb_set(draft, '{Actions}', renamed_member(draft->'Actions', 'connectionId', 'interfaceId'))
    WHERE jsonb_typeof(draft->'Actions') = 'array' AND draft->'Actions' <> '[]';
UPDATE deliveries SET action = action - 'connectionId' || jsonb_build_object('interfaceId', action->'connectionId') WHERE action ? 'connectionId';
UPDATE deliveries SET held = 'the interface is paused' WHERE held = 'the connection is paused';
UPDATE events SET data = data - 'connectionId' || jsonb_build_object('interfaceId', data->'connectionId') WHERE type = 'service.reported' AND data ? 'connectionId';
-- +goose StatementBegin
DO $$ BEGIN
    IF to_regclass('river_job') IS NOT NULL THEN -- a new database has no queue yet
        UPDATE river_job SET args = args - 'connectionId' || jsonb_build_object('interfaceId', args->'connectionId') WHERE args ? 'connectionId';
    END IF;
END $$;
-- +goose StatementEnd
UPDATE audit_entries SET subject = 'interface/' || substr(subject, 12) WHERE subject LIKE 'connection/%';

-- +goose Down
UPDATE audit_entries SET subject = 'connection/' || substr(subject, 11) WHERE subject LIKE 'interface/%';
-- +goose StatementBegin
DO $$ BEGIN
    IF to_regclass('river_job') IS NOT NULL THEN -- a new database has no queue yet
        UPDATE river_job SET args = args - 'interfaceId' || jsonb_build_object('connectionId', args->'interfaceId') WHERE args ? 'interfaceId';
    END IF;
END $$;
-- +goose StatementEnd
UPDATE events SET data = data - 'interfaceId' || jsonb_build_object('connectionId', data->'interfaceId') WHERE type = 'service.reported' AND data ? 'interfaceId';
UPDATE deliveries SET held = 'the connection is paused' WHERE held = 'the interface is paused';
UPDATE deliveries SET action = action - 'interfaceId' || jsonb_build_object('connectionId', action->'interfaceId') WHERE action ? 'interfaceId';
UPDATE rule_versions SET draft = jsonb_set(draft, '{Actions}', renamed_member(draft->'Actions', 'interfaceId', 'connectionId'))
    WHERE jsonb_typeof(draft->'Actions') = 'array' AND draft->'Actions' <> '[]';
UPDATE rules SET condition = replace(condition, 'interfaceId', 'connectionId'), stop = replace(stop, 'interfaceId', 'connectionId')
    WHERE condition || stop LIKE '%interfaceId%';
UPDATE rules SET actions = renamed_member(actions, 'interfaceId', 'connectionId') WHERE jsonb_typeof(actions) = 'array' AND actions <> '[]';
UPDATE interfaces i SET paused_at = coalesce(i.paused_at, c.paused_at) FROM connections c WHERE c.id = i.connection_id;
ALTER TABLE interfaces DROP connection_id, DROP label;
DROP TABLE connections;
ALTER INDEX interfaces_name RENAME TO connections_name;
ALTER INDEX interfaces_pkey RENAME TO connections_pkey;
ALTER TABLE interfaces RENAME TO connections;
SELECT rename_everywhere('interface_id', 'connection_id', 'interfaces', 'connections');
DROP FUNCTION renamed_member(jsonb, text, text);
DROP FUNCTION rename_everywhere(text, text, text, text);
