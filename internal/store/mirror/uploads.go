package mirror

import (
	"context"
	"encoding/json"
	"errors"

	"kanban/internal/store/db"
	"kanban/internal/wire/oneroster"
)

// AddUpload keeps a package for the run that will read it.
func AddUpload(ctx context.Context, tx *db.Tx, runID string, content []byte) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO uploads (run_id, content) VALUES ($1, $2)`, runID, content)
	return db.Known(err, "keeping the upload")
}

// FindUpload gives the package that a run is to read.
func FindUpload(ctx context.Context, from db.From, runID string) (content []byte, err error) {
	err = db.Into(ctx, from, &content, `SELECT content FROM uploads WHERE run_id = $1`, runID)
	return content, db.Known(err, "finding the upload")
}

// DropUpload removes the package of a run that has ended.
func DropUpload(ctx context.Context, tx *db.Tx, runID string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM uploads WHERE run_id = $1`, runID)
	return db.Known(err, "removing the upload")
}

// RegisterPages keeps the pages of one read until all have come.
type RegisterPages struct {
	*db.Database
	RunID string
}

// Keep stores the next page of a collection. A try that was cut off may have kept it without
// knowing; then this one takes its place.
func (p RegisterPages) Keep(ctx context.Context, collection string, page oneroster.Page) error {
	items, err := json.Marshal(page.Items)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, p, `INSERT INTO register_pages (run_id, collection, read, total, next, items)
		VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (run_id, collection, read, next) DO UPDATE SET total = excluded.total, items = excluded.items`,
		p.RunID, collection, page.Read, page.Total, page.Next, items)
	return db.Known(err, "keeping a page of the register")
}

// Last gives the last page kept, without its items.
func (p RegisterPages) Last(ctx context.Context, collection string) (page oneroster.Page, ok bool, err error) {
	type row struct {
		Read, Total int
		Next        string
	}
	r, err := db.Row[row](ctx, p, "finding the page at which the read broke", `SELECT read, total, next
		FROM register_pages WHERE run_id = $1 AND collection = $2 ORDER BY read DESC, next LIMIT 1`,
		p.RunID, collection)
	if errors.Is(err, db.ErrNotFound) {
		return page, false, nil
	}
	return oneroster.Page{Read: r.Read, Total: r.Total, Next: r.Next}, err == nil, err
}

// Pages gives the pages kept, in order.
func (p RegisterPages) Pages(ctx context.Context, collection string, each func([]json.RawMessage) error) error {
	type row struct {
		Items []json.RawMessage `gorm:"serializer:json"`
	}
	return db.Each(ctx, p, "reading the kept pages", `SELECT items FROM register_pages
		WHERE run_id = $1 AND collection = $2 ORDER BY read`, []any{p.RunID, collection}, func(r row) error { return each(r.Items) })
}

// ReadWhole turns a read of changes into one of everything, from its beginning.
func ReadWhole(ctx context.Context, from *db.Database, runID string) error {
	return from.InTx(ctx, func(tx *db.Tx) error {
		if err := DropPages(ctx, tx, runID); err != nil {
			return err
		}
		_, err := db.Exec(ctx, tx, `UPDATE runs SET since = NULL WHERE id = $1`, runID)
		return db.Known(err, "reading everything")
	})
}

// DropPages removes what a read kept, once it has ended.
func DropPages(ctx context.Context, tx *db.Tx, runID string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM register_pages WHERE run_id = $1`, runID)
	return db.Known(err, "dropping the kept pages")
}
