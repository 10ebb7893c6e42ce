package stages

import (
	"context"
	"maps"
	"slices"

	"kanban/internal/core/learning"
	"kanban/internal/core/stage"
	"kanban/internal/store/db"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/stagestore"
)

// evidence is what is known of one person.
type evidence struct {
	stage.Evidence
	approved map[string]stagestore.Approval
	section  *string // of the stage plan's course: where they are now, or were last
}

// evidenceOf reads what is known of people, as far as a stage plan asks for it. Modules
// and courses are told by the done bits of progress: what it costs does not grow with the
// length of a course.
func (s *Service) evidenceOf(ctx context.Context, from db.From, p stagestore.StagePlan,
	people []string,
) (map[string]*evidence, error) {
	watch := stage.Watching(p.Plan())
	courses := slices.Sorted(maps.Keys(watch.Courses))
	compiled, err := s.Outlines.CompiledOf(ctx, courses)
	if err != nil {
		return nil, err
	}
	held, err := stagestore.BadgesHeld(ctx, from, people, s.Clock.Now())
	if err != nil {
		return nil, err
	}
	out := make(map[string]*evidence, len(people))
	for _, id := range people {
		out[id] = &evidence{approved: map[string]stagestore.Approval{}, Evidence: stage.Evidence{
			Modules: map[stage.Key]bool{}, Courses: map[string]bool{},
			Badges: held[id], Scores: map[stage.Key]float64{}, Approvals: map[string]bool{},
		}}
	}
	if err := addApprovals(ctx, from, watch, people, out); err != nil {
		return nil, err
	}
	list, err := stagestore.FindStudied(ctx, from, people, courses)
	if err != nil {
		return nil, err
	}
	if err := bringUp(ctx, from, list, compiled); err != nil {
		return nil, err
	}
	in := map[learningstore.SectionKey]string{} // the course of a person's section
	for i, x := range list {
		e := out[x.PersonID]
		in[learningstore.SectionKey{PersonID: x.PersonID, SectionID: x.SectionID}] = x.CourseID
		if e.section == nil && x.CourseID == p.CourseID {
			e.section = &list[i].SectionID
		}
		course, there := compiled[x.CourseID]
		if !there {
			continue
		}
		for key := range watch.Modules {
			if key.CourseID == x.CourseID && course.ModuleDone(x.DoneBits, key.ID) {
				e.Modules[key] = true
			}
		}
		if watch.Finishes[x.CourseID] && course.CourseDone(x.DoneBits) {
			e.Courses[x.CourseID] = true
		}
	}
	return out, addScores(ctx, from, watch, people, in, out)
}

// addApprovals adds what was approved of what is asked for.
func addApprovals(ctx context.Context, from db.From, watch stage.Watch, people []string,
	out map[string]*evidence,
) error {
	if len(watch.Approvals) == 0 {
		return nil
	}
	given, err := stagestore.ApprovalsOf(ctx, from, people, slices.Collect(maps.Keys(watch.Approvals)))
	for _, x := range given {
		out[x.PersonID].Approvals[x.ApprovalID], out[x.PersonID].approved[x.ApprovalID] = true, x
	}
	return err
}

// bringUp works out the done bits that are not by the present outline.
func bringUp(ctx context.Context, from db.From, list []stagestore.Studied,
	compiled map[string]learning.CompiledOutline,
) error {
	var behind []learningstore.ProgressRow
	for _, x := range list {
		if x.DoneBits == nil || x.Version != compiled[x.CourseID].Version {
			behind = append(behind, learningstore.ProgressRow{PersonID: x.PersonID, SectionID: x.SectionID})
		}
	}
	states, err := learningstore.States(ctx, from, behind)
	if err != nil {
		return err
	}
	for i, x := range list {
		if course, there := compiled[x.CourseID]; there && (x.DoneBits == nil || x.Version != course.Version) {
			at := learningstore.SectionKey{PersonID: x.PersonID, SectionID: x.SectionID}
			list[i].DoneBits = course.DoneBits(states[at])
		}
	}
	return nil
}

// addScores adds the best scores in the activities that are asked for.
func addScores(ctx context.Context, from db.From, watch stage.Watch, people []string,
	in map[learningstore.SectionKey]string, out map[string]*evidence,
) error {
	if len(watch.Scores) == 0 {
		return nil
	}
	var activities []string
	for key := range watch.Scores {
		activities = append(activities, key.ID)
	}
	bests, err := stagestore.Bests(ctx, from, people, activities)
	for _, b := range bests {
		at := learningstore.SectionKey{PersonID: b.PersonID, SectionID: b.SectionID}
		key := stage.Key{CourseID: in[at], ID: b.ActivityID}
		scores := out[b.PersonID].Scores
		if best, there := scores[key]; !there || b.Best > best {
			scores[key] = b.Best
		}
	}
	return err
}
