-- +goose Up

-- Words that people know, where records hold them.
UPDATE installation SET name = 'setting/full-comparison' WHERE name = 'setting/whole-comparison';
UPDATE installation SET name = 'setting/hiding-rules' WHERE name = 'setting/aside';
UPDATE installation SET value = convert_to((SELECT jsonb_agg(CASE WHEN v->'query' ? 'aside'
        THEN jsonb_set(v #- '{query,aside}', '{query,hidden}', v->'query'->'aside') ELSE v END) FROM jsonb_array_elements(convert_from(value, 'UTF8')::jsonb) v)::text, 'UTF8')
    WHERE name LIKE 'setting/views/%' AND convert_from(value, 'UTF8') LIKE '%"aside"%';

-- What is undone is reverted.
ALTER TABLE runs RENAME takes_back TO reverts;
ALTER INDEX runs_takes_back RENAME TO runs_reverts;
ALTER TABLE previews RENAME takes_back TO reverts;
UPDATE deliveries SET code = 'cannot-revert' WHERE code = 'cannot-take-back';
UPDATE previews SET plan = replace(plan::text, '"taken-back"', '"reverted"')::jsonb WHERE reverts IS NOT NULL;
UPDATE changes SET entry = replace(entry::text, '"taken-back"', '"reverted"')::jsonb WHERE run_id IN (SELECT id FROM runs WHERE reverts IS NOT NULL);

-- The ordered set of stages of a course is a stage plan.
ALTER TABLE progressions RENAME TO stage_plans;
ALTER INDEX progressions_name RENAME TO stage_plans_name;
ALTER TRIGGER progressions_marked ON stage_plans RENAME TO stage_plans_marked;
ALTER TABLE progression_people RENAME TO stage_plan_people;
ALTER TABLE stage_plan_people RENAME progression_id TO stage_plan_id;
ALTER TABLE deliveries RENAME progression_id TO stage_plan_id;
UPDATE events SET data = data - 'progression' - 'progressionId' || jsonb_build_object('stagePlan', data->'progression', 'stagePlanId', data->'progressionId')
    WHERE type IN ('stage.reached', 'stage.reopened') AND data ? 'progressionId';
UPDATE rules SET condition = replace(condition, 'event.progression', 'event.stagePlan'), stop = replace(stop, 'event.progression', 'event.stagePlan'),
    actions = replace(actions::text, 'event.progression', 'event.stagePlan')::jsonb
    WHERE condition LIKE '%event.progression%' OR stop LIKE '%event.progression%' OR actions::text LIKE '%event.progression%';
UPDATE rule_versions SET draft = replace(draft::text, 'event.progression', 'event.stagePlan')::jsonb WHERE draft::text LIKE '%event.progression%';
-- +goose StatementBegin
DO $$ BEGIN
    IF to_regclass('river_job') IS NOT NULL THEN -- a new database has no queue yet
        UPDATE river_job SET args = args - 'progressionId' || jsonb_build_object('stagePlanId', args->'progressionId') WHERE kind = 'work-out-stages' AND args ? 'progressionId';
    END IF;
END $$;
-- +goose StatementEnd

-- +goose Down
ALTER TABLE deliveries RENAME stage_plan_id TO progression_id;
ALTER TABLE stage_plan_people RENAME stage_plan_id TO progression_id;
ALTER TABLE stage_plan_people RENAME TO progression_people;
ALTER TRIGGER stage_plans_marked ON stage_plans RENAME TO progressions_marked;
ALTER INDEX stage_plans_name RENAME TO progressions_name;
ALTER TABLE stage_plans RENAME TO progressions;
ALTER TABLE previews RENAME reverts TO takes_back;
ALTER INDEX runs_reverts RENAME TO runs_takes_back;
ALTER TABLE runs RENAME reverts TO takes_back;
UPDATE deliveries SET code = 'cannot-take-back' WHERE code = 'cannot-revert';
UPDATE installation SET name = 'setting/aside' WHERE name = 'setting/hiding-rules';
UPDATE installation SET name = 'setting/whole-comparison' WHERE name = 'setting/full-comparison';
