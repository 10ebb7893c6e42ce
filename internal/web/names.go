package web

import (
	"bytes"
	"context"
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"kanban/internal/core/permission"
	"kanban/internal/core/pseudonym"
	"kanban/internal/core/refusal"
	"kanban/internal/web/auth"
	"kanban/internal/web/problem"
	"kanban/internal/wire/api"
)

var hideNamesOp = operation{
	ID: "hide-names", Act: permission.Own,
	Method: http.MethodPut, Path: "/session/names", Status: http.StatusOK, Tag: "sign-in",
	Summary: "Hide the names of people in this session, to show the screen to others, or show them again",
}

// hidingNames registers the switch that hides names.
func (s *Server) hidingNames(a huma.API) { handle(a, hideNamesOp, s.hideNames) }

func (s *Server) hideNames(ctx context.Context, in *with[api.Names]) (api.Names, error) {
	switch {
	case auth.Kept(ctx) == "":
		return api.Names{}, refusal.Conflict("", "a token has no session; send the header %s: yes instead", auth.HideNamesHeader)
	case !in.Body.Hidden && !auth.Caller(ctx).SeesNames():
		return api.Names{}, refusal.Forbidden("names are hidden for your role")
	}
	return in.Body, s.auth.HideNames(ctx, in.Body.Hidden)
}

type hiderKey struct{}

// hiderOf gives what replaces names for whoever makes a request; there says whether they are hidden at all.
func hiderOf(ctx context.Context) (h pseudonym.Hider, there bool) {
	h, there = ctx.Value(hiderKey{}).(pseudonym.Hider)
	return h, there
}

// hideCells replaces the names in the cells of a table.
func hideCells(ctx context.Context, rows [][]string) {
	h, there := hiderOf(ctx)
	if !there {
		return
	}
	for _, row := range rows {
		for i := range row {
			row[i] = h.Text(row[i])
		}
	}
}

// hideThemselves are the addresses of files that are written without names where those are hidden, or have none.
var hideThemselves = []string{
	"/api/v1/reports/{name}/file.{form}", "/api/v1/sheets/{file}", "/api/v1/score-links/{id}/unfinished.{kind}",
	"/api/v1/stage-plans/{id}/map.{form}",
}

// withNames are the addresses of files that are read by programs, or put back, and would be wrong with made-up names.
var withNames = []string{"/api/v1/safety-copies/{id}", "/api/v1/interfaces/{id}/gradebook.zip", "/api/v1/config"}

const showFirst = "names are hidden, and this holds them: show names again first"

// hidden replaces the names of people in everything that is answered to whoever has them hidden.
func (s *Server) hidden(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key, asked := s.auth.NamesKey(r)
		if key == nil {
			next.ServeHTTP(w, r)
			return
		}
		names, err := s.Access.Names(r.Context())
		if err != nil {
			s.Log.Error("looking up names", "cause", err.Error())
			problem.Busy(w, "the names that are to be hidden could not be looked up; try again")
			return
		}
		changes := r.Method != http.MethodGet && r.Method != http.MethodHead
		switch {
		case changes && asked && auth.Kept(r.Context()) == "":
			problem.Write(w, http.StatusConflict, "nothing can be changed with names hidden: leave the header away")
			return
		case changes && !readsBody(w, r):
			problem.Write(w, http.StatusConflict,
				"names are hidden, and this holds a made-up one: show names again before you change it")
			return
		}
		route := chi.NewRouteContext()
		s.router.Match(route, r.Method, r.URL.Path)
		pattern := route.RoutePattern()
		if d := s.declared[r.Method+" "+pattern]; !asked && (d.act == permission.Own || d.act == permission.Anyone) {
			next.ServeHTTP(w, r) // about themselves
			return
		}
		h := pseudonym.Hider{Names: names, Key: key, Marks: auth.Kept(r.Context()) != ""}
		out := &hiddenAnswer{ResponseWriter: w, hider: h, itself: slices.Contains(hideThemselves, pattern)}
		out.never = slices.Contains(withNames, pattern)
		h.Marks = false
		next.ServeHTTP(out, r.WithContext(context.WithValue(r.Context(), hiderKey{}, h)))
		out.finish()
	})
}

// readsBody reads what is sent, and reports whether it is free of made-up names. Files are not looked into.
func readsBody(w http.ResponseWriter, r *http.Request) bool {
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if r.Body == nil || kind != "application/json" {
		return true
	}
	body, err := io.ReadAll(r.Body)
	r.Body = struct {
		io.Reader
		io.Closer
	}{io.MultiReader(bytes.NewReader(body), failing{err}), again(nil, w)}
	return !bytes.Contains(body, []byte(pseudonym.Mark)) && !bytes.Contains(bytes.ToLower(body), []byte(`\u2060`)) &&
		!bytes.Contains(body, []byte("@"+pseudonym.Domain))
}

// failing gives an error, or the end where there is none.
type failing struct{ err error }

func (f failing) Read([]byte) (int, error) {
	if f.err != nil {
		return 0, f.err
	}
	return 0, io.EOF
}

// How an answer is hidden.
const (
	undecided = iota
	asItIs
	asJSON
	asText
	withheld
)

// hiddenAnswer is an answer in which names are replaced before it is sent.
type hiddenAnswer struct {
	http.ResponseWriter
	hider  pseudonym.Hider
	itself bool // its handler has hidden names
	never  bool // it is not given without names
	how    int
	status int
	held   bytes.Buffer
}

// WriteHeader begins the answer.
func (a *hiddenAnswer) WriteHeader(status int) {
	if a.how != undecided {
		return
	}
	kind, _, _ := mime.ParseMediaType(a.Header().Get("Content-Type"))
	a.status = status
	switch {
	case status == http.StatusNoContent || status == http.StatusNotModified || kind == "text/event-stream" ||
		strings.HasPrefix(kind, "image/") && a.itself:
		a.how = asItIs
	case a.never && status < http.StatusMultipleChoices:
		a.how = withheld
	case kind == "application/json" || strings.HasSuffix(kind, "+json"):
		a.how = asJSON
	case strings.HasPrefix(kind, "text/"):
		a.how, a.hider.Marks = asText, false // files are read elsewhere
	case a.itself:
		a.how = asItIs
	default:
		a.how = withheld
	}
	if a.how != asItIs {
		a.Header().Del("Content-Length")
	}
	if a.how == asItIs || a.how == asText {
		a.ResponseWriter.WriteHeader(status)
	}
}

// Write takes a part of the answer.
func (a *hiddenAnswer) Write(part []byte) (int, error) {
	if a.how == undecided {
		a.WriteHeader(http.StatusOK)
	}
	switch a.how {
	case asItIs:
		return a.ResponseWriter.Write(part)
	case asJSON, asText:
		a.held.Write(part)
	}
	if a.how == asText { // line by line: there may be very many
		if end := bytes.LastIndexByte(a.held.Bytes(), '\n'); end >= 0 {
			if _, err := io.WriteString(a.ResponseWriter, a.hider.Text(string(a.held.Next(end+1)))); err != nil {
				return 0, err
			}
		}
	}
	return len(part), nil
}

// Unwrap lets http.ResponseController reach the connection.
func (a *hiddenAnswer) Unwrap() http.ResponseWriter { return a.ResponseWriter }

// finish sends what was held.
func (a *hiddenAnswer) finish() {
	switch a.how {
	case asJSON:
		body := a.hider.JSON(a.held.Bytes())
		if body == nil && a.held.Len() > 0 {
			problem.Write(a.ResponseWriter, http.StatusInternalServerError, "the answer could not be shown without names")
			return
		}
		a.ResponseWriter.WriteHeader(a.status)
		_, _ = a.ResponseWriter.Write(body)
	case asText:
		_, _ = io.WriteString(a.ResponseWriter, a.hider.Text(a.held.String()))
	case withheld:
		a.Header().Del("Content-Disposition")
		problem.Write(a.ResponseWriter, http.StatusConflict, showFirst)
	}
}
