-- +goose Up

-- Pictures of badges, by what they show: an award keeps the one with which it was given.
CREATE TABLE pictures (
    id      text PRIMARY KEY, -- SHA-256 of the content, in hexadecimal
    kind    text NOT NULL,    -- image/png or image/svg+xml
    content bytea NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now()
);
ALTER TABLE badges ADD picture text NOT NULL DEFAULT '';
ALTER TABLE awards ADD picture text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE awards DROP picture;
ALTER TABLE badges DROP picture;
DROP TABLE pictures;
