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

-- +goose Down
ALTER TABLE previews RENAME reverts TO takes_back;
ALTER INDEX runs_reverts RENAME TO runs_takes_back;
ALTER TABLE runs RENAME reverts TO takes_back;
UPDATE deliveries SET code = 'cannot-take-back' WHERE code = 'cannot-revert';
UPDATE installation SET name = 'setting/aside' WHERE name = 'setting/hiding-rules';
UPDATE installation SET name = 'setting/whole-comparison' WHERE name = 'setting/full-comparison';
