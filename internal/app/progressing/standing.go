package progressing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"kanban/internal/core/learning"
	"kanban/internal/core/progression"
	"kanban/internal/core/rule"
	"kanban/internal/store"
)

// reader is what evidence is read from: the store, or a transaction that has locked what
// is written afterwards.
type reader interface {
	Studied(ctx context.Context, people, courses []string) ([]store.Studied, error)
	States(ctx context.Context, of []store.Standing) (map[[2]string]learning.State, error)
	Bests(ctx context.Context, people, activities []string) ([]store.Best, error)
	BadgesHeld(ctx context.Context, people []string) (map[string]map[string]bool, error)
}

// evidence is what is known of one person.
type evidence struct {
	progression.Evidence
	section *string // of the progression's course: where they are now, or were last
}

// evidenceOf reads what is known of people, as far as a progression asks for it. Modules
// and courses are told by the tallies of progress: what it costs does not grow with the
// length of a course.
func (s *Service) evidenceOf(ctx context.Context, from reader, p store.Progression, people []string) (map[string]*evidence, error) {
	watch := progression.Watching(p.Ladder())
	courses := slices.Sorted(maps.Keys(watch.Courses))
	editions, err := s.Editions(ctx, courses)
	if err != nil {
		return nil, err
	}
	held, err := from.BadgesHeld(ctx, people)
	if err != nil {
		return nil, err
	}
	out := make(map[string]*evidence, len(people))
	for _, id := range people {
		out[id] = &evidence{Evidence: progression.Evidence{Modules: map[progression.Key]bool{}, Courses: map[string]bool{}, Badges: held[id], Scores: map[progression.Key]float64{}}}
	}
	list, err := from.Studied(ctx, people, courses)
	if err != nil {
		return nil, err
	}
	if err := bringUp(ctx, from, list, editions); err != nil {
		return nil, err
	}
	in := map[[2]string]string{} // the course of a person's section
	for i, x := range list {
		e := out[x.PersonID]
		in[[2]string{x.PersonID, x.SectionID}] = x.CourseID
		if e.section == nil && x.CourseID == p.CourseID {
			e.section = &list[i].SectionID
		}
		course, there := editions[x.CourseID]
		if !there {
			continue
		}
		for key := range watch.Modules {
			if key.CourseID == x.CourseID && course.ModuleDone(x.Tally, key.ID) {
				e.Modules[key] = true
			}
		}
		if watch.Finishes[x.CourseID] && course.CourseDone(x.Tally) {
			e.Courses[x.CourseID] = true
		}
	}
	return out, addScores(ctx, from, watch, people, in, out)
}

// bringUp works out the tallies that are not by the present outline.
func bringUp(ctx context.Context, from reader, list []store.Studied, editions map[string]learning.Edition) error {
	var behind []store.Standing
	for _, x := range list {
		if x.Tally == nil || x.Version != editions[x.CourseID].Version {
			behind = append(behind, store.Standing{PersonID: x.PersonID, SectionID: x.SectionID})
		}
	}
	states, err := from.States(ctx, behind)
	if err != nil {
		return err
	}
	for i, x := range list {
		if course, there := editions[x.CourseID]; there && (x.Tally == nil || x.Version != course.Version) {
			list[i].Tally = course.Tally(states[[2]string{x.PersonID, x.SectionID}])
		}
	}
	return nil
}

// addScores adds the best scores in the activities that are asked for.
func addScores(ctx context.Context, from reader, watch progression.Watch, people []string, in map[[2]string]string, out map[string]*evidence) error {
	if len(watch.Scores) == 0 {
		return nil
	}
	var activities []string
	for key := range watch.Scores {
		activities = append(activities, key.ID)
	}
	bests, err := from.Bests(ctx, people, activities)
	for _, b := range bests {
		key := progression.Key{CourseID: in[[2]string{b.PersonID, b.SectionID}], ID: b.ActivityID}
		scores := out[b.PersonID].Scores
		if best, there := scores[key]; !there || b.Best > best {
			scores[key] = b.Best
		}
	}
	return err
}

// atOnce is for how many people stages are worked out in one transaction.
const atOnce = 100

// WorkOut works out how far everybody has come whom a progression is about.
func (s *Service) WorkOut(ctx context.Context, progressionID string) error {
	p, err := s.Store.Progression(ctx, progressionID)
	if err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil // was removed
		}
		return err
	}
	for after := ""; ; {
		people, err := s.Store.Climbers(ctx, p.ID, p.CourseID, after, atOnce)
		if err != nil || len(people) == 0 {
			return err
		}
		after = people[len(people)-1]
		if err := s.climb(ctx, p.ID, people); err != nil {
			return err
		}
	}
}

// Touched works out how far people have come, after something happened in courses or to
// badges.
func (s *Service) Touched(ctx context.Context, people, courses, badges []string) error {
	all, err := s.Store.ProgressionsOn(ctx)
	if err != nil {
		return err
	}
	for _, p := range all {
		watch := progression.Watching(p.Ladder())
		if !among(watch.Courses, courses) && !among(watch.Badges, badges) {
			continue
		}
		for list := range slices.Chunk(people, atOnce) {
			if err := s.climb(ctx, p.ID, list); err != nil {
				return err
			}
		}
	}
	return nil
}

func among(watched map[string]bool, ids []string) bool {
	return slices.ContainsFunc(ids, func(id string) bool { return watched[id] })
}

// climb works out how far some people have come in a progression, records which stages
// they reach and which are open again, and has the badges awarded.
func (s *Service) climb(ctx context.Context, progressionID string, people []string) error {
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		p, on, err := tx.HoldProgression(ctx, progressionID)
		if err != nil || !on {
			return err
		}
		list, err := tx.LockClimbs(ctx, p, people)
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
		now := s.Now().UTC()
		var changed []store.Climb
		var events []store.Event
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
		if err := tx.KeepClimbs(ctx, p.ID, changed); err != nil {
			return err
		}
		if err := s.award(ctx, tx, p, events, now); err != nil {
			return err
		}
		return tx.Announce(ctx, "progression", p.ID)
	})
}

// step gives how far somebody has come now, and what happened on the way.
func step(p store.Progression, c store.Climb, known *evidence, now time.Time) (store.Climb, []store.Event) {
	ladder := p.Ladder()
	standing := ladder.Look(known.Evidence)
	reached, reopened := ladder.Changes(func(id string) bool { _, there := c.Reached[id]; return there }, standing)
	next, _ := ladder.Next(standing)
	kept := map[string]time.Time{}
	for i, stage := range p.Stages { // stages that are gone are forgotten
		if at, there := c.Reached[stage.ID]; there && standing.Stages[i].Reached {
			kept[stage.ID] = at
		}
	}
	out := store.Climb{PersonID: c.PersonID, Reached: kept, Next: next.ID, Percent: standing.Percent, Round: c.Round}
	if len(reached)+len(reopened) > 0 || len(kept) != len(c.Reached) {
		out.Round++
	}
	var events []store.Event
	tell := func(what rule.Trigger, stage progression.Stage) {
		events = append(events, store.Event{
			Type: string(what), NaturalKey: fmt.Sprintf("%s/%s/%s/%s/%d", what, p.ID, stage.ID, c.PersonID, out.Round), PersonID: &out.PersonID, SectionID: known.section, CourseID: &p.CourseID, OccurredAt: now,
			Data: map[string]any{"stage": stage.Title, "stageId": stage.ID, "progression": p.Name, "progressionId": p.ID, "percent": standing.Percent, "finished": standing.Finished},
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
func (s *Service) award(ctx context.Context, tx *store.Tx, p store.Progression, events []store.Event, now time.Time) error {
	fresh, err := tx.Record(ctx, events)
	if err != nil {
		return err
	}
	badges := map[string]string{}
	for _, stage := range p.Stages {
		badges[stage.ID] = stage.BadgeID
	}
	var made []store.Delivery
	var ids []string
	for _, e := range events {
		_, stage := e.Thing()
		if e.Type != string(rule.StageReached) || badges[stage] == "" || !slices.Contains(fresh, e.ID) {
			continue
		}
		made = append(made, store.Delivery{
			ID: store.NewID(), EventID: e.ID, ProgressionID: &p.ID, RuleVersion: p.Version, PersonID: e.PersonID, SectionID: e.SectionID,
			Action: rule.Action{Kind: rule.Award, BadgeID: badges[stage]}, State: store.DeliveryPlanned, DueAt: &now,
		})
		ids = append(ids, made[len(made)-1].ID)
	}
	if _, err := tx.AddDeliveries(ctx, made); err != nil {
		return err
	}
	return tx.Begin(ctx, now, ids...)
}

// StagePreview is what would become of one stage.
type StagePreview struct {
	StageID, Title string
	Reached        int // people who would have reached it
	Newly          int // of them, those who have not now
	Reopened       int // people for whom it would be open again
}

// Preview says what a progression would find were it on.
type Preview struct {
	People, Finished int
	Stages           []StagePreview
	Badges           int // that would be awarded at once
}

// Preview says what a progression that is being written would find, without changing
// anything. id is that of the one it is to replace, if any.
func (s *Service) Preview(ctx context.Context, id string, p store.Progression) (Preview, error) {
	if err := s.check(ctx, &p); err != nil {
		return Preview{}, err
	}
	out := Preview{Stages: make([]StagePreview, len(p.Stages))}
	for i, stage := range p.Stages {
		out.Stages[i].StageID, out.Stages[i].Title = stage.ID, stage.Title
	}
	for after := ""; ; {
		people, err := s.Store.Climbers(ctx, id, p.CourseID, after, 10*atOnce)
		if err != nil || len(people) == 0 {
			return out, err
		}
		after = people[len(people)-1]
		if err := s.previewSome(ctx, id, p, people, &out); err != nil {
			return out, err
		}
	}
}

func (s *Service) previewSome(ctx context.Context, id string, p store.Progression, people []string, out *Preview) error {
	known, err := s.evidenceOf(ctx, s.Store, p, people)
	if err != nil {
		return err
	}
	before := map[string]store.Climb{}
	if id != "" {
		list, err := s.Store.Climbs(ctx, id, people)
		if err != nil {
			return err
		}
		for _, c := range list {
			before[c.PersonID] = c
		}
	}
	for _, person := range people {
		standing := p.Ladder().Look(known[person].Evidence)
		if out.People++; standing.Finished {
			out.Finished++
		}
		for i, stage := range p.Stages {
			_, was := before[person].Reached[stage.ID]
			switch is := standing.Stages[i].Reached; {
			case is:
				if out.Stages[i].Reached++; !was {
					out.Stages[i].Newly++
					if stage.BadgeID != "" && !known[person].Badges[stage.BadgeID] {
						out.Badges++
					}
				}
			case was:
				out.Stages[i].Reopened++
			}
		}
	}
	return nil
}

// CriterionLook is a criterion in words, and whether it is met.
type CriterionLook struct {
	Text string
	Met  bool
}

// StageLook is where one person stands with one stage.
type StageLook struct {
	progression.Stage
	progression.StageStanding
	ReachedAt *time.Time // when it was found to be reached; nil while it is not kept yet
	Badge     string
	Holds     bool // they hold the stage's badge
	Asks      []CriterionLook
}

// Look is where one person stands in a progression, what lies ahead included.
type Look struct {
	store.Progression
	Course   string
	Percent  int
	Finished bool
	Stages   []StageLook
}

// Of says where a person stands in every progression that is about them. One that is off
// is left out.
func (s *Service) Of(ctx context.Context, personID string) ([]Look, error) {
	if _, err := s.Store.Person(ctx, personID); err != nil {
		return nil, err
	}
	all, err := s.Store.ProgressionsOn(ctx)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	w, err := s.words(ctx, all)
	if err != nil {
		return nil, err
	}
	var out []Look
	for _, p := range all {
		kept, err := s.Store.Climbs(ctx, p.ID, []string{personID})
		if err != nil {
			return nil, err
		}
		known, err := s.evidenceOf(ctx, s.Store, p, []string{personID})
		if err != nil {
			return nil, err
		}
		if len(kept) == 0 {
			if known[personID].section == nil {
				continue // has nothing to do with the course
			}
			kept = []store.Climb{{}}
		}
		out = append(out, w.look(p, kept[0], known[personID]))
	}
	slices.SortFunc(out, func(a, b Look) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}

func (w words) look(p store.Progression, kept store.Climb, known *evidence) Look {
	standing := p.Ladder().Look(known.Evidence)
	l := Look{Progression: p, Course: w.courses[p.CourseID], Percent: standing.Percent, Finished: standing.Finished}
	for i, stage := range p.Stages {
		x := StageLook{Stage: stage, StageStanding: standing.Stages[i], Badge: w.badges[stage.BadgeID], Holds: known.Badges[stage.BadgeID]}
		if at, there := kept.Reached[stage.ID]; there && x.Reached {
			x.ReachedAt = &at
		}
		for j, c := range stage.Criteria {
			x.Asks = append(x.Asks, CriterionLook{w.says(p, c), x.Met[j]})
		}
		l.Stages = append(l.Stages, x)
	}
	return l
}
