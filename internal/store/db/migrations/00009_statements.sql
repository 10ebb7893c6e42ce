-- +goose Up

-- What statements are asked for by (xAPI 1.0.3 Communication 2.1.3), and their order.
ALTER TABLE statements
    ADD seq bigint GENERATED ALWAYS AS IDENTITY,
    ADD actor text NOT NULL DEFAULT '',
    ADD verb text NOT NULL DEFAULT '',
    ADD object text NOT NULL DEFAULT '',
    ADD registration text NOT NULL DEFAULT '',
    ADD voided_at timestamptz;
UPDATE statements SET
    actor = coalesce(body->'actor'->>'mbox', body->'actor'->>'mbox_sha1sum', body->'actor'->>'openid', (body->'actor'->'account'->>'homePage') || ' ' || (body->'actor'->'account'->>'name'), ''),
    verb = coalesce(body->'verb'->>'id', ''), object = coalesce(body->'object'->>'id', ''), registration = lower(coalesce(body->'context'->>'registration', ''));
DROP INDEX statements_stored;
CREATE INDEX statements_listed ON statements (connection_id, seq);
CREATE INDEX statements_actor ON statements (connection_id, actor, seq);
CREATE INDEX statements_person ON statements (person_id, object) WHERE person_id IS NOT NULL;
CREATE INDEX statements_waiting ON statements (seq) WHERE note <> '' AND voided_at IS NULL;
CREATE INDEX statements_voiding ON statements (object) WHERE verb = 'http://adlnet.gov/expapi/verbs/voided';

-- +goose Down
ALTER TABLE statements DROP seq, DROP actor, DROP verb, DROP object, DROP registration, DROP voided_at;
