-- +goose Up
-- Reports that are sent by mail by the clock.
CREATE TABLE report_mails (
    id         uuid PRIMARY KEY,
    report     text NOT NULL,
    ask        jsonb NOT NULL, -- to what it is narrowed
    form       text NOT NULL,
    schedule   jsonb NOT NULL,
    recipients jsonb NOT NULL,
    made_by    text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    next_at    timestamptz NOT NULL,
    paused_at  timestamptz,
    version    int NOT NULL DEFAULT 1
);
CREATE INDEX report_mails_due ON report_mails (next_at) WHERE paused_at IS NULL;
-- What became of each mail, by when it was due and to whom it goes. The last ones of each are kept.
CREATE TABLE report_mails_sent (
    mail_id   uuid NOT NULL REFERENCES report_mails ON DELETE CASCADE,
    due_at    timestamptz NOT NULL,
    recipient text NOT NULL,
    sent_at   timestamptz, -- null while it was not taken
    trouble   text NOT NULL DEFAULT '',
    PRIMARY KEY (mail_id, due_at, recipient)
);

-- +goose Down
DROP TABLE report_mails_sent;
DROP TABLE report_mails;
