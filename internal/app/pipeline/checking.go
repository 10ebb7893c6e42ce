package pipeline

import (
	"bytes"
	"context"
	"slices"
	"time"

	"kanban/internal/core/learning"
	"kanban/internal/store/db"
	"kanban/internal/store/learningstore"
)

// checkedAtOnce is how many people's progress is compared at a time.
const checkedAtOnce = 500

// CheckProgress compares the progress that is kept of everybody in a course with what is recorded of their activities,
// by the present outline, and gives how many it looked at and of how many the two differ. With mend the kept progress
// is set right; no event follows. What is behind an outline that changed is worked out elsewhere and is not compared.
func (s *Facts) CheckProgress(ctx context.Context, courseID string, mend bool) (checked, wrong int, err error) {
	all, err := s.Outlines.CompiledOf(ctx, []string{courseID})
	now := all[courseID]
	if err != nil || now.Course == nil {
		return 0, 0, err
	}
	for after := (learningstore.ProgressRow{}); ; {
		list, err := learningstore.KeptProgress(ctx, s.Store, courseID, now.Version, after, checkedAtOnce)
		if err != nil || len(list) == 0 {
			return checked, wrong, err
		}
		after = list[len(list)-1]
		states, err := learningstore.States(ctx, s.Store, list)
		if err != nil {
			return checked, wrong, err
		}
		checked += len(list)
		for _, g := range list {
			if right, _ := counted(now, g, states[g.Key()]); right {
				continue
			}
			differs, err := s.checkOne(ctx, now, courseID, g, mend) // once nobody is at it
			if err != nil {
				return checked, wrong, err
			}
			if differs {
				wrong++
			}
		}
	}
}

// checkOne compares somebody's progress while nobody else changes it.
func (s *Facts) checkOne(ctx context.Context, now learning.CompiledOutline, courseID string,
	g learningstore.ProgressRow, mend bool,
) (differs bool, err error) {
	err = db.Again(func() error {
		return s.Store.InTx(ctx, func(tx *db.Tx) error {
			locked, _, err := learningstore.LockProgress(ctx, tx, []learningstore.ProgressRow{g}, nil)
			if err != nil || len(locked) != 1 || locked[0].Version != now.Version {
				return err
			}
			states, err := learningstore.States(ctx, tx, locked)
			if err != nil {
				return err
			}
			right, is := counted(now, locked[0], states[g.Key()])
			if differs = !right; right || !mend {
				return nil
			}
			return s.keepLater(ctx, tx, courseID, []learningstore.ProgressRow{is}, nil, nil)
		})
	})
	return differs, err
}

// counted works progress out of what is recorded, and says whether it is so.
func counted(now learning.CompiledOutline, g learningstore.ProgressRow, state learning.State) (right bool,
	is learningstore.ProgressRow,
) {
	is = g
	is.DoneBits = now.DoneBits(state)
	if is.DoneBits == nil {
		is.DoneBits = learning.DoneBits{}
	}
	is.Percent = now.Percent(is.DoneBits)
	is.FirstAt, is.LastAt = timesOf(state)
	trim := func(b learning.DoneBits) []byte { return bytes.TrimRight(b, "\x00") }
	same := func(a, b *time.Time) bool { return a == nil && b == nil || a != nil && b != nil && a.Equal(*b) }
	return slices.Equal(trim(g.DoneBits), trim(is.DoneBits)) && g.Percent == is.Percent &&
		same(g.FirstAt, is.FirstAt) && same(g.LastAt, is.LastAt), is
}
