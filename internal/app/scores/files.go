package scores

import (
	"bytes"
	"context"
	"errors"
	"io"
	"time"

	"github.com/cespare/xxhash/v2"

	"kanban/internal/adapter"
	"kanban/internal/adapter/gradebooks"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// Upload reads a OneRoster CSV package of a gradebook: what a file of mode bulk does not have any more is gone, unless
// something in it could not be understood. What was handed over before and is in it is proven.
func (s *Service) Upload(ctx context.Context, who, interfaceID string, content []byte) (r scorestore.Read, err error) {
	c, err := connectionstore.FindInterface(ctx, s.Store, interfaceID)
	if err != nil {
		return r, err
	}
	if c.Kind != adapter.KindScoreFile {
		return r, refusal.Conflict("", "%s is no gradebook of files; it is read by itself", c.Name)
	}
	p, err := oneroster.OpenPackage(bytes.NewReader(content), int64(len(content)), oneroster.Limits{})
	if err != nil {
		return r, refusal.Invalid("", "the package cannot be read: %v", err)
	}
	now := s.Clock.Now()
	r = scorestore.Read{
		InterfaceID: interfaceID, ReadNo: now.UnixMicro(), ReadAt: now, WholeAt: now, Unread: []scorestore.Unread{},
	}
	return r, s.Store.InTx(ctx, func(tx *db.Tx) error {
		scales, err := itemScales(p, &r)
		if err != nil {
			return err
		}
		var complete []string
		some := false
		for _, collection := range gradebooks.Collections {
			mode := p.Modes[collection]
			before := r.UnreadCount
			if err := keepRows(ctx, tx, p, collection, scales, &r); errors.Is(err, oneroster.ErrPackage) {
				return refusal.Invalid("", "the package cannot be read: %v", err)
			} else if err != nil {
				return err
			}
			some = some || mode == oneroster.Bulk || mode == oneroster.Delta
			if mode == oneroster.Bulk && r.UnreadCount == before {
				complete = append(complete, collection)
			}
		}
		if !some {
			return refusal.Invalid("", "the package has no gradebook: none of categories, lineItems, results, scoreScales")
		}
		if err := scorestore.EndRead(ctx, tx, r, true, complete); err != nil {
			return err
		}
		if err := scorestore.Prove(ctx, tx, r, complete); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "uploaded a package of a gradebook", "interface/"+interfaceID,
			map[string]any{"unread": r.UnreadCount}); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", "")
	})
}

// itemScales are the score scales of a package's line items, by line item.
func itemScales(p *oneroster.Package, r *scorestore.Read) (map[string]string, error) {
	k := keeper{collection: oneroster.FileItemScales, read: r}
	scales := map[string]string{}
	err := p.Rows(oneroster.FileItemScales, func(row oneroster.Row) error {
		if oneroster.Word(row.Get("status")) != oneroster.ToBeDeleted {
			scales[row.Get("lineItemSourcedId")] = row.Get(itemScale)
		}
		return nil
	}, func(b oneroster.Bad) error {
		k.unread(b.Line, b.Cause)
		return nil
	}, nil)
	if errors.Is(err, oneroster.ErrPackage) {
		return nil, refusal.Invalid("", "the package cannot be read: %v", err)
	}
	return scales, err
}

// scaledItem is the row of a line item with its score scale.
type scaledItem struct {
	oneroster.Row
	scale string
}

// Get gives a value by column name, "" when there is none.
func (x scaledItem) Get(column string) string {
	if column == itemScale {
		return x.scale
	}
	return x.Row.Get(column)
}

// Sum is a fingerprint of the row and its scale.
func (x scaledItem) Sum() uint64 { return x.Row.Sum() ^ xxhash.Sum64String(x.scale) }

// keepRows keeps the rows of one file.
func keepRows(ctx context.Context, tx *db.Tx, p *oneroster.Package, collection string, scales map[string]string,
	r *scorestore.Read,
) error {
	k := keeper{to: tx, collection: collection, read: r}
	err := p.Rows(collection, func(row oneroster.Row) error {
		if collection == oneroster.FileLineItems {
			return k.keep(ctx, row.Line, scaledItem{row, scales[row.Get("sourcedId")]})
		}
		return k.keep(ctx, row.Line, row)
	}, func(b oneroster.Bad) error {
		k.unread(b.Line, b.Cause)
		return nil
	}, nil)
	if err != nil {
		return err
	}
	return k.flush(ctx)
}

// Package writes what waits to be put into a gradebook of files, as a OneRoster CSV package of mode delta.
func (s *Service) Package(ctx context.Context, interfaceID string, out io.Writer) error {
	c, err := connectionstore.FindInterface(ctx, s.Store, interfaceID)
	if err != nil {
		return err
	}
	if c.Kind != adapter.KindScoreFile {
		return refusal.Conflict("", "%s is no gradebook of files; scores are written there by runs", c.Name)
	}
	all, err := scorestore.HandedOver(ctx, s.Store, interfaceID)
	if err != nil {
		return err
	}
	tables := map[string]oneroster.Table{}
	for _, h := range all {
		t := tables[h.Collection]
		t.Mode, t.Rows = oneroster.Delta, append(t.Rows, h.Record)
		tables[h.Collection] = t
	}
	return oneroster.WritePackage(out, "Kanban", tables)
}

// handedOver reads what waits to be put into the book by a file.
func (x *side) handedOver(ctx context.Context, from db.From, interfaceID string) error {
	all, err := scorestore.HandedOver(ctx, from, interfaceID)
	x.handed, x.unproven = map[string]bool{}, map[string]bool{}
	for _, h := range all {
		switch h.Collection {
		case oneroster.FileLineItems:
			x.handed[h.RemoteID] = true
		case oneroster.FileResults:
			if h.Student != "" { // else it is to be deleted
				x.unproven[h.Item+"/"+h.Student] = true
				x.waiting = append(x.waiting, h.Student)
			}
		case oneroster.FileCategories:
			c := grade.Category{ID: h.RemoteID, Title: h.Record["title"], Weight: -1}
			if x.titles[c.ID] == "" {
				x.categories, x.titles[c.ID] = append(x.categories, c), c.Title
			}
		}
	}
	return err
}

// fileBook is a book that takes files: what is written to it waits for the next package.
type fileBook struct {
	service     *Service
	interfaceID string
}

func (f fileBook) hand(ctx context.Context, collection, id string, h scorestore.Handed) (string, error) {
	h.Collection, h.RemoteID = collection, id
	return id, scorestore.HandOver(ctx, f.service.Store, f.interfaceID, h)
}

// PutCategory hands a category over.
func (f fileBook) PutCategory(ctx context.Context, c grade.Category) (string, error) {
	return f.hand(ctx, oneroster.FileCategories, c.ID, scorestore.Handed{Record: f.values(gradebooks.CategoryRow(c))})
}

// PutItem hands an assignment over.
func (f fileBook) PutItem(ctx context.Context, x gradebooks.Item) (string, error) {
	return f.hand(ctx, oneroster.FileLineItems, x.ID, scorestore.Handed{Record: f.values(gradebooks.ItemRow(x))})
}

// PutResult hands a score over.
func (f fileBook) PutResult(ctx context.Context, id, item, student string, m grade.Mark, at time.Time) (
	string, error,
) {
	return f.hand(ctx, oneroster.FileResults, id, scorestore.Handed{
		Item: item, Student: student, Record: f.values(gradebooks.ResultRow(id, item, student, m, at)),
	})
}

// values gives a row the time of its change.
func (f fileBook) values(row map[string]string) map[string]string {
	row["dateLastModified"] = f.service.Clock.Now().Format("2006-01-02T15:04:05.000Z")
	return row
}

// DeleteResult hands over that a score is deleted.
func (f fileBook) DeleteResult(ctx context.Context, id string) error {
	_, err := f.hand(ctx, oneroster.FileResults, id, scorestore.Handed{
		Record: f.values(map[string]string{"sourcedId": id, "status": oneroster.ToBeDeleted}),
	})
	return err
}

// Record finds nothing: a book of files cannot be asked.
func (f fileBook) Record(context.Context, string, string) (oneroster.Record, bool, error) {
	return nil, false, nil
}

// Grants says that a file can say everything.
func (f fileBook) Grants(context.Context) (read, write, remove bool, err error) {
	return true, true, true, nil
}
