package pairingstore

import (
	"context"
	"time"

	"github.com/riverqueue/river"

	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
)

// AskComparison notes that pairings are to be compared, and with run to be brought in step,
// and queues the work: once per interface, however many they are.
func AskComparison(ctx context.Context, tx *db.Tx, who string, run bool, pairings ...Pairing) error {
	var ids []string
	connections := map[string]bool{}
	var work []river.JobArgs
	for _, p := range pairings {
		ids = append(ids, p.ID)
		if !connections[p.InterfaceID] {
			connections[p.InterfaceID] = true
			work = append(work, jobs.WorkAsked{InterfaceID: p.InterfaceID})
		}
	}
	if len(ids) == 0 {
		return nil
	}
	// clock_timestamp: what was asked for counts from now, not from the transaction's begin.
	_, err := db.Exec(ctx, tx, `UPDATE pairings SET asked_at = clock_timestamp(), asked_by = $2,
		asked_run = (asked_run AND asked_at IS NOT NULL) OR $3 WHERE id = ANY ($1::text[]::uuid[])`, ids, who, run)
	if err != nil {
		return db.Known(err, "asking for comparisons")
	}
	return tx.Enqueue(ctx, work...)
}

// AskedPairings lists pairings with an interface whose comparison was asked for, and how
// many there are. What a person asked for comes first.
func AskedPairings(ctx context.Context, from db.From, interfaceID string, limit int) (all []Pairing, total int,
	err error,
) {
	err = db.Into(ctx, from, &total, `SELECT count(*) FROM pairings WHERE interface_id = $1 AND asked_at IS NOT NULL
		AND ended_at IS NULL`, interfaceID)
	if err == nil {
		err = from.Records(ctx).Where("interface_id = ? AND asked_at IS NOT NULL AND ended_at IS NULL",
			interfaceID).Order("asked_by = 'schedule', asked_at, id").Limit(limit).Find(&all).Error
	}
	return all, total, db.Known(err, "listing what is to be compared")
}

// KeepAskTrouble keeps why comparisons through an interface do not come about; empty when
// they do again.
func KeepAskTrouble(ctx context.Context, from db.From, interfaceID, code, text string) error {
	_, err := db.Exec(ctx, from, `UPDATE interfaces SET trouble_code = $2, trouble = $3
		WHERE id = $1 AND (trouble_code, trouble) <> ($2, $3)`, interfaceID, code, text)
	return db.Known(err, "noting what stops comparisons")
}

// EndAsked notes that what was asked for has been done, unless it was asked for
// again in the meantime. same are the pairings of which nothing new was found.
func EndAsked(ctx context.Context, tx *db.Tx, all []Pairing, same []string) error {
	var ids []string
	var asked []*time.Time
	for _, p := range all {
		ids, asked = append(ids, p.ID), append(asked, p.AskedAt)
	}
	_, err := db.Exec(ctx, tx, `UPDATE pairings p SET asked_at = NULL, asked_run = false,
		compared_at = CASE WHEN p.id = ANY ($3::text[]::uuid[]) THEN now() ELSE p.compared_at END
		FROM unnest($1::text[]::uuid[], $2::timestamptz[]) AS w (id, at) WHERE p.id = w.id AND p.asked_at = w.at`, ids, asked, same)
	return db.Known(err, "noting what was compared")
}
