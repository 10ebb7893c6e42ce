-- +goose Up
-- When a source said that scores became final.
ALTER TABLE score_links ADD noticed_at timestamptz;

-- +goose Down
ALTER TABLE score_links DROP noticed_at;
