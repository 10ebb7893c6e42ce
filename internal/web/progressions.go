package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/stages"
	"kanban/internal/core/stage"
	"kanban/internal/store"
	"kanban/internal/wire/api"
)

type groupInput struct {
	ID      string `path:"id" doc:"The progression's id"`
	Section string `query:"section" doc:"Id of a section of its course; all when absent"`
}

type climbersInput struct {
	Paging
	ID      string `path:"id" doc:"The progression's id"`
	Section string `query:"section" doc:"Id of a section of its course; all when absent"`
	Reached string `query:"reached" doc:"Id of a stage that they have reached"`
	Missing string `query:"missing" doc:"Id of a stage that they have not reached"`
	At      string `query:"at" doc:"Id of the required stage that comes next"`
	State   string `query:"state" enum:"not-opened,on-the-way,finished" doc:"Where they stand"`
}

func (s *Server) progressions(a huma.API) {
	handle(a, "progressions", "GET /progressions list-progressions List progressions and how far their people have come", func(ctx context.Context, _ *struct{}) (api.Page[api.Progression], error) {
		all, err := s.Store.Progressions(ctx)
		out := api.Page[api.Progression]{Items: []api.Progression{}}
		for _, p := range all {
			x, err := s.shownProgression(ctx, p)
			if err != nil {
				return out, err
			}
			out.Items = append(out.Items, x)
		}
		return out, err
	})
	handleTagged(a, "progressions", "GET /progressions/{id} get-progression Show a progression", func(ctx context.Context, in *byID) (api.Progression, int, error) {
		p, err := s.Store.Progression(ctx, in.ID)
		return s.taggedProgression(ctx, p, err)
	})
	handleTagged(a, "progressions", "POST /progressions make-progression Make a progression, which is off at first", func(ctx context.Context, in *with[api.NewProgression]) (api.Progression, int, error) {
		p, err := s.Stages.Save(ctx, callerOf(ctx).Name, "", 0, progressionOf(in.Body))
		return s.taggedProgression(ctx, p, err)
	})
	handleTagged(a, "progressions", "PUT /progressions/{id} edit-progression Change a progression", func(ctx context.Context, in *edit[api.NewProgression]) (api.Progression, int, error) {
		v, err := version(in.IfMatch)
		if err != nil {
			return api.Progression{}, 0, err
		}
		p, err := s.Stages.Save(ctx, callerOf(ctx).Name, in.ID, v, progressionOf(in.Body))
		return s.taggedProgression(ctx, p, err)
	})
	handleTagged(a, "progressions", "POST /progressions/{id}/switch switch-progression Switch a progression on or off", func(ctx context.Context, in *withID[api.Switch]) (api.Progression, int, error) {
		p, err := s.Stages.Switch(ctx, callerOf(ctx).Name, in.ID, in.Body.On)
		return s.taggedProgression(ctx, p, err)
	})
	handleEmpty(a, "progressions", "DELETE /progressions/{id} remove-progression Remove a progression that is off; what it recorded and awarded stays", func(ctx context.Context, in *byID) error {
		return s.Stages.Remove(ctx, callerOf(ctx).Name, in.ID)
	})
	handle(a, "progressions", "POST /progressions/preview preview-progression What a progression would find were it on", func(ctx context.Context, in *with[api.ProgressionDraft]) (api.ProgressionPreview, error) {
		p, err := s.Stages.Preview(ctx, in.Body.ID, progressionOf(in.Body.NewProgression))
		return api.ProgressionPreview{
			People: p.People, Finished: p.Finished, Badges: p.Badges,
			Stages: each(p.Stages, func(x stages.StagePreview) api.StagePreview { return api.StagePreview(x) }),
		}, err
	})
	handle(a, "progressions", "GET /progressions/{id}/group progression-group How far a group has come", func(ctx context.Context, in *groupInput) (api.ProgressionGroup, error) {
		p, err := s.Store.Progression(ctx, in.ID)
		if err != nil {
			return api.ProgressionGroup{}, err
		}
		g, err := s.Store.GroupOf(ctx, p, in.Section)
		if err != nil {
			return api.ProgressionGroup{}, err
		}
		takes, err := s.Stages.Takes(ctx, p)
		return shownGroup(p, g, takes), err
	})
	handle(a, "progressions", "GET /progressions/{id}/people progression-people The people of a progression by name", func(ctx context.Context, in *climbersInput) (api.Page[api.Climber], error) {
		p, err := s.Store.Progression(ctx, in.ID)
		if err != nil {
			return api.Page[api.Climber]{}, err
		}
		all, err := s.Store.ClimbersListed(ctx, p, store.ClimberFilter{
			SectionID: in.Section, Reached: in.Reached, Missing: in.Missing, At: in.At, State: in.State, After: in.Cursor, Limit: in.Limit,
		})
		return api.Page[api.Climber]{
			Items: each(all, func(c store.Climber) api.Climber { return climber(p, c) }),
			Next:  last(all, in.Limit, func(c store.Climber) string { return c.PersonID }),
		}, err
	})
	handle(a, "people", "GET /people/{id}/progressions person-progressions Where a person stands in every progression that is on", func(ctx context.Context, in *byID) ([]api.PersonProgression, error) {
		all, err := s.Stages.Of(ctx, in.ID)
		return each(all, personProgression), err
	})
}

func progressionOf(n api.NewProgression) store.Progression {
	return store.Progression{Name: n.Name, CourseID: n.CourseID, Stages: n.Stages}
}

func (s *Server) taggedProgression(ctx context.Context, p store.Progression, err error) (api.Progression, int, error) {
	if err != nil {
		return api.Progression{}, 0, err
	}
	out, err := s.shownProgression(ctx, p)
	return out, p.Version, err
}

func (s *Server) shownProgression(ctx context.Context, p store.Progression) (api.Progression, error) {
	title, err := s.Store.CourseTitle(ctx, p.CourseID)
	if err != nil {
		return api.Progression{}, err
	}
	g, err := s.Store.GroupOf(ctx, p, "")
	return api.Progression{
		NewProgression: api.NewProgression{Name: p.Name, CourseID: p.CourseID, Stages: p.Stages},
		ID:             p.ID, Course: title, OnSince: p.OnSince, People: g.People, Finished: g.Finished, Version: p.Version,
	}, err
}

func shownGroup(p store.Progression, g store.Group, takes []stages.StageTakes) api.ProgressionGroup {
	out := api.ProgressionGroup{
		People: g.People, NotOpened: g.NotOpened, Finished: g.Finished,
		Stages: each(p.Stages, func(x stage.Stage) api.StageCount {
			return api.StageCount{StageID: x.ID, Title: x.Title, Optional: x.Optional, Reached: g.Reached[x.ID], At: g.At[x.ID]}
		}),
	}
	for i, t := range takes {
		out.Stages[i].Takes, out.Stages[i].Badge = t.Criteria, t.Badge
	}
	return out
}

func climber(p store.Progression, c store.Climber) api.Climber {
	out := api.Climber{PersonID: c.PersonID, Person: c.Person, Sections: c.Sections, Reached: []string{}, Percent: c.Percent, LastAt: c.LastAt}
	for _, x := range p.Stages {
		if _, there := c.Reached[x.ID]; there {
			out.Reached = append(out.Reached, x.Title)
		}
		if x.ID == c.Next {
			out.Next = x.Title
		}
	}
	return out
}

func personProgression(l stages.Look) api.PersonProgression {
	return api.PersonProgression{
		ID: l.ID, Name: l.Name, Course: l.Course, Percent: l.Percent, Finished: l.Finished,
		Stages: each(l.Stages, func(x stages.StageLook) api.StageLook {
			return api.StageLook{
				StageID: x.ID, Title: x.Title, Optional: x.Optional, Reached: x.Reached, ReachedAt: x.ReachedAt, Open: x.Open, Badge: x.Badge, BadgeID: x.BadgeID, Holds: x.Holds,
				Criteria: each(x.Asks, func(c stages.CriterionLook) api.CriterionLook { return api.CriterionLook(c) }),
			}
		}),
	}
}
