-- +goose Up
-- People and enrolments that no register lists: those of test learners that Kanban made.
ALTER TABLE people ADD test boolean NOT NULL DEFAULT false;
ALTER TABLE enrolments ADD test boolean NOT NULL DEFAULT false;

-- A test learner's way through a section, before real people.
CREATE TABLE proofs (
    id         uuid PRIMARY KEY,
    section_id uuid NOT NULL,
    person_id  uuid NOT NULL,
    made       boolean NOT NULL, -- Kanban made the test learner
    name       text NOT NULL,
    address    text NOT NULL,
    module_id  text NOT NULL DEFAULT '',
    state      text NOT NULL,
    seats      jsonb DEFAULT '[]', -- what became of them in classes
    accounts   jsonb DEFAULT '[]', -- which accounts one of the register had beforehand
    facts      jsonb DEFAULT '[]', -- what was recorded
    scores     jsonb DEFAULT '[]', -- what was carried
    steps      jsonb DEFAULT '[]', -- what there was to see when it was reverted
    remains    jsonb DEFAULT '[]', -- what could not be reverted
    started_by text NOT NULL,
    started_at timestamptz NOT NULL DEFAULT now(),
    done_at    timestamptz,
    ended_at   timestamptz
);
CREATE UNIQUE INDEX proofs_section ON proofs (section_id) WHERE ended_at IS NULL;
CREATE UNIQUE INDEX proofs_person ON proofs (person_id) WHERE ended_at IS NULL;

-- Awards of test learners count nowhere; revoked ones stay, so that whoever checks one is told.
ALTER TABLE awards ADD test boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE awards DROP test;
DROP TABLE proofs;
DELETE FROM enrolments WHERE test;
DELETE FROM people WHERE test;
ALTER TABLE enrolments DROP test;
ALTER TABLE people DROP test;
