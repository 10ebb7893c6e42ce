-- +goose Up
-- OpenID providers at which people sign in.
CREATE TABLE providers (
    id            uuid PRIMARY KEY,
    name          text NOT NULL,
    issuer        text NOT NULL,
    client_id     text NOT NULL,
    sealed        bytea, -- the client's secret; NULL for a public client
    scopes        jsonb NOT NULL,
    active        boolean NOT NULL,
    believes      text NOT NULL, -- addresses that it gives: none, verified or all
    admits        text NOT NULL, -- invited, or mapped: whoever its claims give something
    person_claim  text NOT NULL DEFAULT '', -- by which somebody of the register is known; empty for none
    person_key    text NOT NULL DEFAULT '', -- identifier or email
    mappings      jsonb NOT NULL,
    version       int NOT NULL DEFAULT 1,
    created_at    timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX providers_name ON providers (lower(name));
CREATE UNIQUE INDEX providers_client ON providers (issuer, client_id);
-- Who of a provider is which user.
CREATE TABLE provider_users (
    provider_id  uuid NOT NULL REFERENCES providers ON DELETE CASCADE,
    subject      text NOT NULL,
    user_id      uuid NOT NULL REFERENCES users ON DELETE CASCADE,
    email        text NOT NULL DEFAULT '', -- as it said last
    linked_at    timestamptz NOT NULL,
    signed_in_at timestamptz NOT NULL,
    PRIMARY KEY (provider_id, subject)
);
CREATE UNIQUE INDEX provider_users_user ON provider_users (user_id, provider_id);
-- Roles that a provider's claims give; each sign-in gives them anew.
ALTER TABLE user_grants ADD provider_id uuid REFERENCES providers ON DELETE CASCADE;
-- By which provider a session was begun, and what that calls its own.
ALTER TABLE sessions ADD provider_id uuid REFERENCES providers ON DELETE SET NULL,
    ADD provider_session text NOT NULL DEFAULT '';
-- Messages of providers that sessions are over, each taken once.
CREATE TABLE provider_logouts (
    provider_id uuid NOT NULL REFERENCES providers ON DELETE CASCADE,
    token       text NOT NULL,
    at          timestamptz NOT NULL,
    PRIMARY KEY (provider_id, token)
);

-- +goose Down
DROP TABLE provider_logouts;
DELETE FROM sessions WHERE provider_id IS NOT NULL;
ALTER TABLE sessions DROP provider_session, DROP provider_id;
DELETE FROM user_grants WHERE provider_id IS NOT NULL;
ALTER TABLE user_grants DROP provider_id;
DROP TABLE provider_users, providers;
