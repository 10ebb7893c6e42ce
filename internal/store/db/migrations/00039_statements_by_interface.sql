-- +goose Up
-- Each interface is a store of statements of its own: one id can have come through two of them.
ALTER TABLE statements DROP CONSTRAINT statements_pkey, ADD PRIMARY KEY (interface_id, id);

-- +goose Down
DELETE FROM statements s WHERE EXISTS (SELECT 1 FROM statements o WHERE o.id = s.id AND o.seq < s.seq);
ALTER TABLE statements DROP CONSTRAINT statements_pkey, ADD PRIMARY KEY (id);
