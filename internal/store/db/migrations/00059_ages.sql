-- +goose Up
-- How many scores that are not final were entered on which day, as compared last; "" where that is not known.
ALTER TABLE score_links ADD draft_days jsonb DEFAULT '{}';

-- +goose Down
ALTER TABLE score_links DROP draft_days;
