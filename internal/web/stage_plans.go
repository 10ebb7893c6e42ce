package web

import (
	"context"
	"math"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/stages"
	"kanban/internal/core/permission"
	"kanban/internal/core/stage"
	"kanban/internal/store/stagestore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type groupInput struct {
	ID      string `path:"id" doc:"The stage plan's id"`
	Section string `query:"section" doc:"Id of a section of its course; all when absent"`
	Stuck   int    `query:"stuckDays" default:"14" minimum:"1" maximum:"3650" doc:"Who is at a stage for so many days is stuck"`
}

type stagePlanPeopleInput struct {
	Paging
	ID      string `path:"id" doc:"The stage plan's id"`
	Section string `query:"section" doc:"Id of a section of its course; all when absent"`
	Reached string `query:"reached" doc:"Id of a stage that they have reached"`
	Missing string `query:"missing" doc:"Id of a stage that they have not reached"`
	At      string `query:"at" doc:"Id of the required stage that comes next"`
	State   string `query:"state" enum:"not-opened,on-the-way,finished" doc:"Where they stand"`
	AtFor   int    `query:"atForDays" minimum:"0" maximum:"3650" doc:"Who is at what comes next for so many days or longer"`
}

var (
	listStagePlansOp = operation{
		ID: "list-stage-plans", Act: permission.Look,
		Method: http.MethodGet, Path: "/stage-plans", Status: http.StatusOK, Tag: "stages",
		Summary: "List stage plans and how far their people have come",
	}
	getStagePlanOp = operation{
		ID: "get-stage-plan", Act: permission.Look,
		Method: http.MethodGet, Path: "/stage-plans/{id}",
		Status: http.StatusOK, Tag: "stages",
		Summary: "Show a stage plan",
	}
	makeStagePlanOp = operation{
		ID: "make-stage-plan", Act: permission.Learning,
		Method: http.MethodPost, Path: "/stage-plans",
		Status: http.StatusCreated, Tag: "stages",
		Summary: "Make a stage plan, which is off at first",
	}
	editStagePlanOp = operation{
		ID: "edit-stage-plan", Act: permission.Learning,
		Method: http.MethodPut, Path: "/stage-plans/{id}",
		Status: http.StatusOK, Tag: "stages",
		Summary: "Change a stage plan",
	}
	switchStagePlanOp = operation{
		ID: "switch-stage-plan", Act: permission.Learning,
		Method: http.MethodPost, Path: "/stage-plans/{id}/switch",
		Status: http.StatusOK, Tag: "stages",
		Summary: "Switch a stage plan on or off",
	}
	removeStagePlanOp = operation{
		ID: "remove-stage-plan", Act: permission.Learning,
		Method: http.MethodDelete, Path: "/stage-plans/{id}",
		Status: http.StatusNoContent, Tag: "stages",
		Summary: "Remove a stage plan that is off; what it recorded and awarded stays",
	}
	previewStagePlanOp = operation{
		ID: "preview-stage-plan", Act: permission.Learning,
		Method: http.MethodPost, Path: "/stage-plans/preview",
		Status: http.StatusOK, Tag: "stages",
		Summary: "What a stage plan would find were it on",
	}
	stagePlanGroupOp = operation{
		ID: "stage-plan-group", Act: permission.Look,
		Method: http.MethodGet, Path: "/stage-plans/{id}/group",
		Status: http.StatusOK, Tag: "stages",
		Summary: "How far a group has come",
	}
	approveStagesOp = operation{
		ID: "approve-stages", Act: permission.Learning,
		Method: http.MethodPost, Path: "/stage-plans/{id}/approvals",
		Status: http.StatusNoContent, Tag: "stages",
		Summary: "Approve something for people, or withdraw it",
	}
	stagePlanPeopleOp = operation{
		ID: "stage-plan-people", Act: permission.Look,
		Method: http.MethodGet, Path: "/stage-plans/{id}/people",
		Status: http.StatusOK, Tag: "stages",
		Summary: "The people of a stage plan by name",
	}
)

// stagePlans registers the operations about stage plans.
func (s *Server) stagePlans(a huma.API) {
	handle(a, listStagePlansOp, s.listStagePlans)
	handleTagged(a, getStagePlanOp, s.getStagePlan)
	handleTagged(a, makeStagePlanOp, s.makeStagePlan)
	handleTagged(a, editStagePlanOp, s.editStagePlan)
	handleTagged(a, switchStagePlanOp, s.switchStagePlan)
	handleEmpty(a, removeStagePlanOp, s.removeStagePlan)
	handle(a, previewStagePlanOp, s.previewStagePlan)
	handle(a, stagePlanGroupOp, s.stagePlanGroup)
	handle(a, stagePlanPeopleOp, s.stagePlanPeople)
	handleEmpty(a, approveStagesOp, s.approveStages)
}

func (s *Server) approveStages(ctx context.Context, in *withID[api.Approving]) error {
	return s.Stages.Approve(ctx, auth.Caller(ctx).Name, in.ID, stages.Approving(in.Body))
}

func criterionProgress(c stages.CriterionProgress) api.CriterionProgress {
	out := api.CriterionProgress{Text: c.Text, Met: c.Met}
	for _, x := range c.Approvals {
		out.Approvals = append(out.Approvals, api.ApprovalProgress(x))
	}
	return out
}

func (s *Server) listStagePlans(ctx context.Context, _ *struct{}) (api.Page[api.StagePlan], error) {
	all, err := s.Stages.StagePlans(ctx)
	out := api.Page[api.StagePlan]{Items: []api.StagePlan{}}
	for _, p := range all {
		x, err := s.shownStagePlan(ctx, p)
		if err != nil {
			return out, err
		}
		out.Items = append(out.Items, x)
	}
	return out, err
}

func (s *Server) getStagePlan(ctx context.Context, in *byID) (api.StagePlan, int, error) {
	p, err := s.Stages.FindStagePlan(ctx, in.ID)
	return s.taggedStagePlan(ctx, p, err)
}

func (s *Server) makeStagePlan(ctx context.Context, in *with[api.NewStagePlan]) (api.StagePlan, int, error) {
	p, err := s.Stages.Save(ctx, auth.Caller(ctx).Name, "", 0, stagePlanOf(in.Body))
	return s.taggedStagePlan(ctx, p, err)
}

func (s *Server) editStagePlan(ctx context.Context, in *edit[api.NewStagePlan]) (api.StagePlan, int, error) {
	v, err := version(in.IfMatch)
	if err != nil {
		return api.StagePlan{}, 0, err
	}
	p, err := s.Stages.Save(ctx, auth.Caller(ctx).Name, in.ID, v, stagePlanOf(in.Body))
	return s.taggedStagePlan(ctx, p, err)
}

func (s *Server) switchStagePlan(ctx context.Context, in *withID[api.Switch]) (api.StagePlan, int, error) {
	p, err := s.Stages.Switch(ctx, auth.Caller(ctx).Name, in.ID, in.Body.On)
	return s.taggedStagePlan(ctx, p, err)
}

func (s *Server) removeStagePlan(ctx context.Context, in *byID) error {
	return s.Stages.Remove(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) previewStagePlan(ctx context.Context, in *with[api.StagePlanDraft]) (api.StagePlanPreview, error) {
	p, err := s.Stages.Preview(ctx, in.Body.ID, stagePlanOf(in.Body.NewStagePlan))
	return api.StagePlanPreview{
		People: p.People, Finished: p.Finished, Badges: p.Badges,
		Stages: each(p.Stages, func(x stages.StagePreview) api.StagePreview { return api.StagePreview(x) }),
	}, err
}

func (s *Server) stagePlanGroup(ctx context.Context, in *groupInput) (api.StagePlanGroup, error) {
	p, err := s.Stages.FindStagePlan(ctx, in.ID)
	if err != nil {
		return api.StagePlanGroup{}, err
	}
	g, err := s.Stages.GroupOf(ctx, p, in.Section)
	if err != nil {
		return api.StagePlanGroup{}, err
	}
	takes, err := s.Stages.Takes(ctx, p)
	if err != nil {
		return api.StagePlanGroup{}, err
	}
	times, err := s.Stages.Times(ctx, p, in.Section, time.Duration(in.Stuck)*day)
	if err != nil {
		return api.StagePlanGroup{}, err
	}
	return shownGroup(p, g, takes, times), nil
}

func (s *Server) stagePlanPeople(ctx context.Context, in *stagePlanPeopleInput) (api.Page[api.StagePlanPerson],
	error,
) {
	p, err := s.Stages.FindStagePlan(ctx, in.ID)
	if err != nil {
		return api.Page[api.StagePlanPerson]{}, err
	}
	var before time.Time
	if in.AtFor > 0 {
		before = time.Now().Add(-time.Duration(in.AtFor) * day)
	}
	all, err := s.Stages.StagePlanPeople(ctx, p, stagestore.StagePlanFilter{
		SectionID: in.Section, Reached: in.Reached, Missing: in.Missing, At: in.At, State: in.State, After: in.Cursor,
		Limit: in.Limit, Before: before,
	})
	return api.Page[api.StagePlanPerson]{
		Items: each(all, func(c stagestore.StagePlanPerson) api.StagePlanPerson { return stagePlanPerson(p, c) }),
		Next:  last(all, in.Limit, func(c stagestore.StagePlanPerson) string { return c.PersonID }),
	}, err
}

func stagePlanOf(n api.NewStagePlan) stagestore.StagePlan {
	return stagestore.StagePlan{Name: n.Name, CourseID: n.CourseID, AnyOrder: n.AnyOrder, Stages: n.Stages}
}

func (s *Server) taggedStagePlan(ctx context.Context, p stagestore.StagePlan, err error) (api.StagePlan, int, error) {
	if err != nil {
		return api.StagePlan{}, 0, err
	}
	out, err := s.shownStagePlan(ctx, p)
	return out, p.Version, err
}

func (s *Server) shownStagePlan(ctx context.Context, p stagestore.StagePlan) (api.StagePlan, error) {
	title, err := s.Outlines.CourseTitle(ctx, p.CourseID)
	if err != nil {
		return api.StagePlan{}, err
	}
	g, err := s.Stages.GroupOf(ctx, p, "")
	return api.StagePlan{
		NewStagePlan: api.NewStagePlan{Name: p.Name, CourseID: p.CourseID, AnyOrder: p.AnyOrder, Stages: p.Stages},
		ID:           p.ID, Course: title, OnSince: p.OnSince, People: g.People, Finished: g.Finished,
		Version: p.Version,
	}, err
}

const day = 24 * time.Hour

// inDays is a duration in days, to one place after the point.
func inDays(d time.Duration) *float64 {
	n := math.Round(10*d.Hours()/24) / 10
	return &n
}

func shownGroup(p stagestore.StagePlan, g stagestore.Group, takes []stages.StageTakes, times []stage.Times,
) api.StagePlanGroup {
	out := api.StagePlanGroup{
		People: g.People, NotOpened: g.NotOpened, Finished: g.Finished,
		Stages: each(p.Stages, func(x stage.Stage) api.StageCount {
			return api.StageCount{
				StageID: x.ID, Title: x.Title, Optional: x.Optional, Reached: g.Reached[x.ID],
				At: g.At[x.ID],
			}
		}),
	}
	for i, t := range takes {
		x := &out.Stages[i]
		x.Takes, x.Badge, x.Took, x.Stuck = t.Criteria, t.Badge, times[i].Took, times[i].Stuck
		if x.Took > 0 {
			x.MedianDays = inDays(times[i].Median)
		}
		if x.Stuck > 0 {
			x.LongestDays = inDays(times[i].Longest)
		}
	}
	return out
}

func stagePlanPerson(p stagestore.StagePlan, c stagestore.StagePlanPerson) api.StagePlanPerson {
	out := api.StagePlanPerson{
		PersonID: c.PersonID, Person: c.Person, Sections: c.Sections, Reached: []string{},
		Percent: c.Percent, LastAt: c.LastAt, Since: c.Since,
	}
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
