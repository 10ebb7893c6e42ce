-- +goose Up
-- The keys with which this installation signs as a tool of course platforms.
CREATE TABLE tool_keys (
    id         text PRIMARY KEY, -- its thumbprint
    key        bytea NOT NULL,   -- sealed
    created_at timestamptz NOT NULL DEFAULT now(),
    retired_at timestamptz
);
CREATE UNIQUE INDEX tool_keys_one ON tool_keys ((true)) WHERE retired_at IS NULL;

-- Addresses at which a platform can register this installation by itself; each works once.
CREATE TABLE tool_registrations (
    id           uuid PRIMARY KEY,
    token        bytea NOT NULL UNIQUE, -- its hash
    name         text NOT NULL,         -- of the connection that is made
    made_by      text NOT NULL,
    created_at   timestamptz NOT NULL DEFAULT now(),
    expires_at   timestamptz NOT NULL,
    used_at      timestamptz,
    interface_id uuid REFERENCES interfaces ON DELETE SET NULL
);

-- Launches that platforms have begun; each ends once.
CREATE TABLE launches_begun (
    state        bytea PRIMARY KEY, -- its hash
    interface_id uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    nonce        text NOT NULL,
    browser      bytea NOT NULL, -- the hash of what the browser keeps
    storage      text NOT NULL DEFAULT '',
    expires_at   timestamptz NOT NULL
);
CREATE INDEX launches_begun_over ON launches_begun (expires_at);

-- By which deployments of a platform links are opened. One that nobody has admitted opens nothing.
CREATE TABLE deployments (
    id            uuid PRIMARY KEY,
    interface_id  uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    deployment    text NOT NULL,
    admitted_by   text NOT NULL DEFAULT '',
    admitted_at   timestamptz,
    first_at      timestamptz NOT NULL,
    latest_at     timestamptz NOT NULL,
    UNIQUE (interface_id, deployment)
);

-- The course pages of platforms in which links were opened, with the sections that they are about.
CREATE TABLE contexts (
    id            uuid PRIMARY KEY,
    deployment_id uuid NOT NULL REFERENCES deployments ON DELETE CASCADE,
    context       text NOT NULL,
    label         text NOT NULL DEFAULT '',
    title         text NOT NULL DEFAULT '',
    section_ids   uuid[] NOT NULL DEFAULT '{}',
    decided_by    text NOT NULL DEFAULT '', -- empty where the platform's own ids say it
    first_at      timestamptz NOT NULL,
    latest_at     timestamptz NOT NULL,
    UNIQUE (deployment_id, context)
);

-- Who opened links, as the platform calls them. Whose account that is stands in accounts.
CREATE TABLE subjects (
    id           uuid PRIMARY KEY,
    interface_id uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    subject      text NOT NULL,
    name         text NOT NULL DEFAULT '',
    email        text NOT NULL DEFAULT '',
    identifier   text NOT NULL DEFAULT '',
    why          text NOT NULL DEFAULT '', -- nobody of the register was recognised
    first_at     timestamptz NOT NULL,
    latest_at    timestamptz NOT NULL,
    UNIQUE (interface_id, subject)
);

-- Who opened a course page, how often and when.
CREATE TABLE openings (
    context_id uuid NOT NULL REFERENCES contexts ON DELETE CASCADE,
    subject_id uuid NOT NULL REFERENCES subjects ON DELETE CASCADE,
    role       text NOT NULL,
    times      bigint NOT NULL DEFAULT 1,
    first_at   timestamptz NOT NULL,
    latest_at  timestamptz NOT NULL,
    PRIMARY KEY (context_id, subject_id)
);

-- Pages that stand open in courses. Each is good for what it was opened for, and for nothing else.
CREATE TABLE launch_sessions (
    token        bytea PRIMARY KEY, -- its hash
    context_id   uuid NOT NULL REFERENCES contexts ON DELETE CASCADE,
    person_id    uuid NOT NULL,
    role         text NOT NULL, -- as the platform says
    return_url   text NOT NULL DEFAULT '',
    expires_at   timestamptz NOT NULL
);
CREATE INDEX launch_sessions_over ON launch_sessions (expires_at);
CREATE INDEX launch_sessions_person ON launch_sessions (person_id);

-- +goose Down
DROP TABLE launch_sessions, openings, subjects, contexts, deployments, launches_begun, tool_registrations, tool_keys;
