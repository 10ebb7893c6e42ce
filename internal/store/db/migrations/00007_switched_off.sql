-- +goose Up

-- Accounts that Kanban itself switched off, and so may switch on again.
ALTER TABLE accounts ADD switched_off boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE accounts DROP switched_off;
