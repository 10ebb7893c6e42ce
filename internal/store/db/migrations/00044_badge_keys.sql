-- +goose Up

-- An issuer signs with a key for each algorithm; a retired one stays published, so that what it signed keeps verifying.
CREATE TABLE issuer_keys (
    id         text PRIMARY KEY, -- its thumbprint (RFC 7638)
    issuer_id  uuid NOT NULL REFERENCES issuers ON DELETE CASCADE,
    algorithm  text NOT NULL,
    key        bytea NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    retired_at timestamptz
);
CREATE UNIQUE INDEX issuer_keys_signing ON issuer_keys (issuer_id, algorithm) WHERE retired_at IS NULL;
INSERT INTO issuer_keys (id, issuer_id, algorithm, key, created_at)
    SELECT key_id, id, 'RS256', key, created_at FROM issuers;
ALTER TABLE issuers DROP key, DROP key_id;

-- The credential with its proof inside, byte for byte; what was signed before there were any has none.
ALTER TABLE awards
    ADD document bytea,
    ADD suspended_at timestamptz,
    ADD suspended_by text NOT NULL DEFAULT '',
    ADD suspended_reason text NOT NULL DEFAULT '';
CREATE INDEX awards_suspended ON awards (badge_id, number) WHERE suspended_at IS NOT NULL;

-- The addresses under which this installation was reached: credentials carry theirs for ever.
CREATE TABLE public_addresses (
    address  text PRIMARY KEY,
    first_at timestamptz NOT NULL DEFAULT now(),
    last_at  timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE public_addresses;
DROP INDEX awards_suspended;
ALTER TABLE awards DROP document, DROP suspended_at, DROP suspended_by, DROP suspended_reason;
ALTER TABLE issuers ADD key_id text, ADD key bytea;
UPDATE issuers i SET key_id = k.id, key = k.key FROM issuer_keys k
    WHERE k.issuer_id = i.id AND k.algorithm = 'RS256' AND k.retired_at IS NULL;
ALTER TABLE issuers ALTER key_id SET NOT NULL, ALTER key SET NOT NULL;
DROP TABLE issuer_keys;
