package rulestore

import (
	"context"

	"kanban/internal/store/db"
)

// SumUpFirings sums up how often rules fired.
func SumUpFirings(ctx context.Context, from db.From) error {
	_, err := db.Exec(ctx, from, `WITH folded AS (DELETE FROM rule_counts RETURNING rule_id, fired, delivered)
		INSERT INTO rule_counts (rule_id, fired, delivered) SELECT rule_id, sum(fired), sum(delivered) FROM folded
			GROUP BY rule_id`)
	return db.Known(err, "summing up")
}
