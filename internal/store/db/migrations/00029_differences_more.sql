-- +goose Up

-- Whether there were more differences is no number.
ALTER TABLE read_differences ALTER more TYPE boolean USING more <> 0;

-- +goose Down
ALTER TABLE read_differences ALTER more TYPE int USING more::int;
