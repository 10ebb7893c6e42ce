package scores

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/core/schedule"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/scorestore"
	"kanban/internal/store/settingstore"
)

const (
	// bySchedule is who asks for what the clock starts.
	bySchedule = "schedule"
	// soon is after how long scores are looked for that a source said are final.
	soon = 10 * time.Second
	// spread is the span over which scheduled links are spread.
	spread = 5 * time.Minute
	// due is how many links one tick starts; the next tick takes the others.
	due = 5_000
	// together is how many links one job looks at, one after the other.
	together = 200
)

// NextRun is when a link runs next by itself after a moment; nil when no clock starts it.
func (s *Service) NextRun(l scorestore.Link, after time.Time) *time.Time {
	zone := s.Zone
	if zone == nil {
		zone = time.UTC
	}
	next := l.Policy.Schedule.Next(after, zone, schedule.Spread(l.ID, spread))
	if next.IsZero() || l.EndedAt != nil {
		return nil
	}
	return &next
}

// Tick starts every link that is due. What was missed while nothing worked happens once. While everything is paused
// nothing is due.
func (s *Service) Tick(ctx context.Context, at time.Time) error {
	m, err := settingstore.FindMaintenance(ctx, s.Store)
	if err != nil || m.Since != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		all, err := scorestore.Due(ctx, tx, at, due)
		if err != nil {
			return err
		}
		var ids []string
		for _, l := range all {
			if err := scorestore.Reschedule(ctx, tx, l.ID, s.NextRun(l, at)); err != nil {
				return err
			}
			if l.RanAt != nil { // the first run is by hand
				ids = append(ids, l.ID)
			}
		}
		for len(ids) > 0 {
			n := min(together, len(ids))
			if err := tx.Enqueue(ctx, jobs.LookForScores{LinkIDs: ids[:n]}); err != nil {
				return err
			}
			ids = ids[n:]
		}
		return nil
	})
}

// Look compares links and starts a run of each that has something to carry. Gradebooks that many have in common are
// read once. What keeps one from being compared is kept with it and stops no other.
func (s *Service) Look(ctx context.Context, linkIDs []string) (err error) {
	for _, id := range linkIDs {
		failed := s.auto(ctx, id)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		_, refused := refusal.As(failed) // paused or ended meanwhile is no failure, nor is unlinked
		if failed != nil && !refused && !errors.Is(failed, db.ErrNotFound) {
			err = errors.Join(err, fmt.Errorf("looking at score link %s: %w", id, failed))
		}
	}
	return err
}

// Noticed lets the links whose source is of a connection look for scores soon: a service of the connection, which has
// the interface, said that scores became final there. Many notices in a short time make one look.
func (s *Service) Noticed(ctx context.Context, tx *db.Tx, interfaceID string) error {
	now := s.Clock.Now()
	return scorestore.Notice(ctx, tx, interfaceID, now, now.Add(soon))
}

// youngest is how old a read may be that answers for a link instead of a new one: never older than what its source
// said last.
func (s *Service) youngest(l scorestore.Link) time.Duration {
	if l.NoticedAt == nil {
		return fresh
	}
	return min(fresh, max(s.Clock.Now().Sub(*l.NoticedAt), time.Nanosecond))
}

// auto carries what a link has to carry without anybody watching. Values of the book's own are replaced only where
// somebody has decided so.
func (s *Service) auto(ctx context.Context, id string) error {
	l, err := scorestore.FindLink(ctx, s.Store, id)
	if err != nil {
		return err
	}
	if err := s.allowed(ctx, l); err != nil {
		return err
	}
	c, trouble, err := s.readAndCompare(ctx, &l, s.youngest(l))
	if trouble != nil || err != nil {
		return err
	}
	plan, err := s.kept(ctx, c)
	if err != nil {
		return err
	}
	work := false
	for i := range plan.Items {
		work = work || plan.Items[i].Outcome == grade.ItemMade
		for k := range plan.Items[i].Entries {
			e := &plan.Items[i].Entries[k]
			if e.Outcome == grade.Replacing && e.Reason != finding.ScoreDecided {
				e.Outcome = grade.Conflict
			}
			work = work || e.Outcome.Writes()
		}
	}
	if !work {
		return nil
	}
	p, err := s.keepPreview(ctx, c, plan, nil)
	if err != nil {
		return err
	}
	_, err = s.Start(ctx, bySchedule, p.ID, true)
	if _, refused := refusal.As(err); refused {
		return nil // a run is at work, or the link was paused meanwhile
	}
	return err
}
