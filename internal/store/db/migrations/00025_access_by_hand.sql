-- +goose Up

-- Access that somebody gives by hand, until a time and for a reason.
ALTER TABLE accesses
    ADD until    timestamptz,
    ADD given_by text NOT NULL DEFAULT '',
    ADD reason   text NOT NULL DEFAULT '';

-- A membership that is renewed begins again.
UPDATE connections SET settings = jsonb_set(settings, '{starts}', to_jsonb('event.reported in ["purchase.completed", "membership.started", "membership.renewed"]'::text))
WHERE kind = 'cloudevents' AND settings->>'starts' = 'event.reported in ["purchase.completed", "membership.started"]';

-- +goose Down
ALTER TABLE accesses DROP until, DROP given_by, DROP reason;
UPDATE connections SET settings = jsonb_set(settings, '{starts}', to_jsonb('event.reported in ["purchase.completed", "membership.started"]'::text))
WHERE kind = 'cloudevents' AND settings->>'starts' = 'event.reported in ["purchase.completed", "membership.started", "membership.renewed"]';
