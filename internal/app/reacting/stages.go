package reacting

import (
	"context"
	"maps"
	"slices"

	"github.com/riverqueue/river"

	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store"
)

// watched are the courses and badges that progressions are about.
type watched struct{ courses, badges map[string]bool }

func watchedBy(all []store.Progression) watched {
	w := watched{map[string]bool{}, map[string]bool{}}
	for _, p := range all {
		courses, badges := p.Ladder().Watches()
		for _, id := range courses {
			w.courses[id] = true
		}
		for _, id := range badges {
			w.badges[id] = true
		}
	}
	return w
}

func (w watched) any() bool { return len(w.courses)+len(w.badges) > 0 }

// advances are the events with which somebody may have come further, or less far, in a
// progression. They are looked at where progress is kept: some of them are recorded only
// the first time.
var advances = map[rule.Trigger]bool{
	rule.ModuleCompleted: true, rule.ModuleReopened: true, rule.CourseCompleted: true, rule.CourseReopened: true, rule.ScoreReported: true,
}

// others are those that come from elsewhere.
var others = map[rule.Trigger]bool{rule.SectionJoined: true, rule.BadgeAwarded: true, rule.BadgeRevoked: true}

// advanced gives the work that follows from progress.
func (w watched) advanced(events []store.Event) []river.JobArgs { return w.work(events, advances) }

// later gives the work that follows from what was recorded elsewhere.
func (w watched) later(events []store.Event) []river.JobArgs { return w.work(events, others) }

func (w watched) work(events []store.Event, kinds map[rule.Trigger]bool) []river.JobArgs {
	if !w.any() {
		return nil
	}
	people, courses, badges := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, e := range events {
		if e.PersonID == nil || !kinds[rule.Trigger(e.Type)] {
			continue
		}
		badge, _ := e.Data["badgeId"].(string)
		switch {
		case badge != "" && w.badges[badge]:
			badges[badge] = true
		case badge == "" && w.courses[text(e.CourseID)]:
			courses[*e.CourseID] = true
		default:
			continue
		}
		people[*e.PersonID] = true
	}
	if len(people) == 0 {
		return nil
	}
	return []river.JobArgs{store.WorkOutStages{People: slices.Sorted(maps.Keys(people)), Courses: slices.Sorted(maps.Keys(courses)), Badges: slices.Sorted(maps.Keys(badges))}}
}

// Outlines gives the present outlines of courses, those that have one.
func (s *Service) Outlines(ctx context.Context, courseIDs []string) (map[string]learning.Outline, error) {
	all, err := s.outlinesOf(ctx, courseIDs)
	if err != nil {
		return nil, err
	}
	out := make(map[string]learning.Outline, len(all))
	for id, o := range all {
		out[id] = o.course.Outline
	}
	return out, nil
}
