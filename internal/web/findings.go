package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/findings"
	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
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

var (
	listFindingsOp = operation{
		ID: "list-findings", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/findings", Status: http.StatusOK, Tag: "findings",
		Summary: "Everything that was noticed, what needs a person first",
	}
	acknowledgeFindingOp = operation{
		ID: "acknowledge-finding", Act: permission.Acknowledge, Of: permission.Listed,
		Method: http.MethodPut, Path: "/findings/{key}/acknowledgement",
		Status: http.StatusNoContent, Tag: "findings",
		Summary: "Keep a finding quiet until it changes",
	}
	reopenFindingOp = operation{
		ID: "reopen-finding", Act: permission.Acknowledge, Of: permission.Listed,
		Method: http.MethodDelete, Path: "/findings/{key}/acknowledgement",
		Status: http.StatusNoContent, Tag: "findings",
		Summary: "Take an acknowledgement back",
	}
	todayRestOp = operation{
		ID: "today-rest", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/today/rest", Status: http.StatusOK, Tag: "installation",
		Summary: "What, beside that, is not in step or not known to be; empty when everything is",
	}
	todayOp = operation{
		ID: "today", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/today", Status: http.StatusOK, Tag: "installation",
		Summary: "What needs a person, ordered by harm",
	}
)

// findings registers the operations about what needs a person.
func (s *Server) findings(a huma.API) {
	handle(a, listFindingsOp, s.listFindings)
	handleEmpty(a, acknowledgeFindingOp, s.acknowledgeFinding)
	handleEmpty(a, reopenFindingOp, s.reopenFinding)
	handle(a, todayRestOp, s.todayRest)
	handle(a, todayOp, s.today)
}

func (s *Server) listFindings(ctx context.Context, in *findingsInput) (api.Page[api.Finding], error) {
	list, err := s.Findings.Findings(ctx, findings.Filter{
		Group: findings.Group(in.Group), Code: finding.Code(in.Code),
		Owner: in.Owner, Text: in.Text, Person: in.Person, Seen: in.Seen, Within: reach(ctx),
	})
	if err != nil {
		return api.Page[api.Finding]{}, err
	}
	items, next, err := paged(list, in.Cursor, in.Limit)
	return api.Page[api.Finding]{Items: each(items, noticedFinding), Next: next}, err
}

func (s *Server) acknowledgeFinding(ctx context.Context, in *acknowledging) error {
	return s.Findings.Acknowledge(ctx, auth.Caller(ctx).Name, in.Key, in.Body.Note, reach(ctx))
}

func (s *Server) reopenFinding(ctx context.Context, in *byKey) error {
	return s.Findings.Reopen(ctx, auth.Caller(ctx).Name, in.Key, reach(ctx))
}

func (s *Server) todayRest(ctx context.Context, _ *struct{}) ([]string, error) {
	said, err := s.Findings.Rest(ctx, reach(ctx))
	return append([]string{}, said...), err
}

func (s *Server) today(ctx context.Context, _ *struct{}) ([]api.Finding, error) {
	list, err := s.Findings.Today(ctx, reach(ctx))
	return each(list, noticedFinding), err
}

func noticedFinding(f findings.Finding) api.Finding {
	e, _ := finding.Lookup(f.Code)
	out := api.Finding{
		Key: f.Key, Group: string(f.Group), Code: f.Code, Severity: e.Severity, Title: finding.Title(f.Code),
		Subject: f.Subject, Where: f.Where,
		Detail: f.Detail, Remedy: e.Remedy, Owner: string(e.Owner), Link: f.Link, PersonID: f.Person, Count: f.Count,
	}
	if f.Code == finding.LeftOutByRule {
		out.Title, out.Detail = "left out: "+f.Detail, ""
	}
	for _, p := range f.People {
		out.People = append(out.People, api.FindingAbout{
			Key: p.Key, PersonID: p.Person, Person: p.Subject,
			Where: p.Where, Detail: p.Detail, Link: p.Link,
		})
	}
	if f.Seen != nil {
		out.Seen = &api.Seen{Note: f.Seen.Note, By: f.Seen.By, At: f.Seen.At}
	}
	return out
}

func checklist(c findings.Checklist) api.Checklist {
	return api.Checklist{Live: c.Live(), Steps: each(c, func(s findings.Step) api.Step {
		if s.Done {
			s.Next = ""
		}
		return api.Step(s)
	})}
}
