-- +goose Up
ALTER TABLE stage_plans ADD any_order boolean NOT NULL DEFAULT false; -- a stage is reached whatever stands before it
-- When somebody came into a plan, and when stages were found that they had reached before.
ALTER TABLE stage_plan_people ADD created_at timestamptz NOT NULL DEFAULT now(), ADD found_at timestamptz;
UPDATE stage_plan_people c SET created_at = x.first, found_at = x.first
    FROM (SELECT p.stage_plan_id, p.person_id, least(p.updated_at, min(r.value::timestamptz)) AS first
        FROM stage_plan_people p LEFT JOIN jsonb_each_text(p.reached) r ON true GROUP BY p.stage_plan_id, p.person_id, p.updated_at) x
    WHERE x.stage_plan_id = c.stage_plan_id AND x.person_id = c.person_id;
-- What somebody has approved for a person. An approval that is withdrawn goes.
CREATE TABLE stage_approvals (
    approval_id text NOT NULL, -- of the criterion
    person_id   uuid NOT NULL,
    by_name     text NOT NULL,
    note        text NOT NULL DEFAULT '',
    given_at    timestamptz NOT NULL,
    PRIMARY KEY (approval_id, person_id)
);
CREATE INDEX stage_approvals_person ON stage_approvals (person_id);

-- +goose Down
DROP TABLE stage_approvals;
ALTER TABLE stage_plan_people DROP created_at, DROP found_at;
ALTER TABLE stage_plans DROP any_order;
