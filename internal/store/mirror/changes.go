package mirror

import (
	"context"

	"kanban/internal/store/db"
)

// SectionsChanged notes that lists of sections show something else from now on.
func SectionsChanged(ctx context.Context, tx *db.Tx) error {
	_, err := db.Exec(ctx, tx, `UPDATE section_version SET version = version + 1`)
	return db.Known(err, "noting that sections changed")
}
