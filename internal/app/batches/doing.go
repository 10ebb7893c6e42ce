package batches

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
)

// results fills in what became of a batch's items so far.
func (s *Service) results(ctx context.Context, b *Batch) error {
	kept, err := runstore.BatchResults(ctx, s.Store, b.ID)
	if err != nil {
		return err
	}
	b.tried, b.Tried = map[int]bool{}, len(kept)
	for n, text := range kept {
		if n >= len(b.Items) {
			return fmt.Errorf("the batch has no item %d", n)
		}
		var r Result
		if err := json.Unmarshal(text, &r); err != nil {
			return fmt.Errorf("reading what became of item %d: %w", n, err)
		}
		b.tried[n], b.Items[n].Result = true, r
	}
	return nil
}

// keepResult keeps what became of an item, in the transaction in which it happened where
// there is one.
func keepResult(ctx context.Context, tx *db.Tx, b Batch, n int) error {
	text, err := json.Marshal(b.Items[n].Result)
	if err != nil {
		return err
	}
	if err := runstore.KeepResult(ctx, tx, b.ID, n, text); err != nil {
		return err
	}
	return tx.Announce(ctx, "batch", b.ID)
}

// doneAlready reports whether an item that cannot be done was done before: by a try that ended while its
// transaction was being committed, so that this one did not see it yet. What that has kept counts; what is
// still to do of it is done.
func (s *Service) doneAlready(ctx context.Context, b Batch, n int) (yes bool, err error) {
	kept, err := runstore.BatchResults(ctx, s.Store, b.ID)
	if err != nil {
		return false, err
	}
	var before Result
	if len(kept[n]) == 0 || json.Unmarshal(kept[n], &before) != nil || !before.Done {
		return false, nil
	}
	i := &b.Items[n]
	if i.Result = before; i.Rename == "" || i.Named {
		return true, nil
	}
	if err := s.do(ctx, b, n); err != nil {
		return true, err
	}
	return true, s.Store.InTx(ctx, func(tx *db.Tx) error { return keepResult(ctx, tx, b, n) })
}

// CarryOut does what a batch shows, one item after the other, and goes on where it was
// left. What is blocked is left out; what cannot be done any more says why and keeps none
// of the others back.
func (s *Service) CarryOut(ctx context.Context, id string) error {
	b, err := s.Batch(ctx, id)
	if err != nil || b.EndedAt != nil || b.AppliedAt == nil {
		return err
	}
	for n := range b.Items {
		i := &b.Items[n]
		if b.tried[n] && (!i.Done || i.Rename == "" || i.Named) {
			continue
		}
		switch {
		case i.Blocked():
		case i.Guard > 0 && !b.approved:
			i.Problem = fmt.Sprintf("it would take %d people out, which nobody approved", i.Guard)
		default:
			err := s.do(ctx, b, n)
			if err != nil && ctx.Err() == nil {
				done, err := s.doneAlready(ctx, b, n)
				switch {
				case err != nil:
					return err
				case done:
					continue
				}
			}
			if ctx.Err() != nil {
				return ctx.Err() // whoever goes on tries it again
			}
			switch {
			case errors.Is(err, db.ErrTaken):
				i.Problem = "it, or the class, was paired in the meantime"
			case err != nil:
				i.Problem = err.Error()
			}
			i.Done = i.Problem == ""
		}
		if err := s.Store.InTx(ctx, func(tx *db.Tx) error { return keepResult(ctx, tx, b, n) }); err != nil {
			return err
		}
	}
	b.sort()
	items, err := json.Marshal(b.Items)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := runstore.EndBatch(ctx, tx, id, items); err != nil {
			return err
		}
		return tx.Announce(ctx, "batch", id)
	})
}
