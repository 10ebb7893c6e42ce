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
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/runstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type listedInterfaces struct {
	Removed bool `query:"removed" doc:"Those that were removed and can be restored"`
}

type removal struct {
	ID   string `path:"id" doc:"The interface's id"`
	Name string `query:"name" doc:"Its name, to remove it although something depends on it; look at the preview first"`
}

// maxUpload bounds an uploaded package, in bytes.
const maxUpload = 512 << 20

type uploadInput struct {
	ID       string `path:"id" doc:"The interface's id"`
	Approved bool   `query:"approved" doc:"Go on although a guard objects"`
	RawBody  []byte `contentType:"application/zip"`
}

var (
	listInterfacesOp = operation{
		ID: "list-interfaces", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/interfaces",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "List interfaces",
	}
	getInterfaceOp = operation{
		ID: "get-interface", Act: permission.Look,
		Method: http.MethodGet, Path: "/interfaces/{id}",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Show an interface",
	}
	makeInterfaceOp = operation{
		ID: "make-interface", Act: permission.Connect,
		Method: http.MethodPost, Path: "/connections/{id}/interfaces",
		Status: http.StatusCreated, Tag: "interfaces",
		Summary: "Add an interface to a connection",
	}
	editInterfaceOp = operation{
		ID: "edit-interface", Act: permission.Connect,
		Method: http.MethodPatch, Path: "/interfaces/{id}",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Change, pause or resume an interface",
	}
	previewRemovalOp = operation{
		ID: "preview-removal", Act: permission.Look,
		Method: http.MethodGet, Path: "/interfaces/{id}/removal",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "What removing an interface would hide and stop",
	}
	removeInterfaceOp = operation{
		ID: "remove-interface", Act: permission.Connect,
		Method: http.MethodDelete, Path: "/interfaces/{id}",
		Status: http.StatusNoContent, Tag: "interfaces",
		Summary: "Remove an interface: it is switched off and hidden, and can be restored for 30 days",
	}
	restoreInterfaceOp = operation{
		ID: "restore-interface", Act: permission.Connect,
		Method: http.MethodPost, Path: "/interfaces/{id}/restore",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Bring a removed interface back as it was",
	}
	probeInterfaceOp = operation{
		ID: "probe-interface", Act: permission.Rosters,
		Method: http.MethodPost, Path: "/interfaces/{id}/probe",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Test every capability of an interface",
	}
	startReadOp = operation{
		ID: "start-read", Act: permission.Rosters,
		Method: http.MethodPost, Path: "/interfaces/{id}/read",
		Status: http.StatusCreated, Tag: "interfaces",
		Summary: "Read a register",
	}
	tryMeaningOp = operation{
		ID: "try-meaning", Act: permission.Connect,
		Method: http.MethodPost, Path: "/interfaces/{id}/meaning",
		Status: http.StatusOK, Tag: "access",
		Summary: "Try what a service's expressions make of the latest events that it reported",
	}
	listUnpairedOp = operation{
		ID: "list-unpaired", Act: permission.Look,
		Method: http.MethodGet, Path: "/interfaces/{id}/unpaired",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Classes of a service that belong to no pairing, with the sections that they probably copy",
	}
	ignoreClassesOp = operation{
		ID: "ignore-classes", Act: permission.Rosters,
		Method: http.MethodPost, Path: "/interfaces/{id}/unpaired/ignore",
		Status: http.StatusNoContent, Tag: "pairings",
		Summary: "Say of classes that they are no business of Kanban's, or are one after all",
	}
	listChoicesOp = operation{
		ID: "list-choices", Act: permission.Look,
		Method: http.MethodGet, Path: "/interfaces/{id}/choices",
		Status: http.StatusOK, Tag: "rules",
		Summary: "What a service has to choose from: the values of an operation's field, or its groups",
	}
)

// interfaces registers the operations about interfaces.
func (s *Server) interfaces(a huma.API) {
	handle(a, listInterfacesOp, s.listInterfaces)
	handleTagged(a, getInterfaceOp, s.getInterface)
	handleTagged(a, makeInterfaceOp, s.makeInterface)
	handleTagged(a, editInterfaceOp, s.editInterface)
	handle(a, previewRemovalOp, s.previewRemoval)
	handleEmpty(a, removeInterfaceOp, s.removeInterface)
	handle(a, restoreInterfaceOp, s.restoreInterface)
	handle(a, probeInterfaceOp, s.probeInterface)
	handle(a, startReadOp, s.startRead)
	handle(a, tryMeaningOp, s.tryMeaning)
	handle(a, listUnpairedOp, s.listUnpaired)
	handleEmpty(a, ignoreClassesOp, s.ignoreClasses)
	handle(a, listChoicesOp, s.listChoices)
	s.upload(a)
}

func (s *Server) listInterfaces(ctx context.Context, in *listedInterfaces) (api.Page[api.Interface], error) {
	var all []connectionstore.Interface
	var err error
	if in.Removed {
		all, err = s.Connections.RemovedInterfaces(ctx)
	} else {
		all, err = s.Connections.Interfaces(ctx)
	}
	page := api.Page[api.Interface]{Items: []api.Interface{}}
	for _, c := range all {
		shown, err := s.oneInterface(ctx, c)
		if err != nil {
			return page, err
		}
		page.Items = append(page.Items, named(ctx, shown))
	}
	return page, err
}

// named leaves of an interface what whoever reaches only some sections needs to know: what it is called, and whether
// it is paused.
func named(ctx context.Context, x api.Interface) api.Interface {
	if reach(ctx) == nil {
		return x
	}
	return api.Interface{
		ID: x.ID, ConnectionID: x.ConnectionID, Connection: x.Connection, Label: x.Label, Name: x.Name, Kind: x.Kind,
		Title: x.Title, Paused: x.Paused, PausedAlone: x.PausedAlone, Settings: map[string]string{},
		Probe:     []api.Report{},
		Checklist: api.Checklist{Steps: []api.Step{}}, Rests: []api.Rest{},
	}
}

func (s *Server) getInterface(ctx context.Context, in *byID) (api.Interface, int, error) {
	c, err := s.Connections.FindInterface(ctx, in.ID)
	if err != nil {
		return api.Interface{}, 0, err
	}
	shown, err := s.oneInterface(ctx, c)
	return shown, c.Version, err
}

func (s *Server) makeInterface(ctx context.Context, in *withID[api.NewInterface]) (api.Interface, int, error) {
	c, made, err := s.Connections.Add(ctx, auth.Caller(ctx).Name, in.ID, connections.NewInterface{
		Kind: in.Body.Kind, Label: in.Body.Label, Values: in.Body.Values,
	})
	if err != nil {
		return api.Interface{}, 0, err
	}
	shown, err := s.madeInterface(ctx, c, made)
	return shown, c.Version, err
}

// madeInterface shows an interface that was just made, with what the other side needs of it.
func (s *Server) madeInterface(ctx context.Context, c connectionstore.Interface, made connections.Made) (api.Interface,
	error,
) {
	shown, err := s.oneInterface(ctx, c)
	shown.Made = made
	switch c.Kind {
	case adapter.KindXAPI:
		made["endpoint"] = s.Public + "/xapi"
	case adapter.KindEvents:
		made["endpoint"] = s.Public + "/reported/" + c.ID
	case adapter.KindPickup:
		made["endpoint"] = s.Public + "/pickup/enrolments.zip"
	}
	return shown, err
}

func (s *Server) editInterface(ctx context.Context, in *edit[api.EditInterface]) (api.Interface, int, error) {
	v, err := version(in.IfMatch)
	if err != nil {
		return api.Interface{}, 0, err
	}
	c, err := s.Connections.Update(ctx, auth.Caller(ctx).Name, in.ID, v,
		connections.Change{
			Label: in.Body.Label, Values: in.Body.Values, Paused: in.Body.Paused,
			Untested: in.Body.Untested,
		})
	if err != nil {
		return api.Interface{}, 0, err
	}
	shown, err := s.oneInterface(ctx, c)
	return shown, c.Version, err
}

func (s *Server) previewRemoval(ctx context.Context, in *byID) (api.Removal, error) {
	c, err := s.Connections.FindInterface(ctx, in.ID)
	if err != nil {
		return api.Removal{}, err
	}
	all, err := s.Connections.Dependents(ctx, in.ID)
	return removalOf(c.Name, all), err
}

func (s *Server) removeInterface(ctx context.Context, in *removal) error {
	return s.Connections.Remove(ctx, auth.Caller(ctx).Name, in.ID, in.Name)
}

func (s *Server) restoreInterface(ctx context.Context, in *withID[api.Restored]) (api.Interface, error) {
	c, err := s.Connections.Restore(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Name)
	if err != nil {
		return api.Interface{}, err
	}
	return s.oneInterface(ctx, c)
}

func (s *Server) probeInterface(ctx context.Context, in *byID) ([]api.Report, error) {
	reports, err := s.Connections.Probe(ctx, in.ID)
	return each(reports, shownProbe), err
}

func (s *Server) startRead(ctx context.Context, in *withID[api.ReadRequest]) (api.Run, error) {
	r, err := s.Registers.Start(ctx, auth.Caller(ctx).Name,
		registers.Request{InterfaceID: in.ID, Approved: in.Body.Approved, Changes: in.Body.Changes})
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
		ID: "start-upload", Act: permission.Rosters,
		Method: http.MethodPost, Path: "/interfaces/{id}/upload", Status: http.StatusCreated,
		Tag: "interfaces", Summary: "Read an uploaded OneRoster CSV package",
	}.huma()
	op.MaxBodyBytes, op.BodyReadTimeout = maxUpload, 10*time.Minute
	huma.Register(a, op, func(ctx context.Context, in *uploadInput) (*answer[api.Run], error) {
		if len(in.RawBody) == 0 {
			return nil, problemOf(refusal.Invalid("", "the request holds no file"))
		}
		r, err := s.Registers.Start(ctx, auth.Caller(ctx).Name,
			registers.Request{InterfaceID: in.ID, Approved: in.Approved, Upload: in.RawBody})
		if err != nil {
			return nil, problemOf(err)
		}
		shown, err := s.run(ctx, r)
		return &answer[api.Run]{shown}, problemOf(err)
	})
}

func shownProbe(r adapter.Report) api.Report {
	out := api.Report{Capability: string(r.Capability), State: string(r.State), Code: r.Code, Detail: r.Detail}
	if e, ok := finding.Lookup(r.Code); ok {
		out.Remedy, out.Owner = e.Remedy, string(e.Owner)
	}
	return out
}

func (s *Server) oneInterface(ctx context.Context, c connectionstore.Interface) (api.Interface, error) {
	kind, _ := adapter.Lookup(c.Kind)
	out := api.Interface{
		ID: c.ID, Name: c.Name, Kind: c.Kind, Title: kind.Title, Settings: c.Settings, ConnectionID: c.ConnectionID,
		Connection: c.Connection.Name, Label: c.Label, Paused: c.Paused(), PausedAlone: c.PausedAt != nil,
		Probe: []api.Report{}, ProbedAt: c.ProbedAt, Version: c.Version, Rests: []api.Rest{}, RemovedAt: c.RemovedAt,
	}
	now, pending, err := s.Connections.Grants(ctx, c.ID)
	if err != nil {
		return out, err
	}
	out.SignsIn, out.Grant, out.Pending = adapter.SignsIn(c.Settings), shownGrant(c, now), shownGrant(c, pending)
	if c.RemovedAt != nil { // nothing of it works or is tested
		out.Checklist = api.Checklist{Steps: []api.Step{}}
		return out, nil
	}
	rests, err := s.Findings.Rests(ctx, c.ID)
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
		out.Probe = each(reports, shownProbe)
	}
	list, err := s.Findings.Interface(ctx, c)
	if err != nil {
		return out, err
	}
	out.Checklist = checklist(list)
	if !adapter.IsRegister(c.Kind) {
		return out, nil
	}
	runs, err := s.Runs.Runs(ctx, runstore.Wanted{InterfaceID: c.ID, Limit: 1})
	if err == nil && len(runs) > 0 {
		var r api.Run
		r, err = s.run(ctx, runs[0])
		out.LastRead = &r
	}
	return out, err
}

type unpairedInput struct {
	ID      string `path:"id" doc:"The interface's id"`
	Ignored bool   `query:"ignored" doc:"Those that are ignored instead"`
}

type choicesInput struct {
	ID        string `path:"id" doc:"The interface's id"`
	Operation string `query:"operation" doc:"Name of an operation; the service's groups when absent"`
	Field     string `query:"field" doc:"Name of the operation's field"`
}

func meaningExample(x purchases.Example) api.MeaningExample {
	reported, _ := x.Data["reported"].(string)
	values := map[string]string{
		"person": x.Person, "offer": x.Offer, "order": x.Order, "buyerName": x.BuyerName,
		"starts": fmt.Sprint(x.Starts), "ends": fmt.Sprint(x.Ends), "scores": fmt.Sprint(x.Scores),
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
