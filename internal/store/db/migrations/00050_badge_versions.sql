-- +goose Up
-- Badges are drafts, published or withdrawn, and change in versions: who holds one keeps it as it was.
ALTER TABLE badges
    ADD state text NOT NULL DEFAULT 'published',
    ADD version int NOT NULL DEFAULT 1,
    ADD revision int NOT NULL DEFAULT 1, -- counts every change
    ADD tags jsonb,
    ADD alignments jsonb, -- goals of frameworks
    ADD valid_days int NOT NULL DEFAULT 0; -- how long an award holds; 0 for good
ALTER TABLE awards
    ADD version int NOT NULL DEFAULT 1, -- of the badge
    ADD valid_until timestamptz;
CREATE TABLE badge_versions (
    badge_id   uuid NOT NULL REFERENCES badges ON DELETE CASCADE,
    version    int NOT NULL,
    badge      jsonb NOT NULL, -- as it was
    changed_by text NOT NULL,
    changed_at timestamptz NOT NULL, -- when the next one took its place
    PRIMARY KEY (badge_id, version)
);

-- +goose Down
DROP TABLE badge_versions;
ALTER TABLE awards DROP version, DROP valid_until;
ALTER TABLE badges DROP state, DROP version, DROP revision, DROP tags, DROP alignments, DROP valid_days;
