-- +goose Up

-- A short key for a text of any length: the first 128 bits of its SHA-256.
-- +goose StatementBegin
CREATE FUNCTION key_of(text) RETURNS uuid LANGUAGE sql IMMUTABLE PARALLEL SAFE AS
$$ SELECT encode(substring(sha256(convert_to($1, 'UTF8')) FROM 1 FOR 16), 'hex')::uuid $$;
-- +goose StatementEnd

-- What has been recorded already, for longer than the events themselves are kept.
CREATE TABLE event_keys (key uuid PRIMARY KEY);
INSERT INTO event_keys SELECT DISTINCT key_of(natural_key) FROM events;

-- Events and attempts are kept in partitions, one for each month by the time in
-- their ids, so that old ones go at once. The service makes the partitions.
ALTER TABLE deliveries DROP CONSTRAINT deliveries_event_id_fkey;
ALTER TABLE events RENAME TO events_before;
ALTER TABLE events_before DROP CONSTRAINT events_pkey, DROP CONSTRAINT events_natural_key_key;
DROP INDEX events_person, events_typed, events_section;
CREATE TABLE events (
    id          uuid NOT NULL,
    type        text NOT NULL,
    natural_key text NOT NULL,
    person_id   uuid,
    section_id  uuid,
    course_id   uuid,
    module_id   text NOT NULL DEFAULT '',
    activity_id text NOT NULL DEFAULT '',
    data        jsonb DEFAULT '{}',
    occurred_at timestamptz NOT NULL,
    recorded_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (id)
) PARTITION BY RANGE (id);
CREATE INDEX events_person ON events (person_id, id DESC);
CREATE INDEX events_typed ON events (type, id DESC);
CREATE INDEX events_section ON events (section_id, id DESC) WHERE section_id IS NOT NULL;
CREATE TABLE events_rest PARTITION OF events DEFAULT;
INSERT INTO events SELECT id, type, natural_key, person_id, section_id, course_id, module_id, activity_id, data, occurred_at, recorded_at FROM events_before;
DROP TABLE events_before;

ALTER TABLE attempts RENAME TO attempts_before;
ALTER TABLE attempts_before DROP CONSTRAINT attempts_pkey;
DROP INDEX attempts_started;
CREATE TABLE attempts (
    delivery_id uuid NOT NULL REFERENCES deliveries ON DELETE CASCADE,
    number      int NOT NULL,
    started_at  timestamptz NOT NULL,
    millis      int NOT NULL,
    status      int NOT NULL DEFAULT 0,
    request     text NOT NULL DEFAULT '',
    answer      text NOT NULL DEFAULT '',
    error       text NOT NULL DEFAULT '',
    PRIMARY KEY (delivery_id, number)
) PARTITION BY RANGE (delivery_id);
CREATE TABLE attempts_rest PARTITION OF attempts DEFAULT;
INSERT INTO attempts SELECT * FROM attempts_before;

-- Checking it for every statement makes all who store some lock the same row.
ALTER TABLE statements DROP CONSTRAINT statements_connection_id_fkey;

-- Tasks and sheets outlive the deliveries that made them.
ALTER TABLE tasks DROP CONSTRAINT tasks_delivery_id_fkey, ADD rule_id uuid;
UPDATE tasks t SET rule_id = d.rule_id FROM deliveries d WHERE d.id = t.delivery_id;
ALTER TABLE sheet_rows DROP CONSTRAINT sheet_rows_delivery_id_fkey;

-- What people have had once already, of deliveries that are not kept any longer.
CREATE TABLE spent_keys (key uuid PRIMARY KEY);

-- How often rules fired: added to by everybody who makes or ends deliveries, and
-- summed up now and then.
CREATE TABLE rule_tallies (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    rule_id   uuid NOT NULL REFERENCES rules ON DELETE CASCADE,
    fired     int NOT NULL,
    delivered int NOT NULL
);
CREATE INDEX rule_tallies_rule ON rule_tallies (rule_id);
INSERT INTO rule_tallies (rule_id, fired, delivered)
    SELECT rule_id, count(*) FILTER (WHERE position = 0 AND undoes IS NULL), count(*) FILTER (WHERE state = 'delivered') FROM deliveries WHERE rule_id IS NOT NULL GROUP BY rule_id;
CREATE INDEX deliveries_rule_waiting ON deliveries (rule_id) WHERE state = 'waiting';

-- Changes whenever any rule does, so that nobody has to look at all of them.
CREATE TABLE rules_mark (n bigint NOT NULL);
INSERT INTO rules_mark VALUES (0);
-- +goose StatementBegin
CREATE FUNCTION mark_rules() RETURNS trigger LANGUAGE plpgsql AS
$$ BEGIN UPDATE rules_mark SET n = n + 1; RETURN NULL; END $$;
-- +goose StatementEnd
CREATE TRIGGER rules_marked AFTER INSERT OR UPDATE OR DELETE ON rules FOR EACH STATEMENT EXECUTE FUNCTION mark_rules();

-- The calls that count against a rule's limit.
CREATE TABLE rule_calls (
    rule_id uuid NOT NULL REFERENCES rules ON DELETE CASCADE,
    at      timestamptz NOT NULL
);
CREATE INDEX rule_calls_rule ON rule_calls (rule_id, at);
INSERT INTO rule_calls SELECT d.rule_id, a.started_at FROM attempts_before a JOIN deliveries d ON d.id = a.delivery_id JOIN rules r ON r.id = d.rule_id
    WHERE a.started_at > now() - interval '1 day' AND r.most->>'most' IS NOT NULL;
DROP TABLE attempts_before;

-- +goose Down
DROP TRIGGER rules_marked ON rules;
DROP FUNCTION mark_rules;
DROP TABLE rule_calls, rule_tallies, spent_keys, rules_mark;
DROP INDEX deliveries_rule_waiting;
DELETE FROM statements s WHERE NOT EXISTS (SELECT 1 FROM connections c WHERE c.id = s.connection_id);
ALTER TABLE statements ADD FOREIGN KEY (connection_id) REFERENCES connections ON DELETE CASCADE;
ALTER TABLE sheet_rows ADD FOREIGN KEY (delivery_id) REFERENCES deliveries ON DELETE CASCADE NOT VALID;
ALTER TABLE tasks DROP rule_id, ADD FOREIGN KEY (delivery_id) REFERENCES deliveries ON DELETE CASCADE NOT VALID;
CREATE TABLE attempts_after (LIKE attempts INCLUDING DEFAULTS);
INSERT INTO attempts_after SELECT * FROM attempts;
DROP TABLE attempts;
ALTER TABLE attempts_after RENAME TO attempts;
ALTER TABLE attempts ADD PRIMARY KEY (delivery_id, number), ADD FOREIGN KEY (delivery_id) REFERENCES deliveries ON DELETE CASCADE;
CREATE INDEX attempts_started ON attempts (started_at);
CREATE TABLE events_after (LIKE events INCLUDING DEFAULTS);
INSERT INTO events_after SELECT * FROM events;
DROP TABLE events;
ALTER TABLE events_after RENAME TO events;
ALTER TABLE events ADD PRIMARY KEY (id), ADD UNIQUE (natural_key);
CREATE INDEX events_person ON events (person_id, id DESC);
CREATE INDEX events_typed ON events (type, id DESC);
CREATE INDEX events_section ON events (section_id, id DESC) WHERE section_id IS NOT NULL;
DELETE FROM deliveries d WHERE NOT EXISTS (SELECT 1 FROM events e WHERE e.id = d.event_id);
ALTER TABLE deliveries ADD FOREIGN KEY (event_id) REFERENCES events ON DELETE CASCADE;
DROP TABLE event_keys;
DROP FUNCTION key_of;
