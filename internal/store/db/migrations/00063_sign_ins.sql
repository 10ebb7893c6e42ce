-- +goose Up
-- Whose each session is and where it is used, so that people see where they are signed in and end what is not theirs.
ALTER TABLE sessions ADD id uuid NOT NULL DEFAULT gen_random_uuid(),
    ADD user_id uuid REFERENCES users ON DELETE CASCADE,
    ADD agent text NOT NULL DEFAULT '', ADD address text NOT NULL DEFAULT '',
    ADD began_at timestamptz NOT NULL DEFAULT now(), ADD used_at timestamptz NOT NULL DEFAULT now();
CREATE INDEX sessions_user ON sessions (user_id) WHERE user_id IS NOT NULL;
-- A token may be allowed less than whoever made it, and may end by itself.
ALTER TABLE api_tokens ADD role text NOT NULL DEFAULT '', ADD scope text NOT NULL DEFAULT '',
    ADD scope_id text NOT NULL DEFAULT '', ADD expires_at timestamptz;

-- +goose Down
ALTER TABLE api_tokens DROP expires_at, DROP scope_id, DROP scope, DROP role;
ALTER TABLE sessions DROP used_at, DROP began_at, DROP address, DROP agent, DROP user_id, DROP id;
