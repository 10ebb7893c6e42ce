-- +goose Up
-- What was granted by signing in at a service; a pending one waits until somebody says that it is meant.
CREATE TABLE grants (
    interface_id uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    pending      boolean NOT NULL DEFAULT false,
    account      text NOT NULL,
    scopes       jsonb NOT NULL,
    token        bytea NOT NULL, -- sealed
    expires_at   timestamptz,
    renews       boolean NOT NULL,
    granted_at   timestamptz NOT NULL,
    granted_by   text NOT NULL,
    trouble      text NOT NULL DEFAULT '', -- why it is pending, or has ended
    PRIMARY KEY (interface_id, pending)
);

-- Sign-ins that somebody has begun.
CREATE TABLE sign_ins (
    state            bytea PRIMARY KEY, -- hash of what comes back
    interface_id     uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    administrator_id uuid NOT NULL REFERENCES administrators ON DELETE CASCADE,
    verifier         bytea NOT NULL, -- sealed
    began_at         timestamptz NOT NULL
);

-- +goose Down
DROP TABLE sign_ins;
DROP TABLE grants;
