package stages

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/stagestore"
)

// atOnce is for how many people stages are worked out in one transaction.
const atOnce = 100

// WorkOut works out how far everybody has come whom a stage plan is about.
func (s *Service) WorkOut(ctx context.Context, planID string) error {
	p, err := stagestore.FindStagePlan(ctx, s.Store, planID)
	if err != nil {
		if errors.Is(err, db.ErrNotFound) {
			return nil // was removed
		}
		return err
	}
	for after := ""; ; {
		people, err := stagestore.PeopleOfStagePlan(ctx, s.Store, p.ID, p.CourseID, after, atOnce)
		if err != nil || len(people) == 0 {
			return err
		}
		after = people[len(people)-1]
		if err := s.workOut(ctx, p.ID, people); err != nil {
			return err
		}
	}
}

// Touched works out how far people have come, after something happened in courses or to
// badges.
func (s *Service) Touched(ctx context.Context, people, courses, badges []string) error {
	all, err := stagestore.StagePlansOn(ctx, s.Store)
	if err != nil {
		return err
	}
	for _, p := range all {
		watch := stage.Watching(p.Plan())
		if !among(watch.Courses, courses) && !among(watch.Badges, badges) {
			continue
		}
		for list := range slices.Chunk(people, atOnce) {
			if err := s.workOut(ctx, p.ID, list); err != nil {
				return err
			}
		}
	}
	return nil
}

func among(watched map[string]bool, ids []string) bool {
	return slices.ContainsFunc(ids, func(id string) bool { return watched[id] })
}

// workOut works out how far some people have come in a stage plan, records which stages
// they reach and which are open again, and has the badges awarded.
func (s *Service) workOut(ctx context.Context, planID string, people []string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		p, on, err := stagestore.HoldStagePlan(ctx, tx, planID)
		if err != nil || !on {
			return err
		}
		list, err := stagestore.LockStageProgress(ctx, tx, p, people)
		if err != nil || len(list) == 0 {
			return err
		}
		people := make([]string, len(list))
		for i, c := range list {
			people[i] = c.PersonID
		}
		known, err := s.evidenceOf(ctx, tx, p, people)
		if err != nil {
			return err
		}
		now := s.Clock.Now()
		var changed []stagestore.StageProgress
		var events []eventstore.Event
		for _, c := range list {
			next, happened := step(p, c, known[c.PersonID], now)
			if next.Round != c.Round || next.Next != c.Next || next.Percent != c.Percent {
				changed = append(changed, next)
			}
			events = append(events, happened...)
		}
		if len(changed) == 0 {
			return nil
		}
		if err := stagestore.KeepStageProgress(ctx, tx, p.ID, changed); err != nil {
			return err
		}
		if err := s.award(ctx, tx, p, events, now); err != nil {
			return err
		}
		return tx.Announce(ctx, "stage-plan", p.ID)
	})
}

// step gives how far somebody has come now, and what happened on the way.
func step(p stagestore.StagePlan, c stagestore.StageProgress, known *evidence,
	now time.Time,
) (stagestore.StageProgress, []eventstore.Event) {
	plan := p.Plan()
	standing := plan.ProgressOf(known.Evidence)
	reached, reopened := plan.Changes(func(id string) bool { _, there := c.Reached[id]; return there }, standing)
	next, _ := plan.Next(standing)
	now = now.UTC().Truncate(time.Microsecond) // as it is kept
	kept := map[string]time.Time{}
	for i, stage := range p.Stages { // stages that are gone are forgotten
		if at, there := c.Reached[stage.ID]; there && standing.Stages[i].Reached {
			kept[stage.ID] = at
		}
	}
	out := stagestore.StageProgress{
		PersonID: c.PersonID, Reached: kept, Next: next.ID, Percent: standing.Percent,
		Round: c.Round, CreatedAt: c.CreatedAt, FoundAt: c.FoundAt,
	}
	if c.Round == 0 && c.Next == "" && len(reached) > 0 { // they are looked at for the first time
		out.FoundAt = &now
	}
	if len(reached)+len(reopened) > 0 || len(kept) != len(c.Reached) {
		out.Round++
	}
	var events []eventstore.Event
	tell := func(what rule.Trigger, stage stage.Stage) {
		events = append(events, eventstore.Event{
			Type: string(what), NaturalKey: fmt.Sprintf("%s/%s/%s/%s/%d", what, p.ID, stage.ID, c.PersonID,
				out.Round), PersonID: &out.PersonID, SectionID: known.section, CourseID: &p.CourseID, OccurredAt: now,
			Data: map[string]any{
				"stage": stage.Title, "stageId": stage.ID, "stagePlan": p.Name, "stagePlanId": p.ID,
				"percent": standing.Percent, "finished": standing.Finished,
			},
		})
	}
	for _, stage := range reopened {
		tell(rule.StageReopened, stage)
	}
	for _, stage := range reached {
		out.Reached[stage.ID] = now
		tell(rule.StageReached, stage)
	}
	return out, events
}

// award records events and makes the deliveries that award the badges of the stages that
// were reached.
func (s *Service) award(ctx context.Context, tx *db.Tx, p stagestore.StagePlan, events []eventstore.Event,
	now time.Time,
) error {
	fresh, err := eventstore.RecordEvents(ctx, tx, events)
	if err != nil {
		return err
	}
	badges := map[string]string{}
	for _, stage := range p.Stages {
		badges[stage.ID] = stage.BadgeID
	}
	var made []deliverystore.Delivery
	var ids []string
	for _, e := range events {
		_, stage := e.Thing()
		if e.Type != string(rule.StageReached) || badges[stage] == "" || !slices.Contains(fresh, e.ID) {
			continue
		}
		made = append(made, deliverystore.Delivery{
			ID: db.NewID(), EventID: e.ID, StagePlanID: &p.ID, RuleVersion: p.Version, PersonID: e.PersonID,
			SectionID: e.SectionID,
			Action:    rule.Action{Kind: rule.Award, BadgeID: badges[stage]}, State: deliverystore.DeliveryPlanned,
			DueAt: &now,
		})
		ids = append(ids, made[len(made)-1].ID)
	}
	if _, err := deliverystore.AddDeliveries(ctx, tx, made); err != nil {
		return err
	}
	return deliverystore.QueuePlanned(ctx, tx, now, ids...)
}
