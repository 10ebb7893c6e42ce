package scores

import (
	"context"
	"slices"
	"time"

	"kanban/internal/adapter/gradebooks"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// categories makes those that the book lacks. Doing it again makes none twice: its id is the same every time.
func (x *carrying) categories(ctx context.Context) error {
	for i := range x.changes {
		c := &x.changes[i]
		if c.What != scorestore.AboutCategory || !c.Open() {
			continue
		}
		at := slices.IndexFunc(x.plan.Makes, func(m grade.Category) bool { return m.ID == c.BookID })
		var err error
		if at >= 0 { // else it is there by now
			if err = scorestore.MarkStarted(ctx, x.Store, x.run.ID, []int{c.Position}); err != nil {
				return err
			}
			_, err = x.book.PutCategory(ctx, x.plan.Makes[at])
			if err != nil && !x.refused(err) {
				return err
			}
		}
		if err := x.Store.InTx(ctx, func(tx *db.Tx) error { return x.ended(ctx, tx, c, err) }); err != nil {
			return err
		}
	}
	return nil
}

// assignments makes those that the book lacks, under ids of our own that are the same every time.
func (x *carrying) assignments(ctx context.Context) error {
	var made []*scorestore.Change
	for i := range x.changes {
		c := &x.changes[i]
		if c.What != scorestore.AboutAssignment || !c.Open() {
			continue
		}
		if err := runstore.KeepRunProgress(ctx, x.Store, x.run.ID, "making "+c.Title, x.done(),
			x.run.Total); err != nil {
			return err
		}
		if err := x.assignment(ctx, c); err != nil {
			return err
		}
		if c.State == runstore.ChangeDone {
			made = append(made, c)
		}
	}
	if len(made) == 0 {
		return nil
	}
	if x.files {
		return x.look(ctx)
	}
	return x.seen(ctx, made)
}

// seen waits until the book shows the assignments that were made, for as long as its interface says. One that it took
// and does not have is made again another time.
func (x *carrying) seen(ctx context.Context, made []*scorestore.Change) error {
	until := time.Now().Add(x.c.book.declared.Late)
	for {
		if err := x.look(ctx); err != nil {
			return err
		}
		shown := func(c *scorestore.Change) bool {
			item, there := x.c.book.items[c.BookID]
			return there && !item.Gone
		}
		hidden := slices.DeleteFunc(slices.Clone(made), shown)
		for _, c := range hidden {
			if err := x.ask(ctx, oneroster.FileLineItems, c.BookID); err != nil {
				return err
			}
		}
		if len(hidden) > 0 {
			if err := x.compareAgain(ctx); err != nil {
				return err
			}
		}
		hidden = slices.DeleteFunc(hidden, shown)
		if len(hidden) == 0 {
			return nil
		}
		if time.Now().After(until) {
			return x.unmade(ctx, hidden)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// unmade notes assignments that the book took and does not have.
func (x *carrying) unmade(ctx context.Context, hidden []*scorestore.Change) error {
	err := x.Store.InTx(ctx, func(tx *db.Tx) error {
		for _, c := range hidden {
			for _, row := range x.c.rows {
				if row.ID != *c.ItemID {
					continue
				}
				row.BookItem, row.Made, row.LinkedAt = "", false, nil
				if err := scorestore.UpdateItem(tx, &row); err != nil {
					return err
				}
			}
			c.State, c.Code = runstore.ChangeNotArrived, string(finding.NotArrived)
			c.Answer = "accepted by the book, but not there when read back"
			if err := scorestore.MarkEnded(ctx, tx, *c); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return x.compareAgain(ctx)
}

func (x *carrying) assignment(ctx context.Context, c *scorestore.Change) error {
	at := slices.IndexFunc(x.c.rows, func(r scorestore.Item) bool { return r.ID == *c.ItemID })
	if at < 0 {
		return x.Store.InTx(ctx, func(tx *db.Tx) error { return x.ended(ctx, tx, c, errGone) })
	}
	row := x.c.rows[at]
	if row.BookItem != "" { // it was linked meanwhile, or made before the run was cut off
		return x.Store.InTx(ctx, func(tx *db.Tx) error { return x.ended(ctx, tx, c, nil) })
	}
	if plan := x.plan.Item(row.ID); plan == nil || plan.Outcome != grade.ItemMade {
		c.Code = string(finding.ItemNotReady)
		return x.Store.InTx(ctx, func(tx *db.Tx) error { return x.ended(ctx, tx, c, errNotReady) })
	}
	if err := scorestore.MarkStarted(ctx, x.Store, x.run.ID, []int{c.Position}); err != nil {
		return err
	}
	in, _ := x.c.sectionOf(row.SectionID)
	item := gradebooks.Item{LineItem: x.c.source.items[row.SourceItem].LineItem, Class: in.class}
	item.ID = c.BookID
	item.Category, _, _ = x.c.categoryOf(row)
	settled, period := x.c.candidate(row, in, grade.Item{Source: item.LineItem})
	if item.Period = period; settled.Basis == grade.ByAssigned && item.Due.IsZero() && x.c.book.declared.Needs.Due {
		item.Due = item.Assigned
	}
	id, err := x.book.PutItem(ctx, item)
	if err != nil && !x.refused(err) {
		return err
	}
	now := x.Clock.Now()
	return x.Store.InTx(ctx, func(tx *db.Tx) error {
		if err == nil {
			row.BookItem, row.Made, row.LinkedBy, row.LinkedAt = id, true, x.run.RequestedBy, &now
			c.BookID = id
			if err := scorestore.UpdateItem(tx, &row); err != nil {
				return err
			}
			x.c.rows[at] = row
		}
		return x.ended(ctx, tx, c, err)
	})
}
