package stages

import (
	"context"
	"fmt"
	"slices"

	"kanban/internal/store/db"
	"kanban/internal/store/stagestore"
	"kanban/internal/wire/drawing"
)

// Map draws a stage plan with how many of its group stand where, in one section if given.
func (s *Service) Map(ctx context.Context, id, sectionID string) (*drawing.Drawing, error) {
	p, err := stagestore.FindStagePlan(ctx, s.Store, id)
	if err != nil {
		return nil, err
	}
	g, err := stagestore.GroupOf(ctx, s.Store, p, sectionID)
	if err != nil {
		return nil, err
	}
	w, err := s.words(ctx, []stagestore.StagePlan{p})
	if err != nil {
		return nil, err
	}
	all := make([]drawing.MapStage, len(p.Stages))
	for i, x := range p.Stages {
		all[i] = drawing.MapStage{
			Title: x.Title, Optional: x.Optional, Badge: w.badges[x.BadgeID], Reached: g.Reached[x.ID], Of: g.People,
			Next: g.At[x.ID],
		}
	}
	people := fmt.Sprintf("%d people", g.People)
	if g.People == 1 {
		people = "1 person"
	}
	about := fmt.Sprintf("%s: %s, %d finished, %d did nothing yet", w.courses[p.CourseID], people, g.Finished, g.NotOpened)
	if p.AnyOrder {
		about += ", in any order"
	}
	return drawing.StageMap(p.Name, about, all, true), nil
}

// MapOf draws a stage plan as it stands for one person.
func (s *Service) MapOf(ctx context.Context, personID, id string) (*drawing.Drawing, error) {
	plans, err := s.Of(ctx, personID)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(plans, func(p PlanProgress) bool { return p.ID == id })
	if i < 0 {
		return nil, db.ErrNotFound
	}
	p := plans[i]
	all := make([]drawing.MapStage, len(p.Stages))
	for i, x := range p.Stages {
		all[i] = drawing.MapStage{
			Title: x.Title, Optional: x.Optional, Badge: x.Badge, Done: x.Reached, Open: x.Open,
		}
	}
	return drawing.StageMap(p.Name, fmt.Sprintf("%s, %d %% done", p.Course, p.Percent), all, false), nil
}
