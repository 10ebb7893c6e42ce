-- +goose Up

-- Who may use the service.
CREATE TABLE administrators (
    id            uuid PRIMARY KEY,
    name          text NOT NULL,
    email         text NOT NULL,
    password_hash text NOT NULL,
    role          text NOT NULL DEFAULT 'administrator',
    created_at    timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX administrators_email ON administrators (lower(email));

CREATE TABLE setup_links (
    token_hash bytea PRIMARY KEY,
    created_at timestamptz NOT NULL DEFAULT now(),
    used_at    timestamptz
);

CREATE TABLE api_tokens (
    id               uuid PRIMARY KEY,
    administrator_id uuid NOT NULL REFERENCES administrators ON DELETE CASCADE,
    name             text NOT NULL,
    hash             bytea NOT NULL UNIQUE,
    created_at       timestamptz NOT NULL DEFAULT now(),
    last_used_at     timestamptz
);

CREATE TABLE sessions (
    token  text PRIMARY KEY,
    data   bytea NOT NULL,
    expiry timestamptz NOT NULL
);
CREATE INDEX sessions_expiry ON sessions (expiry);

CREATE TABLE audit_entries (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    who     text NOT NULL,
    what    text NOT NULL,
    subject text NOT NULL,
    detail  jsonb DEFAULT '{}'
);

-- Answers to requests that carried an Idempotency-Key.
CREATE TABLE kept_answers (
    key        text PRIMARY KEY,
    request    bytea NOT NULL,
    status     int NOT NULL,
    body       bytea NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- Values of the installation itself, such as the check of the secrets key.
CREATE TABLE installation (
    name  text PRIMARY KEY,
    value bytea NOT NULL
);

CREATE TABLE connections (
    id         uuid PRIMARY KEY,
    name       text NOT NULL,
    kind       text NOT NULL,
    settings   jsonb DEFAULT '{}',
    secret     bytea,
    probe      jsonb,
    probed_at  timestamptz,
    paused_at  timestamptz,
    version    int NOT NULL DEFAULT 1,
    created_at timestamptz NOT NULL DEFAULT now(),
    updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX connections_name ON connections (lower(name));

-- The mirror of the register. A record that vanished keeps its row with gone_at.
CREATE TABLE orgs (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    sourced_id    text NOT NULL,
    id            uuid NOT NULL GENERATED ALWAYS AS (md5(connection_id::text || '/org/' || sourced_id)::uuid) STORED,
    name          text NOT NULL,
    type          text NOT NULL,
    parent        text NOT NULL,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (connection_id, sourced_id)
);
CREATE TABLE terms (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    sourced_id    text NOT NULL,
    id            uuid NOT NULL GENERATED ALWAYS AS (md5(connection_id::text || '/term/' || sourced_id)::uuid) STORED,
    title         text NOT NULL,
    type          text NOT NULL,
    start_date    date NOT NULL,
    end_date      date NOT NULL,
    parent        text NOT NULL,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (connection_id, sourced_id)
);
CREATE TABLE courses (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    sourced_id    text NOT NULL,
    id            uuid NOT NULL GENERATED ALWAYS AS (md5(connection_id::text || '/course/' || sourced_id)::uuid) STORED,
    title         text NOT NULL,
    code          text NOT NULL,
    org           text NOT NULL,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (connection_id, sourced_id)
);
CREATE UNIQUE INDEX courses_id ON courses (id);
CREATE TABLE sections (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    sourced_id    text NOT NULL,
    id            uuid NOT NULL GENERATED ALWAYS AS (md5(connection_id::text || '/section/' || sourced_id)::uuid) STORED,
    title         text NOT NULL,
    code          text NOT NULL,
    class_type    text NOT NULL,
    course        text NOT NULL,
    org           text NOT NULL,
    terms         text[] NOT NULL,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (connection_id, sourced_id)
);
CREATE UNIQUE INDEX sections_id ON sections (id);
CREATE TABLE people (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    sourced_id    text NOT NULL,
    id            uuid NOT NULL GENERATED ALWAYS AS (md5(connection_id::text || '/person/' || sourced_id)::uuid) STORED,
    given_name    text NOT NULL,
    family_name   text NOT NULL,
    email         text NOT NULL,
    email_key     text NOT NULL,
    user_name     text NOT NULL,
    identifier    text NOT NULL,
    master        text NOT NULL,
    secondary     boolean NOT NULL,
    enabled       boolean NOT NULL,
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (connection_id, sourced_id)
);
CREATE UNIQUE INDEX people_id ON people (id);
CREATE INDEX people_email_key ON people (email_key) WHERE email_key <> '' AND gone_at IS NULL;
CREATE INDEX people_master ON people (connection_id, master) WHERE master <> '' AND gone_at IS NULL;
CREATE TABLE enrolments (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    sourced_id    text NOT NULL,
    section       text NOT NULL,
    person        text NOT NULL,
    role          text NOT NULL,
    begin_date    date,
    end_date      date,
    joined_at     timestamptz NOT NULL DEFAULT now(),
    changed_at    timestamptz NOT NULL DEFAULT now(),
    gone_at       timestamptz,
    PRIMARY KEY (connection_id, sourced_id)
);
CREATE INDEX enrolments_section ON enrolments (connection_id, section) WHERE gone_at IS NULL;
CREATE INDEX enrolments_person ON enrolments (connection_id, person);

CREATE TABLE pairings (
    id            uuid PRIMARY KEY,
    section_id    uuid NOT NULL,
    connection_id uuid NOT NULL REFERENCES connections,
    target_name   text NOT NULL,
    target_ref    text NOT NULL DEFAULT '',
    policy        jsonb NOT NULL,
    counts        jsonb DEFAULT '{}',
    mend          jsonb DEFAULT '[]',
    last_run_id   uuid,
    last_failed   boolean NOT NULL DEFAULT false,
    ran_at        timestamptz,
    compared_at   timestamptz,
    paused_at     timestamptz,
    ended_at      timestamptz,
    version       int NOT NULL DEFAULT 1,
    created_at    timestamptz NOT NULL DEFAULT now(),
    updated_at    timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX pairings_once ON pairings (section_id, connection_id) WHERE ended_at IS NULL;
CREATE UNIQUE INDEX pairings_target ON pairings (connection_id, target_ref) WHERE ended_at IS NULL AND target_ref <> '';

-- Which account is whose, and whom Kanban put into which target.
CREATE TABLE accounts (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    remote_id     text NOT NULL,
    person_id     uuid NOT NULL,
    PRIMARY KEY (connection_id, remote_id)
);
CREATE UNIQUE INDEX accounts_person ON accounts (connection_id, person_id);
CREATE TABLE placements (
    pairing_id uuid NOT NULL REFERENCES pairings ON DELETE CASCADE,
    remote_id  text NOT NULL,
    person_id  uuid NOT NULL,
    name       text NOT NULL,
    placed_at  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (pairing_id, remote_id)
);

CREATE TABLE previews (
    id          uuid PRIMARY KEY,
    pairing_id  uuid NOT NULL REFERENCES pairings ON DELETE CASCADE,
    plan        jsonb NOT NULL,
    fingerprint text NOT NULL,
    created_at  timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX previews_pairing ON previews (pairing_id, created_at DESC);

CREATE TABLE runs (
    id            uuid PRIMARY KEY,
    kind          text NOT NULL,
    connection_id uuid REFERENCES connections ON DELETE CASCADE,
    pairing_id    uuid REFERENCES pairings ON DELETE CASCADE,
    preview_id    uuid,
    approved      boolean NOT NULL DEFAULT false,
    state         text NOT NULL DEFAULT 'queued',
    step          text NOT NULL DEFAULT '',
    done          int NOT NULL DEFAULT 0,
    total         int NOT NULL DEFAULT 0,
    counts        jsonb DEFAULT '{}',
    findings      jsonb DEFAULT '[]',
    next_preview  uuid,
    error_code    text NOT NULL DEFAULT '',
    error         text NOT NULL DEFAULT '',
    requested_by  text NOT NULL,
    created_at    timestamptz NOT NULL DEFAULT now(),
    started_at    timestamptz,
    finished_at   timestamptz
);
CREATE UNIQUE INDEX runs_one_per_pairing ON runs (pairing_id) WHERE pairing_id IS NOT NULL AND state IN ('queued', 'running');
CREATE UNIQUE INDEX runs_one_read ON runs (connection_id) WHERE kind = 'read' AND state IN ('queued', 'running');
CREATE INDEX runs_newest ON runs (created_at DESC);

CREATE TABLE changes (
    run_id      uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    position    int NOT NULL,
    entry       jsonb NOT NULL,
    outcome     text NOT NULL,
    state       text NOT NULL,
    code        text NOT NULL DEFAULT '',
    answer      text NOT NULL DEFAULT '',
    started_at  timestamptz,
    finished_at timestamptz,
    PRIMARY KEY (run_id, position)
);

CREATE TABLE outlines (
    course_id  uuid PRIMARY KEY,
    outline    jsonb NOT NULL,
    version    int NOT NULL DEFAULT 1,
    updated_at timestamptz NOT NULL DEFAULT now()
);
-- Finds the courses in whose outline an activity stands.
CREATE TABLE outline_activities (
    activity_id text NOT NULL,
    course_id   uuid NOT NULL REFERENCES outlines ON DELETE CASCADE,
    PRIMARY KEY (activity_id, course_id)
);

CREATE TABLE statements (
    id            uuid PRIMARY KEY,
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    body          jsonb NOT NULL,
    person_id     uuid,
    note          text NOT NULL DEFAULT '',
    stored_at     timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX statements_stored ON statements (stored_at);

CREATE TABLE progress (
    person_id  uuid NOT NULL,
    section_id uuid NOT NULL,
    state      jsonb NOT NULL,
    percent    int NOT NULL,
    updated_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (person_id, section_id)
);

CREATE TABLE events (
    id          uuid PRIMARY KEY,
    type        text NOT NULL,
    natural_key text NOT NULL UNIQUE,
    person_id   uuid,
    section_id  uuid,
    course_id   uuid,
    module_id   text NOT NULL DEFAULT '',
    activity_id text NOT NULL DEFAULT '',
    data        jsonb DEFAULT '{}',
    occurred_at timestamptz NOT NULL,
    recorded_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX events_person ON events (person_id, id DESC);

CREATE TABLE rules (
    id         uuid PRIMARY KEY,
    name       text NOT NULL,
    trigger    text NOT NULL,
    scope      jsonb DEFAULT '{}',
    condition  text NOT NULL DEFAULT '',
    actions    jsonb NOT NULL,
    once       boolean NOT NULL DEFAULT true,
    on_since   timestamptz,
    version    int NOT NULL DEFAULT 1,
    created_at timestamptz NOT NULL DEFAULT now(),
    updated_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX rules_name ON rules (lower(name));

CREATE TABLE deliveries (
    id            uuid PRIMARY KEY,
    event_id      uuid NOT NULL REFERENCES events ON DELETE CASCADE,
    rule_id       uuid NOT NULL REFERENCES rules ON DELETE CASCADE,
    position      int NOT NULL,
    action        jsonb NOT NULL,
    connection_id uuid,
    person_id     uuid,
    once_key      text UNIQUE,
    state         text NOT NULL DEFAULT 'queued',
    attempts      int NOT NULL DEFAULT 0,
    next_at       timestamptz,
    code          text NOT NULL DEFAULT '',
    last_error    text NOT NULL DEFAULT '',
    result        jsonb DEFAULT '{}',
    created_at    timestamptz NOT NULL DEFAULT now(),
    finished_at   timestamptz,
    UNIQUE (event_id, rule_id, position)
);
CREATE INDEX deliveries_rule ON deliveries (rule_id, id DESC);
CREATE INDEX deliveries_waiting ON deliveries (id) WHERE state = 'waiting';

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
);

CREATE TABLE issuers (
    id          uuid PRIMARY KEY,
    name        text NOT NULL,
    url         text NOT NULL DEFAULT '',
    email       text NOT NULL DEFAULT '',
    description text NOT NULL DEFAULT '',
    key_id      text NOT NULL,
    key         bytea NOT NULL,
    created_at  timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX issuers_name ON issuers (lower(name));

CREATE TABLE badges (
    id          uuid PRIMARY KEY,
    issuer_id   uuid NOT NULL REFERENCES issuers,
    name        text NOT NULL,
    description text NOT NULL,
    criteria    text NOT NULL,
    created_at  timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX badges_name ON badges (lower(name));

CREATE TABLE awards (
    id         uuid PRIMARY KEY,
    badge_id   uuid NOT NULL REFERENCES badges,
    person_id  uuid NOT NULL,
    event_id   uuid,
    credential text NOT NULL,
    awarded_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (badge_id, person_id)
);

-- +goose Down
DROP TABLE awards, badges, issuers, attempts, deliveries, rules, events, progress, statements, outline_activities,
    outlines, changes, runs, previews, placements, accounts, pairings, enrolments, people, sections, courses, terms,
    orgs, connections, installation, kept_answers, audit_entries, sessions, api_tokens, setup_links, administrators;
