-- +goose Up

-- What is known about a person and an activity, each on its own, so that a fact
-- reads and writes little however long the course is.
CREATE TABLE activity_progress (
    person_id   uuid NOT NULL,
    section_id  uuid NOT NULL,
    activity_id text NOT NULL,
    first_at    timestamptz NOT NULL,
    last_at     timestamptz NOT NULL,
    completed   boolean NOT NULL,
    passed      boolean NOT NULL,
    failed      boolean NOT NULL,
    best        double precision,
    PRIMARY KEY (person_id, section_id, activity_id)
) WITH (fillfactor = 90);

-- As it was written: short, with times in milliseconds, or before that in words.
INSERT INTO activity_progress
    SELECT g.person_id, g.section_id, a.key,
        coalesce(to_timestamp((a.value->>'f')::float8 / 1000), (a.value->>'first')::timestamptz, g.updated_at),
        coalesce(to_timestamp((a.value->>'l')::float8 / 1000), (a.value->>'last')::timestamptz, g.updated_at),
        coalesce((a.value->>'completed')::boolean, a.value->>'w' LIKE '%c%', false),
        coalesce((a.value->>'passed')::boolean, a.value->>'w' LIKE '%p%', false),
        coalesce((a.value->>'failed')::boolean, a.value->>'w' LIKE '%x%', false),
        coalesce((a.value->>'b')::float8, (a.value->>'best')::float8)
    FROM progress g, jsonb_each(CASE jsonb_typeof(g.state->'activities') WHEN 'object' THEN g.state->'activities' ELSE '{}' END) a;

-- Which activities are done, one bit each in the outline's order; null until it is
-- worked out. It is written at every fact, and stands in no index for that.
ALTER TABLE progress DROP state, ADD tally bytea, SET (fillfactor = 70);
DROP INDEX progress_idle;

-- +goose Down
CREATE INDEX progress_idle ON progress (section_id, last_at) WHERE NOT done;
ALTER TABLE progress RESET (fillfactor), ADD state jsonb NOT NULL DEFAULT '{}';
UPDATE progress g SET state = jsonb_build_object('activities', (SELECT jsonb_object_agg(a.activity_id, jsonb_build_object('first', a.first_at, 'last', a.last_at,
    'completed', a.completed, 'passed', a.passed, 'failed', a.failed, 'best', a.best)) FROM activity_progress a WHERE a.person_id = g.person_id AND a.section_id = g.section_id))
    WHERE EXISTS (SELECT 1 FROM activity_progress a WHERE a.person_id = g.person_id AND a.section_id = g.section_id);
ALTER TABLE progress DROP tally;
DROP TABLE activity_progress;
