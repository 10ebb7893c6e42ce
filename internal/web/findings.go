package web

import (
	"bytes"
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/reports"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/rosterstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
	"kanban/internal/wire/sheet"
)

type findingsInput struct {
	Paging
	Group  string `query:"group" enum:",mend,waiting,left-out,remark" doc:"Only those of this group"`
	Code   string `query:"code" doc:"A finding code"`
	Owner  string `query:"owner" doc:"Who can mend it"`
	Text   string `query:"text" doc:"A part of whom or what it is about, where, or of its detail"`
	Person string `query:"person" doc:"Id of a person"`
	Seen   bool   `query:"seen" doc:"List what was acknowledged instead"`
}

type byKey struct {
	Key string `path:"key" doc:"The finding's key"`
}

type acknowledging struct {
	Key  string `path:"key" doc:"The finding's key"`
	Body api.Acknowledgement
}

type rosterInput struct {
	ID string `path:"id" doc:"The section's id"`
	At string `query:"at" doc:"A day such as 2026-10-01 or a time of RFC 3339; now when absent"`
}

func (s *Server) findings(a huma.API) {
	handle(a, operation{
		ID: "list-findings", Method: http.MethodGet, Path: "/findings", Status: http.StatusOK,
		Tag: "findings", Summary: "Everything that was noticed, what needs a person first",
	}, func(ctx context.Context, in *findingsInput) (api.Page[api.Finding], error) {
		list, err := s.Reports.Findings(ctx, reports.Filter{Group: reports.Group(in.Group), Code: finding.Code(in.Code), Owner: in.Owner, Text: in.Text, Person: in.Person, Seen: in.Seen})
		if err != nil {
			return api.Page[api.Finding]{}, err
		}
		items, next, err := paged(list, in.Cursor, in.Limit)
		return api.Page[api.Finding]{Items: each(items, noticedFinding), Next: next}, err
	})
	handleEmpty(a, operation{
		ID: "acknowledge-finding", Method: http.MethodPut, Path: "/findings/{key}/acknowledgement", Status: http.StatusNoContent,
		Tag: "findings", Summary: "Keep a finding quiet until it changes",
	}, func(ctx context.Context, in *acknowledging) error {
		return s.Reports.Acknowledge(ctx, auth.Caller(ctx).Name, in.Key, in.Body.Note)
	})
	handleEmpty(a, operation{
		ID: "reopen-finding", Method: http.MethodDelete, Path: "/findings/{key}/acknowledgement", Status: http.StatusNoContent,
		Tag: "findings", Summary: "Take an acknowledgement back",
	}, func(ctx context.Context, in *byKey) error {
		return s.Reports.Reopen(ctx, auth.Caller(ctx).Name, in.Key)
	})
	handle(a, operation{
		ID: "get-roster", Method: http.MethodGet, Path: "/sections/{id}/roster", Status: http.StatusOK,
		Tag: "sections", Summary: "Who was in a section on a day",
	}, func(ctx context.Context, in *rosterInput) (api.Page[api.RosterLine], error) {
		at, err := moment(in.At)
		if err != nil {
			return api.Page[api.RosterLine]{}, err
		}
		if _, err := s.Registers.FindSection(ctx, in.ID); err != nil {
			return api.Page[api.RosterLine]{}, err
		}
		list, err := s.Registers.RosterOn(ctx, in.ID, at)
		return api.Page[api.RosterLine]{Items: each(list, rosterLine)}, err
	})
	handle(a, operation{
		ID: "list-movements", Method: http.MethodGet, Path: "/sections/{id}/movements", Status: http.StatusOK,
		Tag: "sections", Summary: "Who joined and left a section since it was first read",
	}, func(ctx context.Context, in *byID) (api.Page[api.RosterLine], error) {
		if _, err := s.Registers.FindSection(ctx, in.ID); err != nil {
			return api.Page[api.RosterLine]{}, err
		}
		list, err := s.Registers.Movements(ctx, in.ID, 500)
		return api.Page[api.RosterLine]{Items: each(list, rosterLine)}, err
	})
	handle(a, operation{
		ID: "compare-pairing", Method: http.MethodGet, Path: "/pairings/{id}/comparison", Status: http.StatusOK,
		Tag: "pairings", Summary: "Compare both sides now, side by side, changing nothing",
	}, func(ctx context.Context, in *byID) (api.Page[api.Line], error) {
		list, err := s.Runs.Lines(ctx, in.ID)
		return api.Page[api.Line]{Items: each(list, line)}, err
	})
	s.comparisonFile(a)
}

// comparisonFile gives the comparison as CSV.
func (s *Server) comparisonFile(a huma.API) {
	op := operation{
		ID: "export-comparison", Method: http.MethodGet, Path: "/pairings/{id}/comparison.csv", Status: http.StatusOK,
		Tag: "pairings", Summary: "The same as a CSV file",
	}.huma()
	op.Responses = map[string]*huma.Response{"200": {Description: "CSV", Content: map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: "string"}}}}}
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

// moment reads a day, whose end is meant, or a time.
func moment(text string) (time.Time, error) {
	if text == "" {
		return time.Now(), nil
	}
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return day.AddDate(0, 0, 1).Add(-time.Nanosecond), nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return at, refusal.Invalid("at", "%q is neither a day such as 2026-10-01 nor a time of RFC 3339", text)
	}
	return at, nil
}

func noticedFinding(f reports.Finding) api.Finding {
	e, _ := finding.Lookup(f.Code)
	out := api.Finding{
		Key: f.Key, Group: string(f.Group), Code: f.Code, Severity: e.Severity, Title: finding.Title(f.Code), Subject: f.Subject, Where: f.Where,
		Detail: f.Detail, Remedy: e.Remedy, Owner: string(e.Owner), Link: f.Link, PersonID: f.Person, Count: f.Count,
	}
	if f.Code == finding.LeftOutByRule {
		out.Title, out.Detail = "left out: "+f.Detail, ""
	}
	for _, p := range f.People {
		out.People = append(out.People, api.FindingAbout{Key: p.Key, PersonID: p.Person, Person: p.Subject, Where: p.Where, Detail: p.Detail, Link: p.Link})
	}
	if f.Seen != nil {
		out.Seen = &api.Seen{Note: f.Seen.Note, By: f.Seen.By, At: f.Seen.At}
	}
	return out
}

func checklist(c reports.Checklist) api.Checklist {
	return api.Checklist{Live: c.Live(), Steps: each(c, func(s reports.Step) api.Step {
		if s.Done {
			s.Next = ""
		}
		return api.Step(s)
	})}
}

func rosterLine(l rosterstore.RosterLine) api.RosterLine { return api.RosterLine(l) }

func line(s roster.Side) api.Line {
	out := api.Line{Decision: entry(s.Entry)}
	if m := s.Member; m != nil {
		out.Register = &api.RegisterSide{Name: m.Name(), Email: m.Email, UserName: m.UserName, Identifier: m.Identifier}
	}
	if a := s.Account; a != nil {
		out.Service = &api.ServiceSide{AccountID: a.ID, Name: joined(a.GivenName, a.FamilyName), Email: a.Email, UserName: a.UserName, Active: a.Active, Member: a.InTarget}
	}
	return out
}

func joined(given, family string) string {
	if given == "" || family == "" {
		return given + family
	}
	return given + " " + family
}
