-- +goose Up
-- Programs that ask for a token, which somebody allows in a browser (RFC 8628).
CREATE TABLE device_requests (
    device_hash bytea PRIMARY KEY,
    user_code   text NOT NULL UNIQUE, -- without its hyphen
    name        text NOT NULL,
    agent       text NOT NULL DEFAULT '',
    address     text NOT NULL DEFAULT '',
    asked_at    timestamptz NOT NULL,
    expires_at  timestamptz NOT NULL,
    polled_at   timestamptz,
    every       int NOT NULL, -- seconds between two polls
    user_id     uuid REFERENCES users ON DELETE CASCADE, -- who answered
    allowed     boolean NOT NULL DEFAULT false
);
CREATE INDEX device_requests_expire ON device_requests (expires_at);

-- +goose Down
DROP TABLE device_requests;
