package stages

import (
	"cmp"
	"context"
	"slices"
	"time"

	"kanban/internal/core/stage"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/stagestore"
)

// StagePreview is what would become of one stage.
type StagePreview struct {
	StageID, Title string
	Reached        int // people who would have reached it
	Newly          int // of them, those who have not now
	Reopened       int // people for whom it would be open again
	// NewlyPeople and ReopenedPeople are the first of both, by name.
	NewlyPeople, ReopenedPeople []string
}

// mostMoved is how many people a preview names of each kind.
const mostMoved = 20

// Preview says what a stage plan would find were it on.
type Preview struct {
	People, Finished int
	Stages           []StagePreview
	Badges           int // that would be awarded at once
}

// Preview says what a stage plan that is being written would find, without changing
// anything. id is that of the one it is to replace, if any.
func (s *Service) Preview(ctx context.Context, id string, p stagestore.StagePlan) (Preview, error) {
	if err := s.check(ctx, &p); err != nil {
		return Preview{}, err
	}
	out := Preview{Stages: make([]StagePreview, len(p.Stages))}
	for i, stage := range p.Stages {
		out.Stages[i].StageID, out.Stages[i].Title = stage.ID, stage.Title
	}
	for after := ""; ; {
		people, err := stagestore.PeopleOfStagePlan(ctx, s.Store, id, p.CourseID, after, 10*atOnce)
		if err != nil {
			return out, err
		}
		if len(people) == 0 {
			return out, s.nameMoved(ctx, out.Stages)
		}
		after = people[len(people)-1]
		if err := s.previewSome(ctx, id, p, people, &out); err != nil {
			return out, err
		}
	}
}

// nameMoved puts names in the place of ids.
func (s *Service) nameMoved(ctx context.Context, all []StagePreview) error {
	var ids []string
	for _, x := range all {
		ids = append(append(ids, x.NewlyPeople...), x.ReopenedPeople...)
	}
	people, err := rosterstore.PeopleByID(ctx, s.Store, ids)
	names := map[string]string{}
	for _, p := range people {
		names[p.ID] = p.Name()
	}
	for _, x := range all {
		for _, list := range [][]string{x.NewlyPeople, x.ReopenedPeople} {
			for i, id := range list {
				list[i] = cmp.Or(names[id], id)
			}
		}
	}
	return err
}

func (s *StagePreview) newly(person string) {
	if s.Newly++; s.Newly <= mostMoved {
		s.NewlyPeople = append(s.NewlyPeople, person)
	}
}

func (s *StagePreview) reopened(person string) {
	if s.Reopened++; s.Reopened <= mostMoved {
		s.ReopenedPeople = append(s.ReopenedPeople, person)
	}
}

func (s *Service) previewSome(ctx context.Context, id string, p stagestore.StagePlan, people []string,
	out *Preview,
) error {
	known, err := s.evidenceOf(ctx, s.Store, p, people)
	if err != nil {
		return err
	}
	before := map[string]stagestore.StageProgress{}
	if id != "" {
		list, err := stagestore.StageProgressOf(ctx, s.Store, id, people)
		if err != nil {
			return err
		}
		for _, c := range list {
			before[c.PersonID] = c
		}
	}
	for _, person := range people {
		standing := p.Plan().ProgressOf(known[person].Evidence)
		if out.People++; standing.Finished {
			out.Finished++
		}
		for i, stage := range p.Stages {
			_, was := before[person].Reached[stage.ID]
			switch is := standing.Stages[i].Reached; {
			case is:
				if out.Stages[i].Reached++; !was {
					out.Stages[i].newly(person)
					if stage.BadgeID != "" && !known[person].Badges[stage.BadgeID] {
						out.Badges++
					}
				}
			case was:
				out.Stages[i].reopened(person)
			}
		}
	}
	return nil
}

// CriterionProgress is a criterion in words, and whether it is met.
type CriterionProgress struct {
	Text string
	Met  bool
	// Approvals are what somebody has to approve in it.
	Approvals []ApprovalProgress
}

// ApprovalProgress is something that somebody has to approve, and whether they have.
type ApprovalProgress struct {
	ID, What string
	Given    bool
	By, Note string     // who approved it, and why
	At       *time.Time // when
}

// StageProgress is where one person stands with one stage.
type StageProgress struct {
	stage.Stage
	stage.StageProgress
	ReachedAt *time.Time // when it was found to be reached; nil while it is not kept yet
	Badge     string
	Holds     bool // they hold the stage's badge
	Asks      []CriterionProgress
}

// PlanProgress is where one person stands in a stage plan, what lies ahead included.
type PlanProgress struct {
	stagestore.StagePlan
	Course   string
	Percent  int
	Finished bool
	Stages   []StageProgress
}

// Of says where a person stands in every stage plan that is about them. One that is off
// is left out.
func (s *Service) Of(ctx context.Context, personID string) ([]PlanProgress, error) {
	if _, err := rosterstore.FindPerson(ctx, s.Store, personID); err != nil {
		return nil, err
	}
	all, err := stagestore.StagePlansOn(ctx, s.Store)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	w, err := s.words(ctx, all)
	if err != nil {
		return nil, err
	}
	var out []PlanProgress
	for _, p := range all {
		kept, err := stagestore.StageProgressOf(ctx, s.Store, p.ID, []string{personID})
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
			kept = []stagestore.StageProgress{{}}
		}
		out = append(out, w.progressOf(p, kept[0], known[personID]))
	}
	slices.SortFunc(out, func(a, b PlanProgress) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}

func (w words) progressOf(p stagestore.StagePlan, kept stagestore.StageProgress, known *evidence) PlanProgress {
	standing := p.Plan().ProgressOf(known.Evidence)
	l := PlanProgress{
		StagePlan: p, Course: w.courses[p.CourseID], Percent: standing.Percent,
		Finished: standing.Finished,
	}
	for i, stage := range p.Stages {
		x := StageProgress{
			Stage: stage, StageProgress: standing.Stages[i], Badge: w.badges[stage.BadgeID],
			Holds: known.Badges[stage.BadgeID],
		}
		if at, there := kept.Reached[stage.ID]; there && x.Reached {
			x.ReachedAt = &at
		}
		for j, c := range stage.Criteria {
			x.Asks = append(x.Asks, CriterionProgress{w.says(p, c), x.Met[j], approvals(c, known)})
		}
		l.Stages = append(l.Stages, x)
	}
	return l
}

func approvals(c stage.Criterion, known *evidence) (all []ApprovalProgress) {
	for leaf := range c.Leaves {
		if leaf.Kind == stage.Approval {
			x := ApprovalProgress{ID: leaf.ApprovalID, What: leaf.What}
			if a, given := known.approved[leaf.ApprovalID]; given {
				x.Given, x.By, x.Note, x.At = true, a.ByName, a.Note, &a.GivenAt
			}
			all = append(all, x)
		}
	}
	return all
}
