package scenario

import (
	"context"
	"fmt"
	"slices"

	"kanban/internal/client"
	"kanban/internal/core/stage"
	"kanban/internal/wire/api"
)

// StagePlanName is the stage plan of the story.
const StagePlanName = "Propagator"

// Stages makes the stages of the course, shows first whom they find, and switches them
// on.
func (s *Story) Stages(ctx context.Context) error {
	s.heading("Making the stages of the course; whoever has reached one already is found")
	x, err := s.section(ctx)
	if err != nil {
		return err
	}
	badges, err := client.Get[api.Page[api.Badge]](ctx, s.Client, "/badges")
	if err != nil {
		return err
	}
	named := func(name string) api.Badge {
		i := slices.IndexFunc(badges.Items, func(b api.Badge) bool { return b.Name == name })
		return badges.Items[i]
	}
	grafter, err := client.Post[api.Badge](ctx, s.Client, "/badges",
		api.NewBadge{
			IssuerID: badges.Items[0].IssuerID, Name: "Grafter", Description: "Joins two plants into one.",
			Criteria: "Reach the stage First graft.",
		})
	if err != nil {
		return err
	}
	n := api.NewStagePlan{Name: StagePlanName, CourseID: x.CourseID, Stages: []stage.Stage{
		{Title: "First cuttings", Criteria: []stage.Criterion{{Kind: stage.Module, ModuleID: "mod-cuttings"}}},
		{Title: "Badge in hand", Optional: true, Criteria: []stage.Criterion{{
			Kind:    stage.Badge,
			BadgeID: named("Cuttings").ID,
		}}},
		{Title: "First graft", BadgeID: grafter.ID, Criteria: []stage.Criterion{
			{Kind: stage.Module, ModuleID: "mod-grafting"}, {
				Kind:       stage.Score,
				ActivityID: s.At.Platform + "/activities/act-cuttings-check", AtLeast: 0.8,
			},
		}},
		{Title: "Course and badge", Criteria: []stage.Criterion{
			{Kind: stage.Course},
			{Kind: stage.Badge, BadgeID: named("Propagation").ID},
		}},
	}}
	v, err := client.Post[api.StagePlanPreview](ctx, s.Client, "/stage-plans/preview",
		api.StagePlanDraft{NewStagePlan: n})
	if err != nil {
		return err
	}
	s.tell("preview: of %d people %d would have reached %q, %d %q", v.People, v.Stages[0].Newly, v.Stages[0].Title,
		v.Stages[1].Newly, v.Stages[1].Title)
	if s.StagePlan, err = client.Post[api.StagePlan](ctx, s.Client, "/stage-plans", n); err != nil {
		return err
	}
	if _, err := client.Post[api.StagePlan](ctx, s.Client, "/stage-plans/"+s.StagePlan.ID+"/switch",
		api.Switch{On: true}); err != nil {
		return err
	}
	return s.group(ctx, func(g api.StagePlanGroup) bool {
		return g.Stages[0].Reached == v.Stages[0].Newly && g.Stages[1].Reached == v.Stages[1].Newly
	})
}

// group waits until a group stands as it must, and tells how.
func (s *Story) group(ctx context.Context, stands func(api.StagePlanGroup) bool) error {
	var g api.StagePlanGroup
	err := s.until(ctx, "people at their stages", func() (ok bool, err error) {
		g, err = client.Get[api.StagePlanGroup](ctx, s.Client, "/stage-plans/"+s.StagePlan.ID+"/group")
		return err == nil && stands(g), err
	})
	if err != nil {
		return fmt.Errorf("%w; they are at %+v", err, g)
	}
	for _, x := range g.Stages {
		s.tell("%-16s reached by %d, next for %d", x.Title, x.Reached, x.At)
	}
	s.tell("%d of %d never opened the course, %d finished", g.NotOpened, g.People, g.Finished)
	return nil
}

// Reached looks how far everybody came, and that the stage's badge was awarded.
func (s *Story) Reached(ctx context.Context) error {
	s.heading("%s finished every stage, and got the badge of one", BuyerName)
	if err := s.group(ctx, func(g api.StagePlanGroup) bool {
		return g.Finished == 1 &&
			g.Stages[2].Reached == 1
	}); err != nil {
		return err
	}
	return s.until(ctx, "the badge of the stage", func() (bool, error) {
		all, err := client.All[api.Award](ctx, s.Client, "/awards?person="+s.Buyer.ID)
		for _, a := range all {
			if a.Badge == "Grafter" {
				s.tell("awarded: %s to %s", a.Badge, a.Person)
				return true, err
			}
		}
		return false, err
	})
}
