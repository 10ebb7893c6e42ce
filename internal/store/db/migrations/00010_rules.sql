-- +goose Up

ALTER TABLE rules
    ADD stop text NOT NULL DEFAULT '',
    ADD undone_by jsonb DEFAULT '[]',
    ADD days int NOT NULL DEFAULT 0,
    ADD quiet jsonb DEFAULT '{}',
    ADD most jsonb DEFAULT '{}',
    ADD in_order boolean NOT NULL DEFAULT false,
    ADD first_on_at timestamptz,
    ADD tried_at timestamptz;
UPDATE rules SET first_on_at = on_since;

-- What a rule was like, for the deliveries that it made then.
CREATE TABLE rule_versions (
    rule_id uuid NOT NULL REFERENCES rules ON DELETE CASCADE,
    version int NOT NULL,
    draft   jsonb NOT NULL,
    who     text NOT NULL,
    at      timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (rule_id, version)
);

-- A service that keeps failing rests.
ALTER TABLE connections ADD failures int NOT NULL DEFAULT 0, ADD rests_until timestamptz;

-- Operations of a service's own API.
CREATE TABLE operations (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    name          text NOT NULL,
    title         text NOT NULL,
    method        text NOT NULL,
    path          text NOT NULL,
    fields        jsonb NOT NULL DEFAULT '[]',
    success       text NOT NULL DEFAULT '',
    undo          text NOT NULL DEFAULT '',
    PRIMARY KEY (connection_id, name)
);

-- What people may buy or belong to, and the sections to which it gives access.
CREATE TABLE offers (
    id            uuid PRIMARY KEY,
    name          text NOT NULL,
    connection_id uuid NOT NULL REFERENCES connections,
    offer         text NOT NULL,
    section_ids   jsonb DEFAULT '[]',
    course_id     uuid,
    term_rule     text NOT NULL DEFAULT '',
    platform_id   uuid REFERENCES connections,
    grace_days    int NOT NULL DEFAULT 0,
    at_end        text NOT NULL DEFAULT 'unenrol',
    only_buyers   boolean NOT NULL DEFAULT false,
    version       int NOT NULL DEFAULT 1,
    created_at    timestamptz NOT NULL DEFAULT now(),
    updated_at    timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX offers_name ON offers (lower(name));
CREATE UNIQUE INDEX offers_once ON offers (connection_id, offer);

-- Who has access: one row per service, offer, buyer and order. It waits without
-- offer_id until somebody says which sections the offer leads to.
CREATE TABLE accesses (
    id            uuid PRIMARY KEY,
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    offer         text NOT NULL,
    buyer         text NOT NULL,
    order_ref     text NOT NULL DEFAULT '',
    offer_id      uuid REFERENCES offers ON DELETE SET NULL,
    name          text NOT NULL DEFAULT '',
    person_id     uuid,
    section_ids   jsonb DEFAULT '[]',
    started_at    timestamptz,
    ended_at      timestamptz,
    ends_on       timestamptz,
    closed_at     timestamptz,
    trouble       text NOT NULL DEFAULT '',
    created_at    timestamptz NOT NULL DEFAULT now(),
    UNIQUE (connection_id, offer, buyer, order_ref)
);
CREATE INDEX accesses_offer ON accesses (offer_id);
CREATE INDEX accesses_person ON accesses (person_id) WHERE person_id IS NOT NULL;
CREATE INDEX accesses_ending ON accesses (ends_on) WHERE ends_on IS NOT NULL AND closed_at IS NULL;

ALTER TABLE deliveries
    ALTER rule_id DROP NOT NULL,
    ADD offer_id uuid REFERENCES offers ON DELETE CASCADE,
    ADD rule_version int NOT NULL DEFAULT 0,
    ADD section_id uuid,
    ADD due_at timestamptz,
    ADD held text NOT NULL DEFAULT '',
    ADD undoes uuid REFERENCES deliveries ON DELETE CASCADE;
UPDATE deliveries d SET section_id = e.section_id FROM events e WHERE e.id = d.event_id;
ALTER TABLE deliveries DROP CONSTRAINT deliveries_event_id_rule_id_position_key;
CREATE UNIQUE INDEX deliveries_once ON deliveries (event_id, coalesce(rule_id, offer_id), position, coalesce(undoes, '00000000-0000-0000-0000-000000000000'));
CREATE UNIQUE INDEX deliveries_undone ON deliveries (undoes) WHERE undoes IS NOT NULL;
CREATE INDEX deliveries_person ON deliveries (person_id, id DESC) WHERE person_id IS NOT NULL;
CREATE INDEX deliveries_connection ON deliveries (connection_id, id DESC) WHERE connection_id IS NOT NULL;
CREATE INDEX deliveries_section ON deliveries (section_id, id DESC) WHERE section_id IS NOT NULL;
CREATE INDEX deliveries_pending ON deliveries (connection_id, person_id, id) WHERE state IN ('planned', 'queued', 'retrying', 'waiting');
CREATE INDEX deliveries_fired ON deliveries (rule_id, person_id, id) WHERE rule_id IS NOT NULL;
CREATE INDEX events_typed ON events (type, id DESC);
CREATE INDEX events_section ON events (section_id, id DESC) WHERE section_id IS NOT NULL;

CREATE INDEX attempts_started ON attempts (started_at);

-- When somebody did something last, and whether they are through.
ALTER TABLE progress ADD last_at timestamptz, ADD done boolean NOT NULL DEFAULT false;
UPDATE progress SET last_at = updated_at, done = percent = 100;
CREATE INDEX progress_idle ON progress (section_id, last_at) WHERE NOT done;

-- Things for people to do, opened by rules.
CREATE TABLE tasks (
    id          uuid PRIMARY KEY,
    delivery_id uuid NOT NULL UNIQUE REFERENCES deliveries ON DELETE CASCADE,
    title       text NOT NULL,
    detail      text NOT NULL DEFAULT '',
    owner       text NOT NULL DEFAULT '',
    person_id   uuid,
    section_id  uuid,
    due_at      timestamptz,
    done_at     timestamptz,
    done_by     text NOT NULL DEFAULT '',
    created_at  timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX tasks_open ON tasks (due_at) WHERE done_at IS NULL;

-- Rows of the sheets that rules fill.
CREATE TABLE sheet_rows (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    sheet       text NOT NULL,
    delivery_id uuid NOT NULL UNIQUE REFERENCES deliveries ON DELETE CASCADE,
    cells       jsonb NOT NULL,
    at          timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX sheet_rows_sheet ON sheet_rows (lower(sheet), id);

-- Enrolments for a course platform to pick up as a OneRoster delta.
CREATE TABLE pickups (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    person        text NOT NULL,
    section       text NOT NULL,
    role          text NOT NULL,
    active        boolean NOT NULL,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (connection_id, person, section)
);

-- +goose Down
DROP TABLE pickups, sheet_rows, tasks;
DELETE FROM deliveries WHERE rule_id IS NULL OR undoes IS NOT NULL;
DROP INDEX deliveries_once, deliveries_undone, deliveries_person, deliveries_connection, deliveries_section, deliveries_pending, deliveries_fired, events_typed, events_section;
ALTER TABLE deliveries DROP offer_id, DROP rule_version, DROP section_id, DROP due_at, DROP held, DROP undoes, ALTER rule_id SET NOT NULL,
    ADD UNIQUE (event_id, rule_id, position);
DROP TABLE accesses, offers, operations, rule_versions;
DROP INDEX attempts_started;
ALTER TABLE progress DROP last_at, DROP done;
ALTER TABLE connections DROP failures, DROP rests_until;
ALTER TABLE rules DROP stop, DROP undone_by, DROP days, DROP quiet, DROP most, DROP in_order, DROP first_on_at, DROP tried_at;
