package eventstore

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm/clause"

	"kanban/internal/store/db"
)

// StatementDocument is what a platform keeps here under an id: state of an agent in an activity, or a
// profile of an activity or an agent (xAPI 1.0.3, Communication 2.2).
type StatementDocument struct {
	InterfaceID  string `gorm:"primaryKey"`
	Place        []byte `gorm:"primaryKey"` // tells kind, activity and agent from others
	Registration string `gorm:"primaryKey"`
	DocumentID   string `gorm:"primaryKey"`
	ContentType  string
	Body         []byte
	ETag         string `gorm:"column:etag"`
	ChangedAt    time.Time
}

// FindDocument finds one; ok is false when there is none.
func FindDocument(ctx context.Context, from db.From, at StatementDocument) (d StatementDocument, ok bool, err error) {
	err = from.Records(ctx).Where("interface_id = ? AND place = ? AND registration = ? AND document_id = ?",
		at.InterfaceID, at.Place, at.Registration, at.DocumentID).First(&d).Error
	err = db.Known(err, "finding a document")
	if errors.Is(err, db.ErrNotFound) {
		return d, false, nil
	}
	return d, err == nil, err
}

// LockDocument keeps others from changing a document until the transaction ends, one that is not there too.
func LockDocument(ctx context.Context, tx *db.Tx, at StatementDocument) error {
	_, err := db.Exec(ctx, tx, `SELECT pg_advisory_xact_lock(hashtextextended('document/' || $1 || encode($2, 'hex')
		|| $3 || '/' || $4, 0))`, at.InterfaceID, at.Place, at.Registration, at.DocumentID)
	return db.Known(err, "locking a document")
}

// KeepDocument keeps one in place of the one before.
func KeepDocument(ctx context.Context, tx *db.Tx, d StatementDocument) error {
	err := tx.Records(ctx).Clauses(clause.OnConflict{Columns: []clause.Column{
		{Name: "interface_id"}, {Name: "place"}, {Name: "registration"}, {Name: "document_id"},
	}, UpdateAll: true}).Create(&d).Error
	return db.Known(err, "keeping a document")
}

// DropDocuments drops one or, without an id, all of a place: of a registration or, without one, of any.
func DropDocuments(ctx context.Context, tx *db.Tx, at StatementDocument) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM statement_documents WHERE interface_id = $1 AND place = $2
		AND ($3 = '' AND $4 = '' OR registration = $3) AND ($4 = '' OR document_id = $4)`, at.InterfaceID, at.Place,
		at.Registration, at.DocumentID)
	return db.Known(err, "dropping documents")
}

// DocumentIDs lists the ids of a place, ordered: of a registration or, without one, of any; only those that
// were changed after a time, if that is not zero.
func DocumentIDs(ctx context.Context, from db.From, at StatementDocument, after time.Time) ([]string, error) {
	return db.Values[string](ctx, from, "listing documents", `SELECT DISTINCT document_id FROM statement_documents
		WHERE interface_id = $1 AND place = $2 AND ($3 = '' OR registration = $3) AND changed_at > $4 ORDER BY 1`,
		at.InterfaceID, at.Place, at.Registration, after)
}
