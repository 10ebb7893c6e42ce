package pipeline

import (
	"maps"
	"slices"

	"github.com/riverqueue/river"

	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
)

// advanced gives the work on stages that follows from progress: events with which
// somebody may have come further, or less far. They are looked at where progress is kept,
// as some of them are recorded only the first time.
func (b *book) advanced(events []eventstore.Event) []river.JobArgs {
	return b.stages(events, func(e eventstore.Event, course string) bool {
		switch rule.Trigger(e.Type) {
		case rule.ModuleCompleted, rule.ModuleReopened:
			return b.watch.Modules[stage.Key{CourseID: course, ID: e.ModuleID}]
		case rule.CourseCompleted, rule.CourseReopened:
			return b.watch.Finishes[course]
		case rule.ScoreReported:
			return b.watch.Scores[stage.Key{CourseID: course, ID: e.ActivityID}]
		}
		return false
	})
}

// later gives the work on stages that follows from what is recorded elsewhere.
func (b *book) later(events []eventstore.Event) []river.JobArgs {
	return b.stages(events, func(e eventstore.Event, course string) bool {
		switch rule.Trigger(e.Type) {
		case rule.SectionJoined:
			return b.watch.Own[course]
		case rule.BadgeAwarded, rule.BadgeRevoked:
			badge, _ := e.Data["badgeId"].(string)
			return b.watch.Badges[badge]
		}
		return false
	})
}

// stages gives the work on the stages of the people of those events that count.
func (b *book) stages(events []eventstore.Event, counts func(e eventstore.Event,
	course string) bool,
) []river.JobArgs {
	if len(b.watch.Own) == 0 {
		return nil
	}
	people, courses, badges := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, e := range events {
		if e.PersonID == nil || !counts(e, text(e.CourseID)) {
			continue
		}
		people[*e.PersonID] = true
		if badge, ok := e.Data["badgeId"].(string); ok {
			badges[badge] = true
		} else {
			courses[text(e.CourseID)] = true
		}
	}
	if len(people) == 0 {
		return nil
	}
	return []river.JobArgs{jobs.WorkOutStages{
		People:  slices.Sorted(maps.Keys(people)),
		Courses: slices.Sorted(maps.Keys(courses)), Badges: slices.Sorted(maps.Keys(badges)),
	}}
}
