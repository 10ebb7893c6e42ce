-- +goose Up

-- How people are recognised at a connection; null is the default.
ALTER TABLE connections ADD matching jsonb;

-- Decisions of people about whose account something is.
ALTER TABLE accounts ADD chosen_by text NOT NULL DEFAULT '', ADD chosen_at timestamptz;
CREATE TABLE not_accounts (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    person_id     uuid NOT NULL,
    remote_id     text NOT NULL,
    said_by       text NOT NULL,
    said_at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (connection_id, person_id, remote_id)
);

ALTER TABLE people ADD org text NOT NULL DEFAULT '';

-- Everybody of the latest comparison who is not simply in step.
ALTER TABLE pairings ADD quiet jsonb DEFAULT '[]';

-- Findings that somebody has seen and that stay quiet until they change.
CREATE TABLE acknowledgements (
    key     text PRIMARY KEY,
    note    text NOT NULL,
    by_whom text NOT NULL,
    at      timestamptz NOT NULL DEFAULT now()
);

-- A run that takes back what another one did.
ALTER TABLE runs ADD takes_back uuid REFERENCES runs ON DELETE CASCADE;
CREATE INDEX runs_takes_back ON runs (takes_back) WHERE takes_back IS NOT NULL;
ALTER TABLE previews ADD takes_back uuid REFERENCES runs ON DELETE CASCADE;

-- +goose Down
SELECT 1 / 0; -- decisions of people would be lost: restore a backup
