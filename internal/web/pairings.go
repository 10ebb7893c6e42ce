package web

import (
	"bytes"
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"kanban/internal/core/refusal"

	"kanban/internal/app/pairings"
	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
	"kanban/internal/wire/sheet"
)

var (
	comparePairingOp = operation{
		ID: "compare-pairing", Act: permission.Look, Of: permission.OfPairing,
		Method: http.MethodGet, Path: "/pairings/{id}/comparison",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Compare both sides now, side by side, changing nothing",
	}
	listPairingsOp = operation{
		ID: "list-pairings", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/pairings", Status: http.StatusOK, Tag: "pairings",
		Summary: "List pairings, without their checklists, freshness and runs",
	}
	makePairingOp = operation{
		ID: "make-pairing", Act: permission.Rosters, Of: permission.Listed,
		Method: http.MethodPost, Path: "/pairings", Status: http.StatusCreated, Tag: "pairings",
		Summary: "Pair a section with a new target",
	}
	getPairingOp = operation{
		ID: "get-pairing", Act: permission.Look, Of: permission.OfPairing,
		Method: http.MethodGet, Path: "/pairings/{id}", Status: http.StatusOK, Tag: "pairings",
		Summary: "Show a pairing",
	}
	editPairingOp = operation{
		ID: "edit-pairing", Act: permission.Rosters, Of: permission.OfPairing,
		Method: http.MethodPatch, Path: "/pairings/{id}",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Change, pause or resume a pairing",
	}
	openClassOp = operation{
		ID: "open-class", Act: permission.Sync, Of: permission.OfPairing,
		Method: http.MethodPost, Path: "/pairings/{id}/open",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Let the learners of a held class in, now or at a time",
	}
	previewOpeningOp = operation{
		ID: "preview-opening", Act: permission.Look, Of: permission.OfPairing,
		Method: http.MethodGet, Path: "/pairings/{id}/opening",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "What opening a held class would mean now; nothing is done",
	}
	cancelOpeningOp = operation{
		ID: "cancel-opening", Act: permission.Sync, Of: permission.OfPairing,
		Method: http.MethodDelete, Path: "/pairings/{id}/opening",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Cancel when a held class opens; it stays held",
	}
	holdClassOp = operation{
		ID: "hold-class", Act: permission.Sync, Of: permission.OfPairing,
		Method: http.MethodPost, Path: "/pairings/{id}/hold",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Hold learners back again; who is in stays in",
	}
	renewClassOp = operation{
		ID: "renew-class", Act: permission.Rosters, Of: permission.OfPairing,
		Method: http.MethodPost, Path: "/pairings/{id}/renew",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Let the next run make a class anew that was deleted at the service",
	}
	takeOverOp = operation{
		ID: "take-over", Act: permission.Rosters, Of: permission.OfPairing,
		Method: http.MethodPost, Path: "/pairings/{id}/take-over",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Say whether Kanban minds the places of the section's people who were in the class already",
	}
	syncPairingsOp = operation{
		ID: "sync-pairings", Act: permission.Sync, Of: permission.Listed,
		Method: http.MethodPost, Path: "/pairings/sync",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Bring many pairings in step now",
	}
	unpairOp = operation{
		ID: "unpair", Act: permission.Rosters, Of: permission.OfPairing,
		Method: http.MethodDelete, Path: "/pairings/{id}",
		Status: http.StatusNoContent, Tag: "pairings",
		Summary: "End a pairing; the target and its members stay",
	}
	makePreviewOp = operation{
		ID: "make-preview", Act: permission.Sync, Of: permission.OfPairing, Any: true,
		Method: http.MethodPost, Path: "/pairings/{id}/previews",
		Status: http.StatusCreated, Tag: "pairings",
		Summary: "Compare now and show what a run would do",
	}
	previewEndingOp = operation{
		ID: "preview-ending", Act: permission.Rosters, Of: permission.OfPairing,
		Method: http.MethodPost, Path: "/pairings/{id}/ending",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Show what it means to end a pairing and take its people out",
	}
	previewEndOp = operation{
		ID: "preview-end", Act: permission.Look, Of: permission.OfPairing,
		Method: http.MethodGet, Path: "/pairings/{id}/effects",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "What becomes of everybody in a class when its pairing ends; nothing is done",
	}
	getPreviewOp = operation{
		ID: "get-preview", Act: permission.Look, Of: permission.OfPreview,
		Method: http.MethodGet, Path: "/previews/{id}", Status: http.StatusOK, Tag: "pairings",
		Summary: "Show a preview",
	}
)

// pairings registers the operations about pairings.
func (s *Server) pairings(a huma.API) {
	handle(a, comparePairingOp, s.comparePairing)
	handle(a, listPairingsOp, s.listPairings)
	handleTagged(a, makePairingOp, s.makePairing)
	handleTagged(a, getPairingOp, s.getPairing)
	handleTagged(a, editPairingOp, s.editPairing)
	handleTagged(a, openClassOp, s.openClass)
	handle(a, previewOpeningOp, s.previewOpening)
	handleTagged(a, cancelOpeningOp, s.cancelOpening)
	handleTagged(a, holdClassOp, s.holdClass)
	handleTagged(a, renewClassOp, s.renewClass)
	handleTagged(a, takeOverOp, s.takeOver)
	handle(a, syncPairingsOp, s.syncPairings)
	handleEmpty(a, unpairOp, s.unpair)
	handle(a, makePreviewOp, s.makePreview)
	handle(a, previewEndingOp, s.previewEnding)
	handle(a, previewEndOp, s.previewEnd)
	handle(a, getPreviewOp, s.getPreview)
	s.comparisonFile(a)
}

func (s *Server) comparePairing(ctx context.Context, in *byID) (api.Page[api.Line], error) {
	list, err := s.Runs.Lines(ctx, in.ID)
	return api.Page[api.Line]{Items: each(list, line)}, err
}

func (s *Server) listPairings(ctx context.Context, in *Paging) (api.Page[api.Pairing], error) {
	cards, err := s.Pairings.Cards(ctx, pairings.Filter{Within: reach(ctx)})
	if err != nil {
		return api.Page[api.Pairing]{}, err
	}
	cards = slices.DeleteFunc(cards, func(c pairings.Card) bool { return c.Pairing == nil })
	items, next, err := paged(cards, in.Cursor, in.Limit)
	if err != nil {
		return api.Page[api.Pairing]{}, err
	}
	kept, err := s.Pairings.PairingsByID(ctx, each(items, func(c pairings.Card) string { return c.Pairing.ID }))
	return api.Page[api.Pairing]{Next: next, Items: each(items,
		func(c pairings.Card) api.Pairing { return shown(c, kept[c.Pairing.ID]) })}, err
}

func (s *Server) makePairing(ctx context.Context, in *with[api.NewPairing]) (api.Pairing, int, error) {
	if err := s.mayPair(ctx, in.Body.SectionID); err != nil {
		return api.Pairing{}, 0, err
	}
	p, err := s.Pairings.Pair(ctx, auth.Caller(ctx).Name, pairings.Wish{
		SectionID: in.Body.SectionID, InterfaceID: in.Body.InterfaceID, TargetName: in.Body.Target,
		TargetRef: in.Body.TargetRef, Template: in.Body.Template, Policy: in.Body.Policy,
		Details: in.Body.Details,
	})
	return s.taggedPairing(ctx, p.ID, err)
}

func (s *Server) getPairing(ctx context.Context, in *byID) (api.Pairing, int, error) {
	return s.taggedPairing(ctx, in.ID, nil)
}

func (s *Server) editPairing(ctx context.Context, in *edit[api.EditPairing]) (api.Pairing, int, error) {
	v, err := version(in.IfMatch)
	if err == nil && (in.Body.Policy != nil || in.Body.Paused != nil) {
		var p pairingstore.Pairing
		p, err = s.Pairings.Change(ctx, auth.Caller(ctx).Name, in.ID, v,
			pairings.Edit{Policy: in.Body.Policy, Paused: in.Body.Paused})
		if v > 0 {
			v = p.Version // the next change is made on this one
		}
	}
	if err == nil && in.Body.Target != nil {
		err = s.Runs.Rename(ctx, auth.Caller(ctx).Name, in.ID, v, *in.Body.Target)
	}
	return s.taggedPairing(ctx, in.ID, err)
}

func (s *Server) openClass(ctx context.Context, in *withID[api.Opening]) (api.Pairing, int, error) {
	return s.taggedPairing(ctx, in.ID, s.Runs.OpenClass(ctx, auth.Caller(ctx).Name, in.ID, in.Body.At))
}

func (s *Server) previewOpening(ctx context.Context, in *byID) (api.OpeningOutlook, error) {
	o, err := s.Runs.Opening(ctx, in.ID)
	if err != nil {
		return api.OpeningOutlook{}, err
	}
	p, err := s.Pairings.FindPairing(ctx, in.ID)
	if err != nil {
		return api.OpeningOutlook{}, err
	}
	notice, err := s.notice(ctx, p)
	return api.OpeningOutlook{Learners: o.Learners, NewAccounts: o.NewAccounts, Notice: notice}, err
}

func (s *Server) cancelOpening(ctx context.Context, in *byID) (api.Pairing, int, error) {
	return s.taggedPairing(ctx, in.ID, s.Runs.CancelOpening(ctx, auth.Caller(ctx).Name, in.ID))
}

func (s *Server) holdClass(ctx context.Context, in *byID) (api.Pairing, int, error) {
	return s.taggedPairing(ctx, in.ID, s.Runs.HoldClass(ctx, auth.Caller(ctx).Name, in.ID))
}

func (s *Server) renewClass(ctx context.Context, in *byID) (api.Pairing, int, error) {
	return s.taggedPairing(ctx, in.ID, s.Runs.Renew(ctx, auth.Caller(ctx).Name, in.ID))
}

func (s *Server) takeOver(ctx context.Context, in *withID[api.TakeOver]) (api.Pairing, int, error) {
	return s.taggedPairing(ctx, in.ID, s.Pairings.TakeOver(ctx, auth.Caller(ctx).Name, in.ID, !in.Body.Leave))
}

func (s *Server) syncPairings(ctx context.Context, in *with[api.SyncNow]) (api.Queued, error) {
	if err := s.maySync(ctx, in.Body); err != nil {
		return api.Queued{}, err
	}
	n, err := s.Runs.SyncNow(ctx, auth.Caller(ctx).Name, in.Body.CourseID, in.Body.InterfaceID, in.Body.Pairings)
	return api.Queued{Pairings: n}, err
}

// mayPair refuses a section that the caller does not reach with all of its set.
func (s *Server) mayPair(ctx context.Context, sectionID string) error {
	if reach(ctx) == nil {
		return nil
	}
	section, err := s.Registers.FindSection(ctx, sectionID)
	if err != nil {
		return err
	}
	if section.SetID != nil {
		sections, err := s.Access.SectionsOf(ctx, permission.OfSet, *section.SetID)
		if err != nil {
			return err
		}
		return allOf(ctx, sections...)
	}
	return allOf(ctx, section.ID)
}

// maySync refuses more than single pairings to callers who reach only some sections.
func (s *Server) maySync(ctx context.Context, in api.SyncNow) error {
	if reach(ctx) != nil && len(in.Pairings) == 0 {
		return refusal.Invalid("pairings", "is missing: your role holds for some sections; name the pairings")
	}
	return s.someOf(ctx, permission.OfPairing, in.Pairings...)
}

func (s *Server) unpair(ctx context.Context, in *byID) error {
	return s.Pairings.Unpair(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) makePreview(ctx context.Context, in *byID) (api.Preview, error) {
	p, err := s.Runs.Preview(ctx, in.ID)
	if err != nil {
		return api.Preview{}, err
	}
	return s.preview(ctx, p)
}

func (s *Server) previewEnding(ctx context.Context, in *byID) (api.Preview, error) {
	p, err := s.Runs.Ending(ctx, in.ID)
	if err != nil {
		return api.Preview{}, err
	}
	return s.preview(ctx, p)
}

func (s *Server) previewEnd(ctx context.Context, in *endInput) (api.ClassEffects, error) {
	p, err := s.Pairings.FindPairing(ctx, in.ID)
	if err != nil {
		return api.ClassEffects{}, err
	}
	out := api.ClassEffects{PairingID: p.ID, Target: p.TargetName}
	var people []roster.Affected
	if in.Members == "remove" {
		people, err = s.Runs.TakenOut(ctx, p)
	} else {
		people, err = s.Runs.Effects(ctx, p, true)
	}
	out.People = each(people, affected)
	for i := range out.People {
		if p := &out.People[i]; in.Members == "remove" && p.Effect == roster.Removed {
			p.Why = "Kanban put them in"
		}
	}
	return out, err
}

func (s *Server) getPreview(ctx context.Context, in *byID) (api.Preview, error) {
	p, err := s.Pairings.FindPreview(ctx, in.ID)
	if err != nil {
		return api.Preview{}, err
	}
	return s.preview(ctx, p)
}

// comparisonFile gives the comparison as CSV.
func (s *Server) comparisonFile(a huma.API) {
	op := operation{
		ID: "export-comparison", Act: permission.Look, Of: permission.OfPairing,
		Method: http.MethodGet, Path: "/pairings/{id}/comparison.csv", Status: http.StatusOK,
		Tag: "pairings", Summary: "The same as a CSV file",
	}.huma()
	op.Responses = map[string]*huma.Response{"200": {
		Description: "CSV",
		Content:     map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: "string"}}},
	}}
	type file struct {
		ContentType string `header:"Content-Type"`
		Disposition string `header:"Content-Disposition"`
		Body        []byte
	}
	huma.Register(a, op, func(ctx context.Context, in *byID) (*file, error) {
		list, err := s.Runs.Lines(ctx, in.ID)
		if err != nil {
			return nil, problemOf(err)
		}
		rows := make([][]string, len(list))
		for i, l := range list {
			x := line(l)
			rows[i] = x.Cells()
		}
		var out bytes.Buffer
		if err := sheet.CSV(&out, api.LineColumns, rows); err != nil {
			return nil, problemOf(err)
		}
		return &file{"text/csv; charset=utf-8", `attachment; filename="comparison.csv"`, out.Bytes()}, nil
	})
}

type endInput struct {
	ID      string `path:"id" doc:"The pairing's id"`
	Members string `query:"members" enum:"keep,remove" default:"keep" doc:"Whether whom Kanban put in stays"`
}

func remark(r pairings.Remark) api.Obstacle {
	text, _ := finding.Lookup(r.Code)
	return api.Obstacle{Code: r.Code, Title: text.Title, Detail: r.Detail, Remedy: text.Remedy, Blocks: r.Blocks}
}

func (s *Server) taggedPairing(ctx context.Context, id string, err error) (api.Pairing, int, error) {
	if err != nil {
		return api.Pairing{}, 0, err
	}
	p, err := s.pairing(ctx, id)
	return p, p.Version, err
}

func (s *Server) pairing(ctx context.Context, id string) (api.Pairing, error) {
	card, err := s.Pairings.Card(ctx, id)
	if err != nil {
		return api.Pairing{}, err
	}
	p := card.Pairing
	out := shown(card, *p)
	sections, err := s.linked(ctx, []pairings.Card{card})
	if err != nil {
		return out, err
	}
	out.Section = sections[0]
	list, err := s.Findings.Pairing(ctx, *p)
	if err != nil {
		return out, err
	}
	fresh, err := s.Findings.Freshness(ctx, *p, s.ReadEvery)
	if err != nil {
		return out, err
	}
	out.Checklist, out.Freshness = checklist(list), api.Freshness(fresh)
	runs, err := s.Runs.Runs(ctx, runstore.Wanted{PairingID: id, Limit: 1})
	if err == nil && len(runs) > 0 {
		var r api.Run
		r, err = s.run(ctx, runs[0])
		out.LastRun = &r
	}
	return out, err
}

// shown is a pairing without what has to be looked up for it.
func shown(c pairings.Card, p pairingstore.Pairing) api.Pairing {
	out := api.Pairing{
		ID: p.ID, Section: section(c), Target: p.TargetName, TargetRef: p.TargetRef, Policy: p.Policy,
		Paused: p.PausedAt != nil, Version: p.Version, NextRun: p.NextAt, OpensAt: p.OpensAt, Guarded: p.Guarded,
		Unminded: p.Unminded,
	}
	switch {
	case p.TargetLost:
		out.Lost = true
	case p.TargetSeen != p.TargetName:
		out.Seen = p.TargetSeen
	}
	return out
}

func entry(e roster.Entry) api.Decision {
	out := api.Decision{Entry: e, Title: finding.Title(e.Reason)}
	if e.Reason == finding.LeftOutByRule {
		out.Title = "left out: " + e.Detail // the rule's name is the reason
	}
	if e.Refused != "" {
		out.Reason = e.Refused
		out.Outcome, out.Again, out.Title = roster.OutcomeNeedsPerson, true, finding.Title(e.Refused)
		text, _ := finding.Lookup(e.Refused)
		out.Remedy, out.Owner = text.Remedy, string(text.Owner)
		return out
	}
	if e.Outcome == roster.OutcomeNeedsPerson || e.Outcome == roster.OutcomeWaiting {
		text, _ := finding.Lookup(e.Reason)
		out.Remedy, out.Owner = text.Remedy, string(text.Owner)
	}
	return out
}

func (s *Server) preview(ctx context.Context, p pairingstore.Preview) (api.Preview, error) {
	pairing, err := s.Pairings.FindPairing(ctx, p.PairingID)
	if err != nil {
		return api.Preview{}, err
	}
	out := api.Preview{
		ID: p.ID, PairingID: p.PairingID, CreatedAt: p.CreatedAt, Fingerprint: p.Fingerprint,
		Counts: p.Plan.CountsNow(), Changes: p.Plan.Counts().Changes(), Entries: each(p.Plan.Entries, entry),
	}
	slices.SortStableFunc(out.Entries, func(a, b api.Decision) int {
		return slices.Index(roster.Outcomes, a.Outcome) - slices.Index(roster.Outcomes, b.Outcome)
	})
	out.Ends = p.Ends
	if p.Reverts != nil {
		out.Reverts = *p.Reverts
	} else if n, tripped := p.Plan.GuardTripped(pairing.Policy); tripped && !p.Ends {
		out.Guard = n
	}
	if pairing.TakeOver == pairingstore.TakesOverNext {
		out.TakeOver, out.Strangers = p.Plan.TakeOvers()
	}
	for _, e := range p.Plan.Entries {
		if e.Reason == finding.NewAccount {
			out.NewAccounts++
		}
	}
	out.Notice, err = s.notice(ctx, pairing)
	return out, err
}

// notice says whether the service tells the people of a pairing for whom it makes accounts.
func (s *Server) notice(ctx context.Context, p pairingstore.Pairing) (string, error) {
	c, err := s.Connections.FindInterface(ctx, p.InterfaceID)
	switch {
	case err != nil:
		return "", err
	case c.Settings["notice"] == "":
		return "unknown", nil
	case p.Policy.Notify:
		return "notified", nil
	}
	return "not-notified", nil
}

func line(s roster.Side) api.Line {
	out := api.Line{Decision: entry(s.Entry)}
	if m := s.Member; m != nil {
		out.Register = &api.RegisterSide{
			Name: m.Name(), Email: m.Email, UserName: m.UserName,
			Identifier: m.Identifier,
		}
	}
	if a := s.Account; a != nil {
		out.Service = &api.ServiceSide{
			AccountID: a.ID, Name: joined(a.GivenName, a.FamilyName), Email: a.Email,
			UserName: a.UserName, Active: a.Active, Member: a.InTarget,
		}
	}
	return out
}

func joined(given, family string) string {
	if given == "" || family == "" {
		return given + family
	}
	return given + " " + family
}
