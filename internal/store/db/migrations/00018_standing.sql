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

-- A removed connection is switched off and hidden; everything that hangs on it stays until
-- it is deleted for good. Its name is free at once.
ALTER TABLE connections ADD removed_at timestamptz, ADD removed_by text NOT NULL DEFAULT '';
DROP INDEX connections_name;
CREATE UNIQUE INDEX connections_name ON connections (lower(name)) WHERE removed_at IS NULL;
CREATE VIEW hidden_pairings AS
    SELECT p.id FROM pairings p, connections c WHERE c.removed_at IS NOT NULL
    AND (c.id = p.connection_id OR EXISTS (SELECT 1 FROM section_facts f WHERE f.section_id = p.section_id AND f.connection_id = c.id));

-- A look-up that shows whether an operation had its effect.
ALTER TABLE operations ADD proof_path text NOT NULL DEFAULT '', ADD proof text NOT NULL DEFAULT '';

-- Session values are kept as hashes from now on: those kept as they are end.
DELETE FROM sessions;

-- +goose Down
DROP VIEW hidden_pairings;
DROP INDEX connections_name;
UPDATE connections SET name = name || ' (removed ' || id || ')' WHERE removed_at IS NOT NULL;
CREATE UNIQUE INDEX connections_name ON connections (lower(name));
ALTER TABLE connections DROP removed_at, DROP removed_by;
DELETE FROM kept_answers WHERE status IS NULL;
ALTER TABLE kept_answers ALTER status SET NOT NULL, ALTER body SET NOT NULL, DROP header, DROP claimed_at;
DELETE FROM sessions;
ALTER TABLE operations DROP proof_path, DROP proof;
DROP TABLE unsubscribes, intervals;
