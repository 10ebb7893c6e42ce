-- +goose Up
-- What somebody who holds badges decided about them.
CREATE TABLE holders (
    person_id   uuid PRIMARY KEY,
    shown_name  text NOT NULL,
    terms       int NOT NULL, -- the version that was accepted
    accepted_at timestamptz NOT NULL
);
ALTER TABLE awards ADD shared_at timestamptz; -- since when its page says whose it is
-- How often an award's public page was opened, by day.
CREATE TABLE award_looks (
    award_id uuid NOT NULL REFERENCES awards ON DELETE CASCADE,
    day      date NOT NULL,
    people   int NOT NULL DEFAULT 0,
    programs int NOT NULL DEFAULT 0,
    last_at  timestamptz NOT NULL,
    PRIMARY KEY (award_id, day)
);

-- +goose Down
DROP TABLE award_looks, holders;
ALTER TABLE awards DROP shared_at;
