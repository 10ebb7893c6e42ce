-- +goose Up
-- Whoever may sign in is a user, whatever their role.
ALTER TABLE administrators RENAME TO users;
ALTER INDEX administrators_email RENAME TO users_email;
ALTER TABLE api_tokens RENAME administrator_id TO user_id;
ALTER TABLE approvals RENAME administrator_id TO user_id;
ALTER TABLE sign_ins RENAME administrator_id TO user_id;
ALTER TABLE users ALTER role DROP DEFAULT, ADD invited_by text NOT NULL DEFAULT '', ADD signed_in_at timestamptz;

-- Links by which users choose their password; each works once.
CREATE TABLE invitations (
    token_hash bytea PRIMARY KEY,
    user_id    uuid NOT NULL REFERENCES users ON DELETE CASCADE,
    made_by    text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    used_at    timestamptz
);
CREATE INDEX invitations_user ON invitations (user_id);

-- +goose Down
DROP TABLE invitations;
DELETE FROM users WHERE role <> 'administrator' OR password_hash = '';
ALTER TABLE users DROP invited_by, DROP signed_in_at, ALTER role SET DEFAULT 'administrator';
ALTER TABLE sign_ins RENAME user_id TO administrator_id;
ALTER TABLE approvals RENAME user_id TO administrator_id;
ALTER TABLE api_tokens RENAME user_id TO administrator_id;
ALTER INDEX users_email RENAME TO administrators_email;
ALTER TABLE users RENAME TO administrators;
