package reports

import (
	"context"
	"errors"
	"time"

	"kanban/internal/core/refusal"
	"kanban/internal/core/schedule"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/settingstore"
)

// Progress compares the progress that is kept with what is recorded, and sets it right.
type Progress interface {
	CheckProgress(ctx context.Context, courseID string, mend bool) (checked, wrong int, err error)
}

// nightly is when kept progress is compared.
var nightly = schedule.Schedule{Kind: schedule.Daily, At: "02:30"}

// Check gives what the last comparison of kept progress found.
func (s *Service) Check(ctx context.Context) (settingstore.ProgressCheck, error) {
	return settingstore.FindProgressCheck(ctx, s.Store)
}

// StartCheck lets the kept progress be compared now, or counted anew.
func (s *Service) StartCheck(ctx context.Context, who string, mend bool) error {
	was, err := s.Check(ctx)
	if err != nil {
		return err
	}
	now := s.Clock.Now()
	if was.StartedAt != nil && was.StartedAt.After(now.Add(-time.Hour)) {
		return refusal.Conflict("", "it is being done since %s", was.StartedAt.In(s.Location()).Format("15:04"))
	}
	was.StartedAt = &now
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveProgressCheck(ctx, tx, was); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "compared kept progress", "progress", map[string]any{"mend": mend}); err != nil {
			return err
		}
		return tx.Enqueue(ctx, jobs.CheckProgress{Mend: mend})
	})
}

// WorkCheck compares the progress of every course with what is recorded, or counts it anew, and keeps what it found,
// or why it could not be done: then it may be tried again.
func (s *Service) WorkCheck(ctx context.Context, mend bool) error {
	was, err := s.Check(ctx)
	if err != nil {
		return err
	}
	now, err := s.checked(ctx, mend)
	if ctx.Err() != nil {
		return ctx.Err() // cut off: somebody goes on
	}
	if at := s.Clock.Now(); err == nil {
		now.EndedAt = &at
	} else {
		now = was
		now.StartedAt, now.Trouble = nil, err.Error()
	}
	now.NextAt = was.NextAt
	return errors.Join(err, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveProgressCheck(ctx, tx, now); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", "") // what there is to do may be another
	}))
}

func (s *Service) checked(ctx context.Context, mend bool) (now settingstore.ProgressCheck, err error) {
	now.Mended = mend
	courses, err := learningstore.OutlinedCourses(ctx, s.Store)
	for _, c := range courses {
		checked, wrong, err := s.Progress.CheckProgress(ctx, c.ID, mend)
		if err != nil {
			return now, err
		}
		if now.Checked, now.Wrong = now.Checked+checked, now.Wrong+wrong; wrong > 0 {
			now.Courses = append(now.Courses, c.Title)
		}
	}
	return now, err
}

// tickCheck queues the comparison of the night when it is due.
func (s *Service) tickCheck(ctx context.Context, at time.Time) error {
	was, err := s.Check(ctx)
	if err != nil || was.NextAt != nil && was.NextAt.After(at) {
		return err
	}
	due := was.NextAt != nil // at its first look it only says when
	next := nightly.Next(at, s.Location(), 0)
	was.NextAt = &next
	if due {
		was.StartedAt = &at
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveProgressCheck(ctx, tx, was); err != nil || !due {
			return err
		}
		return tx.Enqueue(ctx, jobs.CheckProgress{})
	})
}
