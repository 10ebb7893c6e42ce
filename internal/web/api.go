package web

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/adapter"
	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/wire/call"
)

// answer wraps a body for huma.
type answer[T any] struct{ Body T }

// tagged is an answer about one record that can be edited.
type tagged[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

// byID is the input of an operation on one record.
type byID struct {
	ID string `path:"id" doc:"The record's id"`
}

// edit is the input of a change to one record.
type edit[T any] struct {
	ID      string `path:"id" doc:"The record's id"`
	IfMatch string `header:"If-Match" doc:"The ETag that was read; the change is refused when the record has another one by now"`
	Body    T
}

// with is the input of an operation with a body.
type with[T any] struct {
	Key  string `header:"Idempotency-Key" doc:"Any text of your choice; a repeat within a day gets the first answer"`
	Body T
}

// withID is the input of an operation with a body on one record.
type withID[T any] struct {
	ID   string `path:"id" doc:"The record's id"`
	Key  string `header:"Idempotency-Key" doc:"Any text of your choice; a repeat within a day gets the first answer"`
	Body T
}

func etag(version int) string { return fmt.Sprintf("%q", strconv.Itoa(version)) }

// version reads an If-Match header; 0 when there is none.
func version(ifMatch string) (int, error) {
	text := strings.Trim(strings.TrimPrefix(strings.TrimSpace(ifMatch), "W/"), `"`)
	if text == "" || text == "*" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return 0, huma.Error412PreconditionFailed("If-Match is not an ETag of this record")
	}
	return n, nil
}

// operation is one operation of the API.
type operation struct {
	ID      string // unique, in words with hyphens
	Method  string
	Path    string // below /api/v1
	Status  int    // of the answer when all goes well
	Tag     string // the resource that it is about
	Summary string
	Act     permission.Act // what it is, by which it is decided who may do it
	// Of is what its path's id names, or that it lists, so that it can be done in a part of the institution. Without
	// it only those do it whose role holds for the whole.
	Of permission.Subject
	// Any is for what may be done by whoever reaches one of the sections to which that belongs, where it belongs to
	// several; without it all have to be reached, unless it is only looked at.
	Any  bool
	Most int64 // bytes that a body may have; a megabyte when zero
}

func (o operation) huma() huma.Operation {
	return huma.Operation{
		OperationID: o.ID, Method: o.Method, Path: "/api/v1" + o.Path, DefaultStatus: o.Status,
		Tags: []string{o.Tag}, Summary: o.Summary, MaxBodyBytes: o.Most, Extensions: acting(o),
	}
}

// actName is where the description of an operation says which act it is, and scopeName what its path's id names, by
// which it can be done in a part of the institution, and whether reaching one of several sections is enough.
const (
	actName   = "x-act"
	scopeName = "x-scope"
	anyName   = "x-scope-any"
)

func acting(o operation) map[string]any {
	said := map[string]any{actName: string(o.Act)}
	if o.Of != "" {
		said[scopeName] = string(o.Of)
		said[anyName] = o.Any || o.Act == permission.Look
	}
	return said
}

// handle registers an operation whose answer is a body of type O.
func handle[I, O any](a huma.API, o operation, f func(context.Context, *I) (O, error)) {
	huma.Register(a, o.huma(), func(ctx context.Context, in *I) (*answer[O], error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, problemOf(err)
		}
		return &answer[O]{out}, nil
	})
}

// handleTagged registers an operation whose answer carries an ETag.
func handleTagged[I, O any](a huma.API, o operation, f func(context.Context, *I) (O, int, error)) {
	huma.Register(a, o.huma(), func(ctx context.Context, in *I) (*tagged[O], error) {
		out, version, err := f(ctx, in)
		if err != nil {
			return nil, problemOf(err)
		}
		return &tagged[O]{etag(version), out}, nil
	})
}

// handleEmpty registers an operation without an answer body.
func handleEmpty[I any](a huma.API, o operation, f func(context.Context, *I) error) {
	huma.Register(a, o.huma(), func(ctx context.Context, in *I) (*struct{}, error) {
		return nil,
			problemOf(f(ctx, in))
	})
}

// problemOf turns an error of a use case into an RFC 9457 problem.
func problemOf(err error) error {
	if err == nil {
		return nil
	}
	var status huma.StatusError
	if errors.As(err, &status) {
		return err
	}
	if r, ok := refusal.As(err); ok {
		return refused(r)
	}
	switch {
	case errors.Is(err, access.ErrCodeNeeded), errors.Is(err, access.ErrCode):
		return huma.Error401Unauthorized(err.Error(), &huma.ErrorDetail{Location: "body.code", Message: err.Error()})
	case errors.Is(err, access.ErrUnknown):
		return huma.Error401Unauthorized(access.ErrUnknown.Error())
	case errors.Is(err, db.ErrNotFound):
		return huma.Error404NotFound("there is no such record: " + err.Error())
	case errors.Is(err, db.ErrStale):
		return huma.Error412PreconditionFailed("Somebody changed this in the meantime; read it again, then make your change")
	case errors.Is(err, db.ErrTaken):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, db.ErrUnstorable):
		return huma.Error422UnprocessableEntity("something given holds what cannot be kept, such as the character NUL: " + err.Error())
	}
	if p, ok := call.As(err); ok {
		return huma.NewError(http.StatusBadGateway, "the outside service could not be used: "+err.Error(),
			&huma.ErrorDetail{Message: string(adapter.CodeOf(err)), Location: string(p.Kind)})
	}
	if db.Unreachable(err) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		slog.Warn("request given up", "cause", err.Error())
		return huma.ErrorWithHeaders(huma.Error503ServiceUnavailable("the service is stopping, or its database cannot be reached just now; try again"), http.Header{"Retry-After": {"5"}})
	}
	slog.Error("request failed", "cause", err.Error())
	return huma.Error500InternalServerError("something went wrong on our side; it was logged")
}

func refused(r *refusal.Error) error {
	status := map[refusal.Kind]int{
		refusal.KindInvalid:  http.StatusUnprocessableEntity,
		refusal.KindConflict: http.StatusConflict, refusal.KindForbidden: http.StatusForbidden,
	}[r.Kind]
	var details []error
	if r.Field != "" {
		details = append(details, &huma.ErrorDetail{Location: "body." + r.Field, Message: r.Detail})
	}
	if r.Code != "" {
		details = append(details, &huma.ErrorDetail{Location: "code", Message: string(r.Code)})
	}
	text := r.Detail
	if r.Field != "" { // "values.address" is "address" to whoever entered it
		text = r.Field[strings.LastIndexByte(r.Field, '.')+1:] + ": " + r.Detail
	}
	return huma.NewError(status, text, details...)
}

// paged cuts a list that is at hand as a whole into pages; the cursor is the
// position of what follows.
func paged[T any](all []T, cursor string, limit int) (items []T, next string, err error) {
	from := 0
	if cursor != "" {
		if from, err = strconv.Atoi(cursor); err != nil || from < 0 {
			return nil, "", huma.Error422UnprocessableEntity("cursor: is not one that this list gave")
		}
	}
	from = min(from, len(all))
	to := min(from+limit, len(all))
	if to < len(all) {
		next = strconv.Itoa(to)
	}
	return all[from:to], next, nil
}

// Paging is the paging part of every list's input.
type Paging struct {
	Cursor string `query:"cursor" doc:"From the field next of the page before"`
	Limit  int    `query:"limit" default:"100" minimum:"1" maximum:"1000" doc:"Records per page"`
}

// last gives the cursor of a page that is ordered by id.
func last[T any](items []T, limit int, id func(T) string) string {
	if len(items) < limit || len(items) == 0 {
		return ""
	}
	return id(items[len(items)-1])
}

// each converts a slice; the result is never nil.
func each[A, B any](in []A, f func(A) B) []B {
	out := make([]B, len(in))
	for i, x := range in {
		out[i] = f(x)
	}
	return out
}
