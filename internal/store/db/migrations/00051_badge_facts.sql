-- +goose Up
ALTER TABLE issuers
    ADD picture text NOT NULL DEFAULT '',
    ADD terms text NOT NULL DEFAULT ''; -- of use, for whoever relies on its badges
ALTER TABLE badges
    ADD level text NOT NULL DEFAULT '',
    ADD last_day text NOT NULL DEFAULT '', -- as 2027-07-31, on which every award ends; '' for none
    ADD renewable boolean NOT NULL DEFAULT false,
    ADD design jsonb; -- how its picture is drawn, if it is drawn here
ALTER TABLE awards ADD renewed_at timestamptz; -- when another award took its place
ALTER TABLE pictures ADD png bytea; -- the same as PNG, of a picture that is drawn here
DROP INDEX awards_held;
CREATE UNIQUE INDEX awards_held ON awards (badge_id, person_id) WHERE revoked_at IS NULL AND renewed_at IS NULL;

-- +goose Down
DELETE FROM awards WHERE renewed_at IS NOT NULL;
DROP INDEX awards_held;
CREATE UNIQUE INDEX awards_held ON awards (badge_id, person_id) WHERE revoked_at IS NULL;
ALTER TABLE pictures DROP png;
ALTER TABLE awards DROP renewed_at;
ALTER TABLE badges DROP level, DROP last_day, DROP renewable, DROP design;
ALTER TABLE issuers DROP picture, DROP terms;
