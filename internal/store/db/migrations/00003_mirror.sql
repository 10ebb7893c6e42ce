-- +goose Up

-- Each register gets a partition of its own in every table of the mirror, so
-- that its first read fills tables without indexes and removing it removes
-- tables. row_hash is the fingerprint of the record that a row was made from:
-- records with a known fingerprint need not be looked at again. Keys begin with
-- the sourced id: within a partition the connection tells nothing apart.
ALTER TABLE orgs RENAME TO old_orgs;
ALTER TABLE terms RENAME TO old_terms;
ALTER TABLE courses RENAME TO old_courses;
ALTER TABLE sections RENAME TO old_sections;
ALTER TABLE people RENAME TO old_people;
ALTER TABLE enrolments RENAME TO old_enrolments;
DROP INDEX courses_id, sections_id, people_id, people_email_key, people_master, enrolments_section, enrolments_person;

CREATE TABLE orgs (
    connection_id uuid NOT NULL,
    sourced_id    text NOT NULL,
    id            uuid NOT NULL GENERATED ALWAYS AS (md5(connection_id::text || '/org/' || sourced_id)::uuid) STORED,
    name          text NOT NULL,
    type          text NOT NULL,
    parent        text NOT NULL,
    row_hash      bigint,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (sourced_id, connection_id)
) PARTITION BY LIST (connection_id);
CREATE TABLE terms (
    connection_id uuid NOT NULL,
    sourced_id    text NOT NULL,
    id            uuid NOT NULL GENERATED ALWAYS AS (md5(connection_id::text || '/term/' || sourced_id)::uuid) STORED,
    title         text NOT NULL,
    type          text NOT NULL,
    start_date    date NOT NULL,
    end_date      date NOT NULL,
    parent        text NOT NULL,
    row_hash      bigint,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (sourced_id, connection_id)
) PARTITION BY LIST (connection_id);
CREATE TABLE courses (
    connection_id uuid NOT NULL,
    sourced_id    text NOT NULL,
    id            uuid NOT NULL GENERATED ALWAYS AS (md5(connection_id::text || '/course/' || sourced_id)::uuid) STORED,
    title         text NOT NULL,
    code          text NOT NULL,
    org           text NOT NULL,
    row_hash      bigint,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (sourced_id, connection_id)
) PARTITION BY LIST (connection_id);
CREATE INDEX courses_id ON courses (id);
CREATE TABLE sections (
    connection_id uuid NOT NULL,
    sourced_id    text NOT NULL,
    id            uuid NOT NULL GENERATED ALWAYS AS (md5(connection_id::text || '/section/' || sourced_id)::uuid) STORED,
    title         text NOT NULL,
    code          text NOT NULL,
    class_type    text NOT NULL,
    course        text NOT NULL,
    org           text NOT NULL,
    terms         text[] NOT NULL,
    row_hash      bigint,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (sourced_id, connection_id)
) PARTITION BY LIST (connection_id);
CREATE INDEX sections_id ON sections (id);
CREATE TABLE people (
    connection_id uuid NOT NULL,
    sourced_id    text NOT NULL,
    id            uuid NOT NULL GENERATED ALWAYS AS (md5(connection_id::text || '/person/' || sourced_id)::uuid) STORED,
    given_name    text NOT NULL,
    family_name   text NOT NULL,
    email         text NOT NULL,
    email_key     text NOT NULL,
    user_name     text NOT NULL,
    identifier    text NOT NULL,
    user_ids      text[] NOT NULL DEFAULT '{}',
    master        text NOT NULL,
    secondary     boolean NOT NULL,
    enabled       boolean NOT NULL,
    row_hash      bigint,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (sourced_id, connection_id)
) PARTITION BY LIST (connection_id);
CREATE INDEX people_id ON people (id);
CREATE INDEX people_identifier ON people (identifier);
CREATE INDEX people_email_key ON people (email_key) WHERE email_key <> '' AND gone_at IS NULL;
CREATE INDEX people_master ON people (master) WHERE master <> '' AND gone_at IS NULL;
CREATE TABLE enrolments (
    connection_id uuid NOT NULL,
    sourced_id    text NOT NULL,
    section       text NOT NULL,
    person        text NOT NULL,
    role          text NOT NULL,
    begin_date    date,
    end_date      date,
    row_hash      bigint,
    joined_at     timestamptz NOT NULL DEFAULT now(),
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (sourced_id, connection_id)
) PARTITION BY LIST (connection_id);
CREATE INDEX enrolments_section ON enrolments (section);
CREATE INDEX enrolments_person ON enrolments (person);

-- What an enrolment was before it came back or became another's.
CREATE TABLE past_enrolments (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    sourced_id    text NOT NULL,
    section       text NOT NULL,
    person        text NOT NULL,
    role          text NOT NULL,
    begin_date    date,
    joined_at     timestamptz NOT NULL,
    left_at       timestamptz NOT NULL
);
CREATE INDEX past_enrolments_section ON past_enrolments (connection_id, section);
CREATE INDEX past_enrolments_person ON past_enrolments (connection_id, person);

-- +goose StatementBegin
DO $$
DECLARE
    read_before uuid[] := ARRAY(SELECT DISTINCT connection_id FROM old_people);
    c uuid;
    t text;
    columns text;
BEGIN
    FOREACH t IN ARRAY ARRAY['orgs', 'terms', 'courses', 'sections', 'people', 'enrolments'] LOOP
        SELECT string_agg(column_name, ', ') INTO columns FROM information_schema.columns
        WHERE table_schema = current_schema() AND table_name = 'old_' || t AND is_generated = 'NEVER';
        FOREACH c IN ARRAY read_before LOOP
            EXECUTE format('CREATE TABLE %I PARTITION OF %I FOR VALUES IN (%L)', t || '_' || replace(c::text, '-', ''), t, c);
        END LOOP;
        EXECUTE format('INSERT INTO %I (%s) SELECT %s FROM %I WHERE connection_id = ANY ($1)', t, columns, columns, 'old_' || t) USING read_before;
        EXECUTE format('DROP TABLE %I', 'old_' || t);
    END LOOP;
END $$;
-- +goose StatementEnd

-- Pages of a register that is being read through its address, until all have come.
CREATE TABLE register_pages (
    run_id     uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    collection text NOT NULL,
    read       int NOT NULL, -- records up to and with this page
    total      int NOT NULL,
    next       text NOT NULL,
    items      bytea NOT NULL,
    PRIMARY KEY (run_id, collection, read, next)
);

-- A person asked to stop a run; whoever works on it looks at this.
ALTER TABLE runs ADD cancel_asked boolean NOT NULL DEFAULT false;
-- The read's own settings: what it may leave out.
ALTER TABLE runs ADD since timestamptz;

-- +goose Down
SELECT 1 / 0; -- the mirror cannot go back: restore a backup
