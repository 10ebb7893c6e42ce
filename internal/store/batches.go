package store

import (
	"context"
	"encoding/json"
	"time"
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
}

// Batch finds one by id.
func (s *Store) Batch(ctx context.Context, id string) (b Batch, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&b).Error
	return b, known(err, "finding the batch")
}

// ApplyBatch takes a batch for doing; ErrTaken means that somebody did it already.
func (tx *Tx) ApplyBatch(ctx context.Context, id string) error {
	done, err := tx.PGX.Exec(ctx, `UPDATE batches SET applied_at = now() WHERE id = $1 AND applied_at IS NULL`, id)
	if err == nil && done.RowsAffected() == 0 {
		return ErrTaken
	}
	return known(err, "doing the batch")
}

// KeepItems keeps what became of a batch's items.
func (tx *Tx) KeepItems(ctx context.Context, id string, items json.RawMessage) error {
	_, err := tx.PGX.Exec(ctx, `UPDATE batches SET items = $2 WHERE id = $1`, id, string(items))
	return known(err, "keeping what became of a batch")
}

// BatchRuns lists the runs of a batch.
func (s *Store) BatchRuns(ctx context.Context, id string) (all []Run, err error) {
	err = s.reader(ctx).Where("batch_id = ?", id).Order("id").Find(&all).Error
	return all, known(err, "listing the batch's runs")
}
