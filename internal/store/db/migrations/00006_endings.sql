-- +goose Up

-- A run that takes everybody out whom Kanban put in, and then ends the pairing.
ALTER TABLE previews ADD ends boolean NOT NULL DEFAULT false;
ALTER TABLE runs ADD ends boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE previews DROP ends;
ALTER TABLE runs DROP ends;
