// Package history keeps what happened for as long as the institution says: events,
// deliveries and their attempts go month by month.
package history

import (
	"context"
	"errors"
	"time"

	"kanban/internal/core/clock"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/scorestore"
	"kanban/internal/store/settingstore"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	Clock clock.Clock
}

// setting holds for how many whole months history is kept; 0 is for ever.
const setting = "history"

// Bounds of how long history is kept, in months. Rules look back, wait and revert
// what they did, so that a few months are always there.
const (
	fewest = 3
	most   = 240
)

type kept struct {
	Months int `json:"months"`
}

// Month is what is kept of one month, and when it goes.
type Month struct {
	eventstore.Month
	GoesAt *time.Time // nil for never
}

// History is for how long what happened is kept, and what there is, the oldest first.
type History struct {
	Months int // 0 for ever
	Kept   []Month
}

// Show tells how long history is kept, and what there is.
func (s *Service) Show(ctx context.Context) (History, error) {
	months, err := s.months(ctx)
	if err != nil {
		return History{}, err
	}
	return s.as(ctx, months)
}

func (s *Service) months(ctx context.Context) (int, error) {
	var k kept
	_, err := settingstore.FindSetting(ctx, s.Store, setting, &k)
	return k.Months, err
}

// as tells what there would be with history kept for so many months. Months that are
// still to come are not listed.
func (s *Service) as(ctx context.Context, months int) (History, error) {
	list, err := eventstore.Months(ctx, s.Store)
	if err != nil {
		return History{}, err
	}
	h := History{Months: months, Kept: []Month{}}
	for _, m := range list {
		if m.First.After(s.Clock.Now()) {
			continue
		}
		x := Month{Month: m}
		if months > 0 {
			goes := m.First.AddDate(0, months+1, 0)
			x.GoesAt = &goes
		}
		h.Kept = append(h.Kept, x)
	}
	return h, nil
}

// gone counts the months that would go at once.
func (s *Service) gone(h History) (n int) {
	for _, m := range h.Kept {
		if m.GoesAt != nil && !m.GoesAt.After(s.Clock.Now()) {
			n++
		}
	}
	return n
}

// Keep changes for how many months history is kept, 0 for ever. gone is how many months
// whoever asks knows to go at once by it; when it is another number, nothing changes.
func (s *Service) Keep(ctx context.Context, who string, months, gone int) (History, error) {
	if months != 0 && (months < fewest || months > most) {
		return History{}, refusal.Invalid("months", "history is kept for %d to %d months, or for ever with 0", fewest,
			most)
	}
	h, err := s.as(ctx, months)
	if err != nil {
		return h, err
	}
	if n := s.gone(h); n != gone {
		return h, refusal.Conflict("",
			"%d months of history would go at once and cannot be had back; say so with gone = %d if that is meant", n,
			n)
	}
	return h, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, setting, kept{months}); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "changed how long history is kept", "history",
			map[string]int{"months": months, "gone": gone})
	})
}

// countsFor is how many days counts of what was refused are kept.
const countsFor = 60

// previewsFor is how long a preview can be looked at and run.
const previewsFor = 30 * 24 * time.Hour

// Tend makes room for the months to come, removes those that are over for long enough
// and previews that are old, and sums up what rules did. It can be done at any time and any number of times.
func (s *Service) Tend(ctx context.Context) error {
	err := errors.Join(s.Store.EnsurePartitions(ctx, s.Clock.Now()), rulestore.SumUpFirings(ctx, s.Store),
		pairingstore.ForgetPreviews(ctx, s.Store, s.Clock.Now().Add(-previewsFor)),
		scorestore.DropPreviews(ctx, s.Store, s.Clock.Now().Add(-previewsFor)),
		eventstore.ForgetRefused(ctx, s.Store, s.Clock.Now().AddDate(0, 0, -countsFor)))
	_, deleted := connectionstore.DeleteInterfaces(ctx, s.Store, s.Clock.Now().Add(-connectionstore.RemovedFor))
	_, emptied := connectionstore.DeleteConnections(ctx, s.Store, s.Clock.Now().Add(-connectionstore.RemovedFor))
	err = errors.Join(err, deleted, emptied)
	months, problem := s.months(ctx)
	if problem != nil || months == 0 {
		return errors.Join(err, problem)
	}
	return errors.Join(err, eventstore.Drop(ctx, s.Store, db.MonthOf(s.Clock.Now()).AddDate(0, -months, 0)))
}
