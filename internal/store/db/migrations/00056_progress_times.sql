-- +goose Up
-- When somebody began, and since when everything is done.
ALTER TABLE progress ADD first_at timestamptz, ADD done_at timestamptz;
UPDATE progress g SET first_at = a.first_at
    FROM (SELECT person_id, section_id, min(first_at) AS first_at FROM activity_progress GROUP BY person_id, section_id) a
    WHERE a.person_id = g.person_id AND a.section_id = g.section_id;
UPDATE progress g SET done_at = coalesce((SELECT max(e.occurred_at) FROM events e WHERE e.person_id = g.person_id
    AND e.section_id = g.section_id AND e.type = 'course.completed'), g.last_at, g.updated_at) WHERE g.done;

-- +goose Down
ALTER TABLE progress DROP first_at, DROP done_at;
