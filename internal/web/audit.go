package web

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/accessstore"
	"kanban/internal/wire/api"
)

var listAuditOp = operation{
	ID: "list-audit-entries", Act: permission.Users,
	Method: http.MethodGet, Path: "/audit-entries", Status: http.StatusOK, Tag: "users",
	Summary: "Who did what, and when, the newest first",
}

// audit registers the audit trail, which nobody changes.
func (s *Server) audit(a huma.API) { handle(a, listAuditOp, s.listAudit) }

type auditInput struct {
	Paging
	Text    string    `query:"text" maxLength:"200" doc:"A part of what was done, or of the name of who did it"`
	Subject string    `query:"subject" maxLength:"200" doc:"Of a kind of record, such as pairing, or of one: pairing/ID"`
	Since   time.Time `query:"since" doc:"Done at or after then"`
	Until   time.Time `query:"until" doc:"Done before then"`
}

func (s *Server) listAudit(ctx context.Context, in *auditInput) (api.Page[api.AuditEntry], error) {
	f := accessstore.AuditFilter{
		Text: in.Text, Subject: in.Subject, Since: in.Since, Until: in.Until, Limit: in.Limit,
	}
	if in.Cursor != "" {
		n, err := strconv.ParseInt(in.Cursor, 10, 64)
		if err != nil || n < 1 {
			return api.Page[api.AuditEntry]{}, refusal.Invalid("cursor", "is not one that this list gave")
		}
		f.Before = n
	}
	all, err := s.Access.Audit(ctx, f)
	return api.Page[api.AuditEntry]{
		Items: each(all, func(e accessstore.AuditEntry) api.AuditEntry {
			return api.AuditEntry{
				ID: strconv.FormatInt(e.ID, 10), At: e.At, Who: e.Who, What: e.What, Subject: e.Subject,
				Detail: e.Detail,
			}
		}),
		Next: last(all, in.Limit, func(e accessstore.AuditEntry) string { return strconv.FormatInt(e.ID, 10) }),
	}, err
}
