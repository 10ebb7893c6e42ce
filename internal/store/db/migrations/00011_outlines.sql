-- +goose Up

-- What an outline was like, so that progress worked out by an earlier one can be
-- compared with the one that holds now.
CREATE TABLE outline_versions (
    course_id uuid NOT NULL REFERENCES outlines ON DELETE CASCADE,
    version   int NOT NULL,
    outline   jsonb NOT NULL,
    who       text NOT NULL DEFAULT '',
    at        timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (course_id, version)
);
INSERT INTO outline_versions (course_id, version, outline) SELECT course_id, version, outline FROM outlines;

-- By which version of its course's outline a row of progress was worked out.
ALTER TABLE progress ADD outline_version int NOT NULL DEFAULT 0;
UPDATE progress g SET outline_version = o.version FROM sections x
    JOIN courses c ON c.connection_id = x.connection_id AND c.sourced_id = x.course
    JOIN outlines o ON o.course_id = c.id WHERE x.id = g.section_id;
CREATE INDEX progress_section ON progress (section_id, person_id);

DROP INDEX statements_voiding;
CREATE INDEX statements_voiding ON statements (connection_id, lower(object)) WHERE verb = 'http://adlnet.gov/expapi/verbs/voided';

-- +goose Down
DROP INDEX progress_section;
ALTER TABLE progress DROP outline_version;
DROP TABLE outline_versions;
