package web

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/adapter"
	"kanban/internal/app/connections"
	"kanban/internal/app/pairings"
	"kanban/internal/app/purchases"
	"kanban/internal/app/registers"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type listedConnections struct {
	Removed bool `query:"removed" doc:"Those that were removed and can be restored"`
}

type removal struct {
	ID   string `path:"id" doc:"The connection's id"`
	Name string `query:"name" doc:"Its name, to remove it although something depends on it; look at the preview first"`
}

// maxUpload bounds an uploaded package, in bytes.
const maxUpload = 512 << 20

type uploadInput struct {
	ID       string `path:"id" doc:"The connection's id"`
	Approved bool   `query:"approved" doc:"Go on although a guard objects"`
	RawBody  []byte `contentType:"application/zip"`
}

var (
	listConnectionsOp = operation{
		ID: "list-connections", Method: http.MethodGet, Path: "/connections",
		Status: http.StatusOK, Tag: "connections",
		Summary: "List connections",
	}
	getConnectionOp = operation{
		ID: "get-connection", Method: http.MethodGet, Path: "/connections/{id}",
		Status: http.StatusOK, Tag: "connections",
		Summary: "Show a connection",
	}
	makeConnectionOp = operation{
		ID: "make-connection", Method: http.MethodPost, Path: "/connections",
		Status: http.StatusCreated, Tag: "connections",
		Summary: "Connect an outside system",
	}
	editConnectionOp = operation{
		ID: "edit-connection", Method: http.MethodPatch, Path: "/connections/{id}",
		Status: http.StatusOK, Tag: "connections",
		Summary: "Change, pause or resume a connection",
	}
	previewRemovalOp = operation{
		ID: "preview-removal", Method: http.MethodGet, Path: "/connections/{id}/removal",
		Status: http.StatusOK, Tag: "connections",
		Summary: "What removing a connection would hide and stop",
	}
	removeConnectionOp = operation{
		ID: "remove-connection", Method: http.MethodDelete, Path: "/connections/{id}",
		Status: http.StatusNoContent, Tag: "connections",
		Summary: "Remove a connection: it is switched off and hidden, and can be restored for 30 days",
	}
	restoreConnectionOp = operation{
		ID: "restore-connection", Method: http.MethodPost, Path: "/connections/{id}/restore",
		Status: http.StatusOK, Tag: "connections",
		Summary: "Bring a removed connection back as it was",
	}
	probeConnectionOp = operation{
		ID: "probe-connection", Method: http.MethodPost, Path: "/connections/{id}/probe",
		Status: http.StatusOK, Tag: "connections",
		Summary: "Test every capability of a connection",
	}
	startReadOp = operation{
		ID: "start-read", Method: http.MethodPost, Path: "/connections/{id}/read",
		Status: http.StatusCreated, Tag: "connections",
		Summary: "Read a register",
	}
	tryMeaningOp = operation{
		ID: "try-meaning", Method: http.MethodPost, Path: "/connections/{id}/meaning",
		Status: http.StatusOK, Tag: "access",
		Summary: "Try what a service's expressions make of the latest events that it reported",
	}
	listUnpairedOp = operation{
		ID: "list-unpaired", Method: http.MethodGet, Path: "/connections/{id}/unpaired",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Classes of a service that belong to no pairing, with the sections that they probably copy",
	}
	ignoreClassesOp = operation{
		ID: "ignore-classes", Method: http.MethodPost, Path: "/connections/{id}/unpaired/ignore",
		Status: http.StatusNoContent, Tag: "pairings",
		Summary: "Say of classes that they are no business of Kanban's, or are one after all",
	}
	listChoicesOp = operation{
		ID: "list-choices", Method: http.MethodGet, Path: "/connections/{id}/choices",
		Status: http.StatusOK, Tag: "rules",
		Summary: "What a service has to choose from: the values of an operation's field, or its groups",
	}
)

// connections registers the operations about connections.
func (s *Server) connections(a huma.API) {
	handle(a, listConnectionsOp, s.listConnections)
	handleTagged(a, getConnectionOp, s.getConnection)
	handleTagged(a, makeConnectionOp, s.makeConnection)
	handleTagged(a, editConnectionOp, s.editConnection)
	handle(a, previewRemovalOp, s.previewRemoval)
	handleEmpty(a, removeConnectionOp, s.removeConnection)
	handle(a, restoreConnectionOp, s.restoreConnection)
	handle(a, probeConnectionOp, s.probeConnection)
	handle(a, startReadOp, s.startRead)
	handle(a, tryMeaningOp, s.tryMeaning)
	handle(a, listUnpairedOp, s.listUnpaired)
	handleEmpty(a, ignoreClassesOp, s.ignoreClasses)
	handle(a, listChoicesOp, s.listChoices)
	s.upload(a)
}

func (s *Server) listConnections(ctx context.Context, in *listedConnections) (api.Page[api.Connection], error) {
	var all []connectionstore.Connection
	var err error
	if in.Removed {
		all, err = s.Connections.RemovedConnections(ctx)
	} else {
		all, err = s.Connections.Connections(ctx)
	}
	page := api.Page[api.Connection]{Items: []api.Connection{}}
	for _, c := range all {
		shown, err := s.connection(ctx, c)
		if err != nil {
			return page, err
		}
		page.Items = append(page.Items, shown)
	}
	return page, err
}

func (s *Server) getConnection(ctx context.Context, in *byID) (api.Connection, int, error) {
	c, err := s.Connections.FindConnection(ctx, in.ID)
	if err != nil {
		return api.Connection{}, 0, err
	}
	shown, err := s.connection(ctx, c)
	return shown, c.Version, err
}

func (s *Server) makeConnection(ctx context.Context, in *with[api.NewConnection]) (api.Connection, int, error) {
	c, made, err := s.Connections.Create(ctx, auth.Caller(ctx).Name, in.Body.Kind, in.Body.Name, in.Body.Values)
	if err != nil {
		return api.Connection{}, 0, err
	}
	shown, err := s.connection(ctx, c)
	shown.Made = made
	switch c.Kind {
	case adapter.KindXAPI:
		made["endpoint"] = s.Public + "/xapi"
	case adapter.KindEvents:
		made["endpoint"] = s.Public + "/reported/" + c.ID
	case adapter.KindPickup:
		made["endpoint"] = s.Public + "/pickup/enrolments.zip"
	}
	return shown, c.Version, err
}

func (s *Server) editConnection(ctx context.Context, in *edit[api.EditConnection]) (api.Connection, int, error) {
	v, err := version(in.IfMatch)
	if err != nil {
		return api.Connection{}, 0, err
	}
	c, err := s.Connections.Update(ctx, auth.Caller(ctx).Name, in.ID, v,
		connections.Change{
			Name: in.Body.Name, Values: in.Body.Values, Paused: in.Body.Paused,
			Untested: in.Body.Untested,
		})
	if err != nil {
		return api.Connection{}, 0, err
	}
	shown, err := s.connection(ctx, c)
	return shown, c.Version, err
}

func (s *Server) previewRemoval(ctx context.Context, in *byID) (api.Removal, error) {
	c, err := s.Connections.FindConnection(ctx, in.ID)
	if err != nil {
		return api.Removal{}, err
	}
	all, err := s.Connections.Dependents(ctx, in.ID)
	return api.Removal{
		Name: c.Name, Summary: connections.Describe(all),
		Dependents: each(all, func(d connectionstore.Dependent) api.Dependent { return api.Dependent(d) }),
	}, err
}

func (s *Server) removeConnection(ctx context.Context, in *removal) error {
	return s.Connections.Remove(ctx, auth.Caller(ctx).Name, in.ID, in.Name)
}

func (s *Server) restoreConnection(ctx context.Context, in *withID[api.Restored]) (api.Connection, error) {
	c, err := s.Connections.Restore(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Name)
	if err != nil {
		return api.Connection{}, err
	}
	return s.connection(ctx, c)
}

func (s *Server) probeConnection(ctx context.Context, in *byID) ([]api.Report, error) {
	reports, err := s.Connections.Probe(ctx, in.ID)
	return each(reports, report), err
}

func (s *Server) startRead(ctx context.Context, in *withID[api.ReadRequest]) (api.Run, error) {
	r, err := s.Registers.Start(ctx, auth.Caller(ctx).Name,
		registers.Request{ConnectionID: in.ID, Approved: in.Body.Approved, Changes: in.Body.Changes})
	if err != nil {
		return api.Run{}, err
	}
	return s.run(ctx, r)
}

func (s *Server) tryMeaning(ctx context.Context, in *withID[api.MeaningTry]) (api.Meaning, error) {
	t, err := s.Purchases.TryMapping(ctx, in.ID, in.Body.Values)
	return api.Meaning{Mapping: t.Mapping, Wrong: t.Wrong, Examples: each(t.Examples, meaningExample)}, err
}

func (s *Server) listUnpaired(ctx context.Context, in *unpairedInput) ([]api.UnpairedClass, error) {
	all, err := s.Pairings.Unpaired(ctx, in.ID, in.Ignored)
	return each(all, unpaired), err
}

func (s *Server) ignoreClasses(ctx context.Context, in *withID[api.Ignoring]) error {
	return s.Pairings.Ignore(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Refs, in.Body.Ignore)
}

func (s *Server) listChoices(ctx context.Context, in *choicesInput) ([]string, error) {
	all, err := s.Rules.Choices(ctx, in.ID, in.Operation, in.Field)
	return append([]string{}, all...), err
}

// upload takes a package of a register of files and reads it.
func (s *Server) upload(a huma.API) {
	op := operation{
		ID: "start-upload", Method: http.MethodPost, Path: "/connections/{id}/upload", Status: http.StatusCreated,
		Tag: "connections", Summary: "Read an uploaded OneRoster CSV package",
	}.huma()
	op.MaxBodyBytes, op.BodyReadTimeout = maxUpload, 10*time.Minute
	huma.Register(a, op, func(ctx context.Context, in *uploadInput) (*answer[api.Run], error) {
		if len(in.RawBody) == 0 {
			return nil, problemOf(refusal.Invalid("", "the request holds no file"))
		}
		r, err := s.Registers.Start(ctx, auth.Caller(ctx).Name,
			registers.Request{ConnectionID: in.ID, Approved: in.Approved, Upload: in.RawBody})
		if err != nil {
			return nil, problemOf(err)
		}
		shown, err := s.run(ctx, r)
		return &answer[api.Run]{shown}, problemOf(err)
	})
}

func report(r adapter.Report) api.Report {
	out := api.Report{Capability: string(r.Capability), State: string(r.State), Code: r.Code, Detail: r.Detail}
	if e, ok := finding.Lookup(r.Code); ok {
		out.Remedy, out.Owner = e.Remedy, string(e.Owner)
	}
	return out
}

func (s *Server) connection(ctx context.Context, c connectionstore.Connection) (api.Connection, error) {
	kind, _ := adapter.Lookup(c.Kind)
	out := api.Connection{
		ID: c.ID, Name: c.Name, Kind: c.Kind, Title: kind.Title, Settings: c.Settings, Paused: c.PausedAt != nil,
		Probe: []api.Report{}, ProbedAt: c.ProbedAt, Version: c.Version, Rests: []api.Rest{}, RemovedAt: c.RemovedAt,
	}
	if c.RemovedAt != nil { // nothing of it works or is tested
		out.Checklist = api.Checklist{Steps: []api.Step{}}
		return out, nil
	}
	rests, err := s.Reports.Rests(ctx, c.ID)
	if err != nil {
		return out, err
	}
	for _, r := range rests {
		out.Rests = append(out.Rests, api.Rest{
			Operation: r.Title, Reason: r.Reason, Failures: r.Failures,
			Since: r.Since, Until: r.RestsUntil, Waiting: r.Waiting,
		})
	}
	// known without asking, so always as of now
	if (c.Kind == adapter.KindXAPI || c.Kind == adapter.KindEvents) && c.ProbedAt != nil {
		heard, err := s.Connections.Heard(ctx, c.ID, c.Kind)
		if err != nil {
			return out, err
		}
		if c.Probe, err = json.Marshal(heard); err != nil {
			return out, err
		}
	}
	var reports []adapter.Report
	if len(c.Probe) > 0 && json.Unmarshal(c.Probe, &reports) == nil {
		out.Probe = each(reports, report)
	}
	list, err := s.Reports.Connection(ctx, c)
	if err != nil {
		return out, err
	}
	out.Checklist = checklist(list)
	if !adapter.IsRegister(c.Kind) {
		return out, nil
	}
	runs, err := s.Runs.Runs(ctx, "", c.ID, "", 1)
	if err == nil && len(runs) > 0 {
		var r api.Run
		r, err = s.run(ctx, runs[0])
		out.LastRead = &r
	}
	return out, err
}

type unpairedInput struct {
	ID      string `path:"id" doc:"The connection's id"`
	Ignored bool   `query:"ignored" doc:"Those that are ignored instead"`
}

type choicesInput struct {
	ID        string `path:"id" doc:"The connection's id"`
	Operation string `query:"operation" doc:"Name of an operation; the service's groups when absent"`
	Field     string `query:"field" doc:"Name of the operation's field"`
}

func meaningExample(x purchases.Example) api.MeaningExample {
	reported, _ := x.Data["reported"].(string)
	values := map[string]string{
		"person": x.Person, "offer": x.Offer, "order": x.Order, "buyerName": x.BuyerName,
		"starts": fmt.Sprint(x.Starts), "ends": fmt.Sprint(x.Ends),
	}
	return api.MeaningExample{
		EventID: x.ID, At: x.OccurredAt, Reported: reported, Means: x.Means, Values: values, Problems: x.Problems,
		Known: x.Known, Leads: x.Leads, Places: x.Places,
	}
}

func unpaired(u pairings.Unpaired) api.UnpairedClass {
	out := api.UnpairedClass{Ref: u.Ref, Name: u.Name, Members: u.Members}
	if u.Ignored != nil {
		out.IgnoredBy, out.IgnoredAt = u.Ignored.IgnoredBy, &u.Ignored.IgnoredAt
	}
	out.Guesses = each(u.Guesses, func(g pairings.Guess) api.Guess {
		return api.Guess{
			Section: sectionRef(*g.Card.Section), Score: g.Evidence.Score, Shared: g.Evidence.Shared,
			Others: g.Evidence.Others, Teachers: g.Evidence.Teachers, Paired: g.Paired,
		}
	})
	out.Tied = len(u.Guesses) > 1 && u.Guesses[0].Evidence.Score == u.Guesses[1].Evidence.Score
	return out
}
