package badgestore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// Picture of badges.
type Picture struct {
	ID      string // SHA-256 of the content, in hexadecimal
	Kind    string // image/png or image/svg+xml
	Content []byte
	MadeAt  time.Time
}

// KeepPicture keeps a picture; the same one is kept once.
func KeepPicture(ctx context.Context, tx *db.Tx, p Picture) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO pictures (id, kind, content) VALUES ($1, $2, $3) ON CONFLICT (id) DO NOTHING`,
		p.ID, p.Kind, p.Content)
	return db.Known(err, "keeping the picture")
}

// FindPicture finds one by id.
func FindPicture(ctx context.Context, from db.From, id string) (p Picture, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&p).Error
	return p, db.Known(err, "finding the picture")
}

// SetPicture gives a badge its picture, "" for none of its own. Awards that were given keep theirs.
func SetPicture(ctx context.Context, tx *db.Tx, badgeID, picture string) error {
	_, err := db.Exec(ctx, tx, `UPDATE badges SET picture = $2 WHERE id = $1`, badgeID, picture)
	return db.Known(err, "giving the badge its picture")
}
