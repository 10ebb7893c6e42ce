// Package stages keeps how far people have come along the stages of stage plans,
// records what they reach, and awards the badges that belong to it.
package stages

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"kanban/internal/core/clock"
	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/stagestore"
)

// Outlines gives courses by their present outlines, those that have one.
type Outlines interface {
	CompiledOf(ctx context.Context, courseIDs []string) (map[string]learning.CompiledOutline, error)
}

// Service is the use case. Fill every field.
type Service struct {
	Store    *db.Database
	Clock    clock.Clock
	Outlines Outlines
}

// Save makes a stage plan (id empty), which is off, or changes one. One that is on is
// worked out anew for everybody.
func (s *Service) Save(ctx context.Context, who, id string, version int,
	p stagestore.StagePlan,
) (stagestore.StagePlan, error) {
	kept := stagestore.StagePlan{ID: db.NewID(), Version: 1}
	if id != "" {
		var err error
		if kept, err = stagestore.FindStagePlan(ctx, s.Store, id); err != nil {
			return kept, err
		}
		if version != 0 && version != kept.Version {
			return kept, fmt.Errorf("changing the stage plan: %w", db.ErrStale)
		}
		if kept.CourseID != p.CourseID {
			return kept, refusal.Invalid("courseId",
				"cannot be changed: who came how far is about the course; make another stage plan")
		}
	}
	if err := s.check(ctx, &p); err != nil {
		return kept, err
	}
	kept.Name, kept.CourseID, kept.AnyOrder, kept.Stages = p.Name, p.CourseID, p.AnyOrder, p.Stages
	if id == "" {
		return kept, s.write(ctx, who, "made a stage plan", &kept,
			func(tx *db.Tx) error { return db.Create(tx, &kept, "making the stage plan") })
	}
	return kept, s.write(ctx, who, "changed a stage plan", &kept,
		func(tx *db.Tx) error { return stagestore.UpdateStagePlan(tx, &kept) })
}

// write writes a stage plan and what goes with it.
func (s *Service) write(ctx context.Context, who, what string, p *stagestore.StagePlan,
	write func(*db.Tx) error,
) error {
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := write(tx); err != nil {
			return err
		}
		if p.OnSince != nil && p.RemovedAt == nil {
			if err := tx.Enqueue(ctx, jobs.WorkOutStages{StagePlanID: p.ID}); err != nil {
				return err
			}
		}
		if err := tx.Audit(ctx, who, what, "stage-plan/"+p.ID, p); err != nil {
			return err
		}
		return tx.Announce(ctx, "stage-plan", p.ID)
	})
	if errors.Is(err, db.ErrTaken) {
		return refusal.Invalid("name", "another stage plan is called %q already", p.Name)
	}
	return err
}

// Switch switches a stage plan on or off. While it is off nothing is worked out, and
// nothing is awarded; who reached what stays known.
func (s *Service) Switch(ctx context.Context, who, id string, on bool) (stagestore.StagePlan, error) {
	p, err := stagestore.FindStagePlan(ctx, s.Store, id)
	if err != nil || on == (p.OnSince != nil) {
		return p, err
	}
	what := "switched a stage plan off"
	if p.OnSince = nil; on {
		if err := s.check(ctx, &p); err != nil { // what it refers to may have gone
			return p, err
		}
		now := s.Clock.Now()
		p.OnSince, what = &now, "switched a stage plan on"
	}
	return p, s.write(ctx, who, what, &p, func(tx *db.Tx) error { return stagestore.UpdateStagePlan(tx, &p) })
}

// Remove removes a stage plan that is off. What it recorded and awarded stays.
func (s *Service) Remove(ctx context.Context, who, id string) error {
	p, err := stagestore.FindStagePlan(ctx, s.Store, id)
	if err != nil {
		return err
	}
	if p.OnSince != nil {
		return refusal.Conflict("", "the stage plan is on; switch it off first")
	}
	now := s.Clock.Now()
	p.RemovedAt = &now
	return s.write(ctx, who, "removed a stage plan", &p,
		func(tx *db.Tx) error { return stagestore.UpdateStagePlan(tx, &p) })
}

// check looks at a stage plan and at everything that it refers to, and gives new stages
// their ids.
func (s *Service) check(ctx context.Context, p *stagestore.StagePlan) error {
	if p.Name = strings.TrimSpace(p.Name); p.Name == "" {
		return refusal.Invalid("name", "is missing")
	}
	if err := p.Plan().Check(); err != nil {
		return refusal.Invalid("stages", "%v", err)
	}
	w, err := s.words(ctx, []stagestore.StagePlan{*p})
	if err != nil {
		return err
	}
	if w.courses[p.CourseID] == "" {
		return refusal.Invalid("courseId", "there is no course %q; see which there are: kanban courses list", p.CourseID)
	}
	for i := range p.Stages {
		stage := &p.Stages[i]
		if stage.Title = strings.TrimSpace(stage.Title); stage.ID == "" {
			stage.ID = db.NewID()
		}
		if stage.BadgeID != "" && w.badges[stage.BadgeID] == "" {
			return refusal.Invalid("stages",
				"stage %q gives a badge that is not there; see which there are: kanban badges list", stage.Title)
		}
		nameApprovals(stage.Criteria)
		for _, c := range stage.Criteria {
			for leaf := range c.Leaves {
				if missing := w.missing(*p, leaf); missing != "" {
					return refusal.Invalid("stages", "stage %q asks for %s", stage.Title, missing)
				}
			}
		}
	}
	return nil
}

// nameApprovals gives new approvals their ids.
func nameApprovals(all []stage.Criterion) {
	for i := range all {
		c := &all[i]
		if c.Kind == stage.Approval && c.ApprovalID == "" {
			c.ApprovalID = db.NewID()
		}
		nameApprovals(c.Of)
	}
}

// words are the names of what stage plans refer to.
type words struct {
	courses, badges map[string]string
	compiled        map[string]learning.CompiledOutline
}

func (s *Service) words(ctx context.Context, all []stagestore.StagePlan) (w words, err error) {
	w = words{courses: map[string]string{}, badges: map[string]string{}}
	courses, err := learningstore.Courses(ctx, s.Store)
	if err != nil {
		return w, err
	}
	for _, c := range courses {
		w.courses[c.ID] = c.Title
	}
	badges, err := badgestore.Badges(ctx, s.Store, nil)
	if err != nil {
		return w, err
	}
	for _, b := range badges {
		w.badges[b.ID] = b.Name
	}
	var wanted []string
	for _, p := range all {
		for id := range stage.Watching(p.Plan()).Courses {
			if w.courses[id] != "" {
				wanted = append(wanted, id)
			}
		}
	}
	w.compiled, err = s.Outlines.CompiledOf(ctx, wanted)
	return w, err
}

// missing says what a criterion refers to that is not there, empty when all is.
func (w words) missing(p stagestore.StagePlan, c stage.Criterion) string {
	course := p.Plan().Of(c)
	e, outlined := w.compiled[course]
	switch {
	case c.Kind == stage.Badge && w.badges[c.BadgeID] == "":
		return "a badge that is not there; see which there are: kanban badges list"
	case c.Kind == stage.Badge, c.Kind == stage.Approval:
		return ""
	case w.courses[course] == "":
		return fmt.Sprintf("the course %q, which is not there; see which there are: kanban courses list", course)
	case !outlined:
		return fmt.Sprintf("%s, which has no outline yet, so nothing is ever done in it; set one: kanban courses outline", w.courses[course])
	case c.Kind == stage.Module && moduleTitle(e, c.ModuleID) == "":
		return fmt.Sprintf("the module %q, which is not in the outline of %s", c.ModuleID, w.courses[course])
	case c.Kind == stage.Score && activityTitle(e, c.ActivityID) == "":
		return fmt.Sprintf("a score in %q, which is not in the outline of %s", c.ActivityID, w.courses[course])
	}
	return ""
}

// says puts a criterion into words.
func (w words) says(p stagestore.StagePlan, c stage.Criterion) string {
	if c.Kind.Groups() {
		parts := make([]string, len(c.Of))
		for i, x := range c.Of {
			if parts[i] = w.says(p, x); x.Kind.Groups() {
				parts[i] = "(" + parts[i] + ")"
			}
		}
		return map[stage.Kind]string{
			stage.All: "all of: ", stage.Any: "any of: ", stage.Some: fmt.Sprintf("%d of: ", c.Need),
		}[c.Kind] + strings.Join(parts, "; ")
	}
	course := p.Plan().Of(c)
	elsewhere := ""
	if course != p.CourseID {
		elsewhere = " of " + cmp.Or(w.courses[course], "a course that is gone")
	}
	const lost = ", which is not in the outline any more"
	e := w.compiled[course]
	switch c.Kind {
	case stage.Module:
		return fmt.Sprintf("finish the module %s%s", cmp.Or(moduleTitle(e, c.ModuleID), c.ModuleID+lost), elsewhere)
	case stage.Course:
		return fmt.Sprintf("finish the course %s", cmp.Or(w.courses[course], "that is gone"))
	case stage.Approval:
		return "approved by somebody: " + c.What
	case stage.Badge:
		return fmt.Sprintf("hold the badge %s", cmp.Or(w.badges[c.BadgeID], "that is gone"))
	}
	return fmt.Sprintf("score at least %.4g %% in %s%s", 100*c.AtLeast,
		cmp.Or(activityTitle(e, c.ActivityID), c.ActivityID+lost), elsewhere)
}

// StageTakes says in words what a stage takes and gives.
type StageTakes struct {
	Criteria []string
	Badge    string
}

// Takes says what each stage of a stage plan takes and gives.
func (s *Service) Takes(ctx context.Context, p stagestore.StagePlan) ([]StageTakes, error) {
	w, err := s.words(ctx, []stagestore.StagePlan{p})
	if err != nil {
		return nil, err
	}
	out := make([]StageTakes, len(p.Stages))
	for i, stage := range p.Stages {
		out[i].Badge = w.badges[stage.BadgeID]
		for _, c := range stage.Criteria {
			out[i].Criteria = append(out[i].Criteria, w.says(p, c))
		}
	}
	return out, nil
}

func moduleTitle(e learning.CompiledOutline, id string) string {
	if e.Course == nil {
		return ""
	}
	for _, m := range e.Outline.Modules {
		if m.ID == id {
			return cmp.Or(m.Title, m.ID)
		}
	}
	return ""
}

func activityTitle(e learning.CompiledOutline, id string) string {
	if e.Course == nil {
		return ""
	}
	if _, a, ok := e.Find(id); ok {
		return cmp.Or(a.Title, a.ID)
	}
	return ""
}
