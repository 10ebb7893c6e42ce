-- +goose Up
ALTER TABLE own_sections RENAME TO taught_sections;

-- +goose Down
ALTER TABLE taught_sections RENAME TO own_sections;
