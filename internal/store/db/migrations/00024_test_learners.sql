-- +goose Up

-- The learner under whose eyes a course platform shows a course is called a test learner.
UPDATE connections SET matching = replace(replace(matching::text, '"previewLearners"', '"testLearners"'), '"Preview learners"', '"Test learners"')::jsonb WHERE matching::text LIKE '%previewLearners%';
UPDATE pairings SET quiet = replace(quiet::text, '"preview-learner"', '"test-learner"')::jsonb WHERE quiet::text LIKE '%"preview-learner"%';
UPDATE previews SET plan = replace(plan::text, '"preview-learner"', '"test-learner"')::jsonb WHERE plan::text LIKE '%"preview-learner"%';
UPDATE changes SET entry = replace(entry::text, '"preview-learner"', '"test-learner"')::jsonb WHERE entry::text LIKE '%"preview-learner"%';

-- +goose Down
UPDATE connections SET matching = replace(replace(matching::text, '"testLearners"', '"previewLearners"'), '"Test learners"', '"Preview learners"')::jsonb WHERE matching::text LIKE '%testLearners%';
UPDATE pairings SET quiet = replace(quiet::text, '"test-learner"', '"preview-learner"')::jsonb WHERE quiet::text LIKE '%"test-learner"%';
UPDATE previews SET plan = replace(plan::text, '"test-learner"', '"preview-learner"')::jsonb WHERE plan::text LIKE '%"test-learner"%';
UPDATE changes SET entry = replace(entry::text, '"test-learner"', '"preview-learner"')::jsonb WHERE entry::text LIKE '%"test-learner"%';
