-- +goose Up

-- What a rule needs at a service and was not there when the service was asked last, and on
-- which event the rule was tried out.
ALTER TABLE rules
    ADD missing     jsonb,
    ADD asked_at    timestamptz,
    ADD tried_event uuid;

-- +goose Down
ALTER TABLE rules DROP missing, DROP asked_at, DROP tried_event;
