-- +goose Up
-- Codes of an app that somebody signs in with besides the password (RFC 6238). The secret is sealed; a step is taken once.
CREATE TABLE one_time_codes (
    user_id   uuid PRIMARY KEY REFERENCES users ON DELETE CASCADE,
    sealed    bytea NOT NULL,
    begun_at  timestamptz NOT NULL DEFAULT now(),
    on_since  timestamptz, -- NULL until the first code was right
    last_step bigint NOT NULL DEFAULT 0
);
-- Codes for whoever has lost the app; each is taken once.
CREATE TABLE recovery_codes (
    user_id uuid NOT NULL REFERENCES one_time_codes ON DELETE CASCADE,
    hash    bytea NOT NULL,
    used_at timestamptz,
    PRIMARY KEY (user_id, hash)
);
-- Whoever forgot their password asks for such a link; it holds for an hour.
ALTER TABLE invitations ADD reset boolean NOT NULL DEFAULT false;

-- +goose Down
DELETE FROM invitations WHERE reset;
ALTER TABLE invitations DROP reset;
DROP TABLE recovery_codes, one_time_codes;
