-- +goose Up
-- Programs of holders, in which they keep credentials (Open Badges 3.0 API; OAuth 2 dynamic registration, RFC 7591).
CREATE TABLE wallets (
    id          text PRIMARY KEY, -- the client_id
    name        text NOT NULL,
    site        text NOT NULL DEFAULT '',
    redirects   jsonb NOT NULL, -- addresses to which a browser may be sent back
    scopes      text NOT NULL, -- the most that it may ask for
    secret_hash bytea, -- SHA-256; none for a program that can keep no secret
    created_at  timestamptz NOT NULL DEFAULT now()
);
-- What a holder lets a wallet do.
CREATE TABLE wallet_grants (
    wallet_id text NOT NULL REFERENCES wallets ON DELETE CASCADE,
    person_id uuid NOT NULL,
    scopes    text NOT NULL,
    given_at  timestamptz NOT NULL,
    used_at   timestamptz, -- when it was used last
    PRIMARY KEY (wallet_id, person_id)
);
CREATE INDEX wallet_grants_person ON wallet_grants (person_id);
-- Codes and tokens that were given out. Only their SHA-256 is kept.
CREATE TABLE wallet_tokens (
    hash      bytea PRIMARY KEY,
    kind      text NOT NULL, -- code, access or refresh
    family    uuid NOT NULL, -- an access token and the one by which it is renewed
    wallet_id text NOT NULL,
    person_id uuid NOT NULL,
    info      jsonb NOT NULL,
    used_at   timestamptz, -- of a code: when it was exchanged
    ends_at   timestamptz NOT NULL,
    FOREIGN KEY (wallet_id, person_id) REFERENCES wallet_grants ON DELETE CASCADE
);
CREATE INDEX wallet_tokens_grant ON wallet_tokens (wallet_id, person_id);
CREATE INDEX wallet_tokens_ends ON wallet_tokens (ends_at);
-- Credentials from elsewhere that a holder's wallet put here.
CREATE TABLE brought_credentials (
    id            uuid PRIMARY KEY,
    person_id     uuid NOT NULL,
    credential_id text NOT NULL, -- as it names itself
    name          text NOT NULL,
    issuer        text NOT NULL,
    content       bytea NOT NULL, -- as it came
    jws           boolean NOT NULL, -- it is a compact JWS, not JSON
    verdict       text NOT NULL, -- what checking it said when it came
    wallet        text NOT NULL, -- the name of the wallet
    brought_at    timestamptz NOT NULL,
    UNIQUE (person_id, credential_id)
);

-- +goose Down
DROP TABLE brought_credentials, wallet_tokens, wallet_grants, wallets;
