-- +goose Up

-- Which administrators have had the mail about removals above the guard, while others have not.
ALTER TABLE pairings ADD guard_mailed jsonb NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE pairings DROP guard_mailed;
