package web

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"reflect"
	"slices"
	"strings"

	"kanban/internal/web/problem"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
)

// documents are the records without a version of their own: their ETag is made from what
// they say. Where only some fields are somebody's to edit, those make the ETag, and the
// others may change as they like.
var documents = map[string][]string{
	"/api/v1/templates":                         nil,
	"/api/v1/score-templates":                   nil,
	"/api/v1/maintenance":                       {"on", "note"},
	"/api/v1/full-comparison":                   {"schedule"},
	"/api/v1/history":                           {"months"},
	"/api/v1/views":                             nil,
	"/api/v1/sections/hidden":                   nil,
	"/api/v1/learning-settings":                 nil,
	"/api/v1/verbs":                             {"own"},
	"/api/v1/test-recipient":                    nil,
	"/api/v1/courses/{id}/outline":              nil,
	"/api/v1/interfaces/{id}/operations/{name}": nil,
}

// describeConditions adds If-Match to the description of every change that can carry it.
func describeConditions(a huma.API) {
	const doc = "The ETag that was read; the change is refused with 412, and the record as it is now, when somebody changed it since"
	paths := a.OpenAPI().Paths
	tagged := func(path string) bool {
		if _, ok := documents[path]; ok {
			return true
		}
		item := paths[path]
		return item != nil && item.Get != nil && item.Get.Responses["200"] != nil &&
			item.Get.Responses["200"].Headers["ETag"] != nil
	}
	for path, item := range paths {
		for _, op := range []*huma.Operation{item.Put, item.Patch, item.Delete, item.Post} {
			if op == nil || !tagged(edited(op.Method, path)) ||
				slices.ContainsFunc(op.Parameters, func(p *huma.Param) bool { return p.Name == "If-Match" }) {
				continue
			}
			op.Parameters = append(op.Parameters, &huma.Param{
				Name: "If-Match", In: "header", Description: doc,
				Schema: &huma.Schema{Type: huma.TypeString},
			})
		}
	}
}

// edited gives the address of the record that a request changes: what is posted, and what
// opens a class, is about the record above it.
func edited(method, path string) string {
	above, last := path[:strings.LastIndexByte(path, '/')], path[strings.LastIndexByte(path, '/')+1:]
	switch {
	case last == "cartridge":
		return above + "/outline"
	case method == http.MethodPost, last == "opening":
		return above
	}
	return path
}

// mostCompared bounds the body of a conditional request, which is looked at twice.
const mostCompared = 32 << 20

// unlessSame answers 304 without a body instead of a success whose ETag the caller has already (RFC 9110,
// section 13.1.2).
type unlessSame struct {
	http.ResponseWriter
	tags        []string
	begun, same bool
}

// WriteHeader begins the answer.
func (w *unlessSame) WriteHeader(status int) {
	w.begun = true
	tag := strings.TrimPrefix(w.Header().Get("ETag"), "W/")
	if status == http.StatusOK && tag != "" && (slices.Contains(w.tags, tag) || slices.Contains(w.tags, "*")) {
		w.same, status = true, http.StatusNotModified
		w.Header().Del("Content-Type")
		w.Header().Del("Content-Length")
	}
	w.ResponseWriter.WriteHeader(status)
}

// Write gives the body, or nothing of it.
func (w *unlessSame) Write(body []byte) (int, error) {
	if !w.begun {
		w.WriteHeader(http.StatusOK)
	}
	if w.same {
		return len(body), nil
	}
	return w.ResponseWriter.Write(body)
}

// Unwrap lets http.ResponseController reach the connection.
func (w *unlessSame) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// conditional gives documents their ETag, and refuses a change that was made from an older
// state of a record than the present one (If-Match) or that was to make one that is there
// already (If-None-Match: *), as RFC 9110 section 13.1 says. The answer holds the record as
// it is now, and says in which fields that differs from what was sent. Conditional changes
// of one record are made one after the other.
func (s *Server) conditional(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		match, none := r.Header.Get("If-Match"), r.Header.Get("If-None-Match")
		switch {
		case r.Method == http.MethodGet || r.Method == http.MethodHead:
			if none != "" {
				w = &unlessSame{ResponseWriter: w, tags: tags(none)}
			}
			fields, ok := documents[chi.RouteContext(r.Context()).RoutePattern()]
			if !ok {
				next.ServeHTTP(w, r)
				return
			}
			held := httptest.NewRecorder()
			next.ServeHTTP(held, r)
			if held.Code == http.StatusOK {
				held.Header().Set("ETag", tagOf(held.Body.Bytes(), fields))
			}
			copyAnswer(w, held)
		case match == "" && none != "*" || match == "*":
			next.ServeHTTP(w, r)
		default:
			body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostCompared))
			if err != nil {
				problem.Write(w, http.StatusRequestEntityTooLarge, "the body could not be read, or is too long")
				return
			}
			err = s.Store.OneByOne(r.Context(), edited(r.Method, r.URL.Path), func() {
				now := s.present(r)
				tag := now.Header().Get("ETag")
				stale := match != "" && tag != "" && !slices.Contains(tags(match), strings.TrimPrefix(tag, "W/"))
				if now.Code == http.StatusOK && match != "" && tag == "" {
					problem.Write(w, http.StatusPreconditionFailed,
						"what this changes has no ETag, so that If-Match cannot be kept; send it without")
					return
				}
				if now.Code == http.StatusOK && (stale || match == "" && tag != "") {
					writeStale(w, tag, now.Body.Bytes(), body)
					return
				}
				r.Body = again(body, w)
				held := httptest.NewRecorder()
				next.ServeHTTP(held, r)
				if held.Code < 300 && held.Header().Get("ETag") == "" { // for the next change
					if tag := s.present(r).Header().Get("ETag"); tag != "" {
						held.Header().Set("ETag", tag)
					}
				}
				copyAnswer(w, held)
			})
			if err != nil {
				problem.Busy(w, "others are changing this; try again")
			}
		}
	})
}

// present reads the record that a request would change, as the same caller.
func (s *Server) present(r *http.Request) *httptest.ResponseRecorder {
	ctx := context.WithValue(r.Context(), chi.RouteCtxKey, (*chi.Context)(nil))
	get, err := http.NewRequestWithContext(ctx, http.MethodGet, edited(r.Method, r.URL.Path), nil)
	held := httptest.NewRecorder()
	if err != nil {
		held.Code = http.StatusBadRequest
		return held
	}
	get.RemoteAddr, get.Host = r.RemoteAddr, r.Host
	for _, name := range []string{"Authorization", "Cookie", "X-Forwarded-For"} {
		get.Header[name] = r.Header[name]
	}
	s.router.ServeHTTP(held, get)
	return held
}

func copyAnswer(w http.ResponseWriter, held *httptest.ResponseRecorder) {
	maps.Copy(w.Header(), held.Header())
	w.WriteHeader(held.Code)
	_, _ = w.Write(held.Body.Bytes())
}

func tags(header string) (all []string) {
	for _, t := range strings.Split(header, ",") {
		all = append(all, strings.TrimPrefix(strings.TrimSpace(t), "W/"))
	}
	return all
}

// tagOf makes an ETag from what a document says.
func tagOf(text []byte, fields []string) string {
	var whole map[string]json.RawMessage
	if fields != nil && json.Unmarshal(text, &whole) == nil {
		some := map[string]json.RawMessage{}
		for _, f := range fields {
			some[f] = whole[f]
		}
		text, _ = json.Marshal(some)
	}
	sum := sha256.Sum256(text)
	return `"` + hex.EncodeToString(sum[:8]) + `"`
}

// writeStale answers that a record has been changed since, with the record as it is now.
func writeStale(w http.ResponseWriter, tag string, now, sent []byte) {
	fields := differing(now, sent)
	detail := "Somebody changed this in the meantime; nothing was overwritten. Read it again, or make your change on the state that comes with this answer"
	errs, named := []map[string]any{}, []string{}
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		text := "is another one by now"
		switch fields[name].(type) {
		case string, float64, bool:
			text = fmt.Sprintf("is %v now", fields[name])
		}
		named = append(named, name+" "+text)
		errs = append(errs, map[string]any{"location": "body." + name, "message": text})
	}
	if len(named) > 0 {
		detail = "Somebody changed this in the meantime; nothing was overwritten. It differs from yours: " + strings.Join(named, ", ")
	}
	w.Header().Set("ETag", tag)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(http.StatusPreconditionFailed)
	_ = json.NewEncoder(w).Encode(map[string]any{
		"title": http.StatusText(http.StatusPreconditionFailed), "status": http.StatusPreconditionFailed,
		"detail": detail, "errors": errs, "current": json.RawMessage(now),
	})
}

// differing gives the fields of what was sent that are not what the record says now, with
// what that is; fields inside fields are named like policy.hold.
func differing(now, sent []byte) map[string]any {
	var a, b map[string]any
	found := map[string]any{}
	if json.Unmarshal(now, &a) == nil && json.Unmarshal(sent, &b) == nil {
		differ(a, b, "", found)
	}
	return found
}

func differ(now, sent map[string]any, before string, found map[string]any) {
	for name, value := range sent {
		is, there := now[name]
		inner, ok := value.(map[string]any)
		innerNow, okNow := is.(map[string]any)
		switch {
		case !there || reflect.DeepEqual(is, value):
		case ok && okNow:
			differ(innerNow, inner, before+name+".", found)
		default:
			found[before+name] = is
		}
	}
}
