-- +goose Up

-- Who wants no more mails of a rule. The key is the address as addresses are compared.
CREATE TABLE unsubscribes (
    rule_id     uuid NOT NULL REFERENCES rules ON DELETE CASCADE,
    address_key text NOT NULL,
    address     text NOT NULL,
    at          timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (rule_id, address_key)
);

-- A key is claimed before the work that it stands for; without a status nobody has
-- answered yet.
ALTER TABLE kept_answers ALTER status DROP NOT NULL, ALTER body DROP NOT NULL, ADD header jsonb NOT NULL DEFAULT '{}', ADD claimed_at timestamptz NOT NULL DEFAULT now();

-- When what happens at intervals was last due, over restarts and changes of leader.
CREATE TABLE intervals (
    name    text PRIMARY KEY,
    last_at timestamptz NOT NULL
);

-- Session values are kept as hashes from now on: those kept as they are end.
DELETE FROM sessions;

-- +goose Down
DELETE FROM kept_answers WHERE status IS NULL;
ALTER TABLE kept_answers ALTER status SET NOT NULL, ALTER body SET NOT NULL, DROP header, DROP claimed_at;
DELETE FROM sessions;
DROP TABLE unsubscribes, intervals;
