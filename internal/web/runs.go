package web

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/store/db"
	"kanban/internal/store/mirror"
	"kanban/internal/store/runstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type runsInput struct {
	Paging
	Pairing   string `query:"pairing" doc:"Id of a pairing"`
	Interface string `query:"interface" doc:"Id of an interface"`
	ScoreLink string `query:"scoreLink" doc:"Id of a score link"`
	Active    bool   `query:"active" doc:"Only those that are queued or at work"`
	Single    bool   `query:"single" doc:"Only those that belong to no batch"`
}

var (
	listRunsOp = operation{
		ID: "list-runs", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/runs", Status: http.StatusOK, Tag: "runs",
		Summary: "List runs, the newest first",
	}
	startRunOp = operation{
		ID: "start-run", Act: permission.Sync, Of: permission.Listed,
		Method: http.MethodPost, Path: "/runs", Status: http.StatusCreated, Tag: "runs",
		Summary: "Do exactly what a preview shows",
	}
	getRunOp = operation{
		ID: "get-run", Act: permission.Look, Of: permission.OfRun,
		Method: http.MethodGet, Path: "/runs/{id}", Status: http.StatusOK, Tag: "runs",
		Summary: "Show a run",
	}
	revertRunOp = operation{
		ID: "revert-run", Act: permission.Sync, Of: permission.OfRun, Any: true,
		Method: http.MethodPost, Path: "/runs/{id}/revert", Status: http.StatusOK, Tag: "runs",
		Summary: "Show how a run's effect would be undone",
	}
	listChangesOp = operation{
		ID: "list-changes", Act: permission.Look, Of: permission.OfRun,
		Method: http.MethodGet, Path: "/runs/{id}/changes", Status: http.StatusOK, Tag: "runs",
		Summary: "Everybody in a run, with outcome and reason",
	}
	listDifferencesOp = operation{
		ID: "list-differences", Act: permission.Look, Of: permission.OfRun,
		Method: http.MethodGet, Path: "/runs/{id}/differences",
		Status: http.StatusOK, Tag: "runs",
		Summary: "Whose records a read changed, and which of their fields",
	}
	cancelRunOp = operation{
		ID: "cancel-run", Act: permission.Sync, Of: permission.OfRun, Any: true,
		Method: http.MethodPost, Path: "/runs/{id}/cancel", Status: http.StatusOK, Tag: "runs",
		Summary: "Stop a run; what it has done is kept",
	}
	resumeRunOp = operation{
		ID: "resume-run", Act: permission.Sync, Of: permission.OfRun, Any: true,
		Method: http.MethodPost, Path: "/runs/{id}/resume", Status: http.StatusOK, Tag: "runs",
		Summary: "Go on with a run that failed or was stopped half-way",
	}
)

// runs registers the operations about runs.
func (s *Server) runs(a huma.API) {
	handle(a, listRunsOp, s.listRuns)
	handle(a, startRunOp, s.startRun)
	handle(a, getRunOp, s.getRun)
	handle(a, revertRunOp, s.revertRun)
	handle(a, listChangesOp, s.listChanges)
	handle(a, listDifferencesOp, s.listDifferences)
	handle(a, cancelRunOp, s.cancelRun)
	handle(a, resumeRunOp, s.resumeRun)
}

func (s *Server) listRuns(ctx context.Context, in *runsInput) (api.Page[api.Run], error) {
	all, err := s.Runs.Runs(ctx, runstore.Wanted{
		PairingID: in.Pairing, InterfaceID: in.Interface, ScoreLinkID: in.ScoreLink, Active: in.Active,
		Single: in.Single,
		Before: in.Cursor, Limit: in.Limit, Within: reach(ctx),
	})
	if err != nil {
		return api.Page[api.Run]{}, err
	}
	page := api.Page[api.Run]{Items: []api.Run{}, Next: last(all, in.Limit,
		func(r runstore.Run) string { return r.ID })}
	for _, r := range all {
		shown, err := s.run(ctx, r)
		if err != nil {
			return page, err
		}
		page.Items = append(page.Items, shown)
	}
	return page, nil
}

func (s *Server) startRun(ctx context.Context, in *with[api.NewRun]) (api.Run, error) {
	if err := s.mayStart(ctx, in.Body); err != nil {
		return api.Run{}, err
	}
	r, err := s.Runs.Start(ctx, auth.Caller(ctx).Name, in.Body.PreviewID, in.Body.Approved, in.Body.Only...)
	if err != nil {
		return api.Run{}, err
	}
	return s.run(ctx, r)
}

// mayStart refuses a preview of sections that the caller does not reach. To take out more people than the guard
// allows is for those who say what the pairing does.
func (s *Server) mayStart(ctx context.Context, in api.NewRun) error {
	if err := s.someOf(ctx, permission.OfPreview, in.PreviewID); err != nil || !in.Approved {
		return err
	}
	sections, err := s.Access.SectionsOf(ctx, permission.OfPreview, in.PreviewID)
	if err != nil {
		return err
	}
	return s.mayAlso(ctx, permission.Rosters, "approve removals", sections...)
}

func (s *Server) getRun(ctx context.Context, in *byID) (api.Run, error) {
	r, err := s.Runs.FindRun(ctx, in.ID)
	if err != nil {
		return api.Run{}, err
	}
	out, err := s.run(ctx, r)
	if err == nil && r.State == runstore.Queued {
		var q runstore.Queue
		q, err = s.Runs.QueueOf(ctx, r)
		out.Ahead, out.SecondsLeft = q.Ahead, q.Pace*float64(q.Ahead+1)
	}
	if err == nil {
		out.RevertedBy, err = s.Runs.RevertedBy(ctx, r.ID)
	}
	return out, err
}

func (s *Server) revertRun(ctx context.Context, in *byID) (api.Preview, error) {
	p, err := s.Runs.Revert(ctx, in.ID)
	if err != nil {
		return api.Preview{}, err
	}
	return s.preview(ctx, p)
}

func (s *Server) listChanges(ctx context.Context, in *byID) (api.Page[api.Change], error) {
	if _, err := s.Runs.FindRun(ctx, in.ID); err != nil {
		return api.Page[api.Change]{}, err
	}
	all, err := s.Runs.Changes(ctx, in.ID)
	return api.Page[api.Change]{Items: each(all, change)}, err
}

func (s *Server) listDifferences(ctx context.Context, in *byID) (api.Differences, error) {
	if _, err := s.Runs.FindRun(ctx, in.ID); err != nil {
		return api.Differences{}, err
	}
	list, more, err := s.Registers.Differences(ctx, in.ID)
	return api.Differences{
		Items: each(list, func(d mirror.Difference) api.Difference { return api.Difference(d) }),
		More:  more,
	}, err
}

func (s *Server) cancelRun(ctx context.Context, in *byID) (api.Run, error) {
	r, err := s.Runs.Cancel(ctx, auth.Caller(ctx).Name, in.ID)
	if err != nil {
		return api.Run{}, err
	}
	return s.run(ctx, r)
}

func (s *Server) resumeRun(ctx context.Context, in *byID) (api.Run, error) {
	found, err := s.Runs.FindRun(ctx, in.ID)
	if err != nil {
		return api.Run{}, err
	}
	resume := s.Runs.Resume
	if found.Kind == runstore.RunScores {
		resume = s.Scores.Resume
	}
	r, err := resume(ctx, auth.Caller(ctx).Name, in.ID)
	if err != nil {
		return api.Run{}, err
	}
	return s.run(ctx, r)
}

func change(c runstore.Change) api.Change {
	out := api.Change{Entry: entry(c.Entry), State: c.State, Code: finding.Code(c.Code), Answer: c.Answer}
	if e, ok := finding.Lookup(out.Code); ok {
		out.Entry.Title, out.Entry.Remedy, out.Entry.Owner = e.Title, e.Remedy, string(e.Owner)
	}
	return out
}

func noticed(n runstore.Noticed) api.Noticed {
	e, _ := finding.Lookup(n.Code)
	return api.Noticed{Code: n.Code, Title: e.Title, Subject: n.Subject, Detail: n.Detail, Remedy: e.Remedy}
}

func (s *Server) run(ctx context.Context, r runstore.Run) (api.Run, error) {
	out := api.Run{
		ID: r.ID, Kind: r.Kind, State: r.State, Step: r.Step, Done: r.Done, Total: r.Total, Counts: r.Counts,
		Findings: each(r.Findings, noticed),
		Code:     finding.Code(r.ErrorCode), Error: r.Error, RequestedBy: r.RequestedBy, ApprovedBy: r.ApprovedBy,
		CreatedAt: r.CreatedAt, StartedAt: r.StartedAt, FinishedAt: r.FinishedAt, Since: r.Since, Ends: r.Ends,
	}
	if r.StartedAt != nil {
		end := time.Now()
		if r.FinishedAt != nil {
			end = *r.FinishedAt
		}
		if out.Seconds = end.Sub(*r.StartedAt).Seconds(); out.Seconds > 0 {
			out.Rate = float64(r.Done) / out.Seconds
		}
		if r.Active() && r.Kind != runstore.RunRead && r.Done > 0 {
			out.SecondsLeft = out.Seconds * float64(r.Total-r.Done) / float64(r.Done)
		}
	}
	if out.Counts == nil {
		out.Counts = map[string]int{}
	}
	if e, ok := finding.Lookup(out.Code); ok {
		out.Remedy = e.Remedy
	}
	if r.Reverts != nil {
		out.Reverts = *r.Reverts
	}
	if r.BatchID != nil {
		out.BatchID = *r.BatchID
	}
	if r.NextPreview != nil {
		out.NextPreview = *r.NextPreview
	}
	return out, s.about(ctx, r, &out)
}

// about says what a run is about.
func (s *Server) about(ctx context.Context, r runstore.Run, out *api.Run) error {
	if r.InterfaceID != nil {
		c, err := s.Connections.AnyInterface(ctx, *r.InterfaceID)
		switch {
		case errors.Is(err, db.ErrNotFound): // removed for good
			out.About = "a register that was removed"
		case err != nil:
			return err
		case c.RemovedAt != nil:
			out.Interface, out.About = c.Name, c.Name+" (removed)"
		default:
			out.Interface, out.InterfaceID, out.About = c.Name, c.ID, c.Name
		}
	}
	if r.ScoreLinkID != nil {
		return s.scoreRun(ctx, r, out)
	}
	if r.PairingID != nil {
		p, err := s.Pairings.FindPairing(ctx, *r.PairingID)
		switch {
		case errors.Is(err, db.ErrNotFound): // with a service that was removed
			out.About = "a class of a service that was removed"
		case err != nil:
			return err
		default:
			out.PairingID, out.About = p.ID, p.TargetName
		}
	}
	return nil
}
