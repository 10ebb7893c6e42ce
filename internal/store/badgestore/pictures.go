package badgestore

import (
	"context"
	"time"

	"kanban/internal/core/badge"
	"kanban/internal/store/db"
)

// Picture of badges.
type Picture struct {
	ID      string // SHA-256 of the content, in hexadecimal
	Kind    string // image/png or image/svg+xml
	Content []byte
	PNG     []byte `gorm:"column:png"` // the same as PNG, of one that is drawn here
	MadeAt  time.Time
}

// KeepPicture keeps a picture; the same one is kept once.
func KeepPicture(ctx context.Context, tx *db.Tx, p Picture) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO pictures (id, kind, content, png) VALUES ($1, $2, $3, $4)
		ON CONFLICT (id) DO UPDATE SET png = coalesce(pictures.png, excluded.png)`, p.ID, p.Kind, p.Content, p.PNG)
	return db.Known(err, "keeping the picture")
}

// FindPicture finds one by id.
func FindPicture(ctx context.Context, from db.From, id string) (p Picture, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&p).Error
	return p, db.Known(err, "finding the picture")
}

// PictureKind is of which kind a picture is, and whether it is there as PNG too.
func PictureKind(ctx context.Context, from db.From, id string) (kind string, png bool, err error) {
	type row struct {
		Kind string
		PNG  bool
	}
	r, err := db.Row[row](ctx, from, "finding the picture", `SELECT kind, png IS NOT NULL AS png FROM pictures
		WHERE id = $1`, id)
	return r.Kind, r.PNG, err
}

// DesignOfIssuer is how the picture of the newest badge of an issuer is drawn that is drawn here; nil when none is.
func DesignOfIssuer(ctx context.Context, from db.From, issuerID string) (*badge.Design, error) {
	var all []Badge
	err := from.Records(ctx).Where("issuer_id = ? AND jsonb_typeof(design) = 'object'", issuerID).
		Order("created_at DESC, id DESC").Limit(1).Find(&all).Error
	if err != nil || len(all) == 0 {
		return nil, db.Known(err, "finding a drawn picture")
	}
	return all[0].Design, nil
}

// SetPicture gives a badge its picture, "" for none of its own, and how it is drawn if it is drawn here. Awards
// that were given keep theirs.
func SetPicture(ctx context.Context, tx *db.Tx, badgeID, picture string, design *badge.Design) error {
	b := Badge{ID: badgeID, Picture: picture, Design: design}
	err := tx.DB.WithContext(ctx).Select("picture", "design").Updates(&b).Error
	return db.Known(err, "giving the badge its picture")
}

// SetIssuerPicture gives an issuer its picture, "" for none.
func SetIssuerPicture(ctx context.Context, tx *db.Tx, issuerID, picture string) error {
	_, err := db.Exec(ctx, tx, `UPDATE issuers SET picture = $2 WHERE id = $1`, issuerID, picture)
	return db.Known(err, "giving the issuer its picture")
}
