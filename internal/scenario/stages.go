package scenario

import (
	"context"
	"fmt"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// StagePlanName is the stage plan of the story.
const StagePlanName = "Propagator"

// Stages shows first whom the stages of the course find, and switches them on.
func (s *Story) Stages(ctx context.Context) error {
	s.heading("Switching the stages of the course on; whoever has reached one already is found")
	plans, err := client.All[api.StagePlan](ctx, s.Client, "/stage-plans")
	if err != nil {
		return err
	}
	if len(plans) != 1 {
		return fmt.Errorf("there are %d stage plans, expected 1", len(plans))
	}
	s.StagePlan = plans[0]
	v, err := client.Post[api.StagePlanPreview](ctx, s.Client, "/stage-plans/preview",
		api.StagePlanDraft{NewStagePlan: s.StagePlan.NewStagePlan, ID: s.StagePlan.ID})
	if err != nil {
		return err
	}
	s.tell("preview: of %d people %d would have reached %q, %d %q", v.People, v.Stages[0].Newly, v.Stages[0].Title,
		v.Stages[1].Newly, v.Stages[1].Title)
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
