-- +goose Up
-- What a user may be, and where: in the whole institution, or in a part of it.
CREATE TABLE user_grants (
    id         uuid PRIMARY KEY,
    user_id    uuid NOT NULL REFERENCES users ON DELETE CASCADE,
    role       text NOT NULL,
    scope      text NOT NULL,
    scope_id   text NOT NULL DEFAULT '',
    issuer_id  uuid REFERENCES issuers ON DELETE CASCADE, -- whose badges may be awarded; all when NULL
    made_by    text NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX user_grants_once ON user_grants (user_id, role, scope, scope_id, coalesce(issuer_id::text, ''));
INSERT INTO user_grants (id, user_id, role, scope, made_by, created_at)
    SELECT gen_random_uuid(), id, role, 'institution', invited_by, created_at FROM users;
-- The person of the register who the user is, by whom they teach and learn.
ALTER TABLE users DROP role, ADD person_id uuid;
CREATE INDEX users_person ON users (person_id) WHERE person_id IS NOT NULL;

-- +goose Down
ALTER TABLE users DROP person_id, ADD role text NOT NULL DEFAULT '';
UPDATE users u SET role = g.role FROM user_grants g WHERE g.user_id = u.id AND g.scope = 'institution'
    AND g.role IN ('administrator', 'operator', 'support', 'reader')
    AND NOT EXISTS (SELECT 1 FROM user_grants o WHERE o.user_id = u.id AND o.scope = 'institution' AND o.role < g.role);
DELETE FROM users WHERE role = '';
ALTER TABLE users ALTER role DROP DEFAULT;
DROP TABLE user_grants;
