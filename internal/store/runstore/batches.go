package runstore

import (
	"context"
	"encoding/json"
	"time"

	"kanban/internal/store/db"
)

// Batch is something that is done to many at once: shown first, then done exactly so.
type Batch struct {
	ID        string
	Act       string
	Options   json.RawMessage `gorm:"type:jsonb"`
	Items     json.RawMessage `gorm:"type:jsonb"`
	MadeBy    string
	CreatedAt time.Time
	AppliedAt *time.Time
	Approved  bool   // removals above guards
	DoneBy    string // who had it done
	EndedAt   *time.Time
}

// FindBatch finds one by id.
func FindBatch(ctx context.Context, from db.From, id string) (b Batch, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&b).Error
	return b, db.Known(err, "finding the batch")
}

// ApplyBatch takes a batch for doing; ErrTaken means that somebody did it already.
func ApplyBatch(ctx context.Context, tx *db.Tx, id, who string, approved bool) error {
	done, err := db.Exec(ctx, tx, `UPDATE batches SET applied_at = now(), done_by = $2, approved = $3
		WHERE id = $1 AND applied_at IS NULL`, id, who, approved)
	if err == nil && done == 0 {
		return db.ErrTaken
	}
	return db.Known(err, "doing the batch")
}

// KeepResult keeps what became of one item of a batch; the latest counts.
func KeepResult(ctx context.Context, tx *db.Tx, batchID string, item int, result json.RawMessage) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO batch_results (batch_id, item, result) VALUES ($1, $2, $3)
		ON CONFLICT (batch_id, item) DO UPDATE SET result = excluded.result`, batchID, item, string(result))
	return db.Known(err, "keeping what became of an item")
}

// BatchResults gives what became of a batch's items so far, by their place in it.
func BatchResults(ctx context.Context, from db.From, id string) (map[int]json.RawMessage, error) {
	return db.Map[int, json.RawMessage](ctx, from, "finding what became of a batch", `SELECT item AS key,
		result AS value FROM batch_results WHERE batch_id = $1`, id)
}

// EndBatch keeps a batch's items with what became of them, once all were tried.
func EndBatch(ctx context.Context, tx *db.Tx, id string, items json.RawMessage) error {
	_, err := db.Exec(ctx, tx, `UPDATE batches SET items = $2, ended_at = now() WHERE id = $1`, id, string(items))
	if err == nil {
		_, err = db.Exec(ctx, tx, `DELETE FROM batch_results WHERE batch_id = $1`, id)
	}
	return db.Known(err, "keeping what became of a batch")
}

// BatchRuns lists the runs of a batch.
func BatchRuns(ctx context.Context, from db.From, id string) (all []Run, err error) {
	err = from.Records(ctx).Where("batch_id = ?", id).Order("id").Find(&all).Error
	return all, db.Known(err, "listing the batch's runs")
}

// ListedBatch is a batch that was done, with how many it was about and how its runs are.
type ListedBatch struct {
	ID        string
	Act       string
	MadeBy    string
	AppliedAt time.Time
	Items     int
	Left      int // items that are still to be tried
	Problems  int // items that could not be done
	Runs      int
	Active    int // runs that have not ended
	Failed    int
}

// Batches lists those that were done, the newest first, older than before if given.
func Batches(ctx context.Context, from db.From, before string, limit int) ([]ListedBatch, error) {
	return db.Rows[ListedBatch](ctx, from, "listing batches", `SELECT b.id::text, b.act, b.made_by, b.applied_at,
		jsonb_array_length(b.items) AS items,
			CASE WHEN b.ended_at IS NULL THEN jsonb_array_length(b.items) - (SELECT count(*)::int FROM batch_results x
				WHERE x.batch_id = b.id) ELSE 0 END AS left,
			(SELECT count(*)::int FROM jsonb_array_elements(b.items) i WHERE coalesce(i->>'problem', '') <> '')
				+ (SELECT count(*)::int FROM batch_results x WHERE x.batch_id = b.id
					AND coalesce(x.result->>'problem', '') <> '') AS problems, r.n AS runs, r.active, r.failed
		FROM batches b CROSS JOIN LATERAL (SELECT count(*)::int AS n, count(*) FILTER (WHERE state IN ('queued',
			'running'))::int AS active, count(*) FILTER (WHERE state IN ('failed', 'moved'))::int AS failed FROM runs
			WHERE batch_id = b.id) r
		WHERE b.applied_at IS NOT NULL AND ($1 = '' OR b.id < nullif($1, '')::uuid) ORDER BY b.id DESC LIMIT $2`, before, limit)
}
