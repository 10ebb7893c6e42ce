-- +goose Up

-- What somebody said of records of a register: that one is the second account of another
-- person there, that it is a test learner, or that it is neither, whatever it looks like.
CREATE TABLE person_marks (
    connection_id uuid NOT NULL REFERENCES connections ON DELETE CASCADE,
    sourced_id    text NOT NULL,
    kind          text NOT NULL CHECK (kind IN ('second', 'test', 'neither')),
    second_of     text NOT NULL DEFAULT '',
    said_by       text NOT NULL,
    said_at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (connection_id, sourced_id)
);
CREATE INDEX person_marks_second ON person_marks (connection_id, second_of) WHERE kind = 'second';

-- +goose Down
DROP TABLE person_marks;
