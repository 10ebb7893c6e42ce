-- +goose Up

-- Whether a pairing minds the places of those members of its section who were in its class
-- already: the next run takes them over, somebody has to say so, or there is nothing to say.
ALTER TABLE pairings ADD take_over text NOT NULL DEFAULT '', ADD unminded integer NOT NULL DEFAULT 0;
UPDATE pairings SET take_over = CASE WHEN ran_at IS NULL THEN 'next' ELSE 'offered' END WHERE target_ref <> '' AND ended_at IS NULL;

-- The run that took somebody over whom somebody else had put in.
ALTER TABLE placements ADD taken_over_by uuid;

-- +goose Down
ALTER TABLE placements DROP taken_over_by;
ALTER TABLE pairings DROP take_over, DROP unminded;
