-- +goose Up
-- The activity of the course's outline that an assignment is; empty for none.
ALTER TABLE score_items ADD activity text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE score_items DROP activity;
