package scores

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// readBack reads the book again: what was written has to be there, as it was written. What a book shows late is waited
// for as long as its interface says.
func (x *carrying) readBack(ctx context.Context) error {
	if x.files { // until a package of the book is uploaded, nobody knows
		return x.look(ctx)
	}
	until := time.Now().Add(x.c.book.declared.Late)
	for first := true; ; first = false {
		step := "reading back"
		if !first {
			step = "reading back again: not everything shows yet"
		}
		if err := runstore.KeepRunProgress(ctx, x.Store, x.run.ID, step, x.done(), x.run.Total); err != nil {
			return err
		}
		if err := x.withoutDeleted(ctx); err != nil {
			return err
		}
		if err := x.look(ctx); err != nil {
			return err
		}
		missing := x.missing()
		if len(missing) > 0 && len(missing) <= mostAsked { // a book may not tell what changed
			for _, m := range missing {
				if err := x.ask(ctx, oneroster.FileResults, m.BookID); err != nil {
					return err
				}
			}
			if err := x.compareAgain(ctx); err != nil {
				return err
			}
			missing = x.missing()
		}
		if len(missing) == 0 || time.Now().After(until) {
			return x.Store.InTx(ctx, func(tx *db.Tx) error { return x.lost(ctx, tx, missing) })
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// missing are the scores that the book took and does not have as they were written.
func (x *carrying) missing() (list []lost) {
	held := x.c.held()
	for i := range x.changes {
		c := &x.changes[i]
		if c.What != scorestore.AboutScore || c.State != runstore.ChangeDone {
			continue
		}
		if now := held[*c.ItemID+"/"+*c.PersonID]; !x.c.policy.Same(now, *c.Sent) {
			list = append(list, lost{c, now})
		}
	}
	return list
}

// lost notes scores that did not arrive. What the book does not have at all was not carried.
func (x *carrying) lost(ctx context.Context, tx *db.Tx, missing []lost) error {
	for _, m := range missing {
		at := x.Clock.Now()
		c, now := m.Change, m.now
		c.State, c.FinishedAt = runstore.ChangeNotArrived, &at
		if now.Blank() {
			c.Code, c.Answer = string(finding.NotArrived), "accepted by the book, but not there when read back"
			if err := scorestore.KeepCarried(ctx, tx, scorestore.Carried{
				ItemID: *c.ItemID, PersonID: *c.PersonID,
			}); err != nil {
				return err
			}
		} else {
			c.Code = string(finding.ScoreKeptOtherwise)
			c.Answer = fmt.Sprintf("%s was sent, and the book has %s", c.Sent, now)
		}
		if err := scorestore.MarkEnded(ctx, tx, *c); err != nil {
			return err
		}
	}
	return nil
}

// mostAsked is how many records are asked for one by one when they do not show among what changed.
const mostAsked = 200

// lost is a score that the book took, with what it has now.
type lost struct {
	*scorestore.Change
	now grade.Mark
}

// ask reads one record of the book and keeps it; one that is not there is gone.
func (x *carrying) ask(ctx context.Context, collection, id string) error {
	record, there, err := x.book.Record(ctx, collection, id)
	if err != nil {
		return err
	}
	if !there {
		return scorestore.DropRecord(ctx, x.Store, x.link.BookInterfaceID, collection, id)
	}
	one, err := recordOf(collection, record)
	if err != nil {
		return nil //nolint:nilerr // it is as good as not there
	}
	return scorestore.KeepRecords(ctx, x.Store, x.link.BookInterfaceID, collection, x.c.book.read.ReadNo,
		[]scorestore.Record{one})
}

// withoutDeleted looks whether what was deleted is gone: among what changed it does not show.
func (x *carrying) withoutDeleted(ctx context.Context) error {
	for _, c := range x.changes {
		if c.What == scorestore.AboutScore && c.State == runstore.ChangeDone && c.Sent.Blank() {
			if err := x.ask(ctx, oneroster.FileResults, c.BookID); err != nil {
				return err
			}
		}
	}
	return nil
}
