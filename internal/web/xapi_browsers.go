package web

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5"

	"kanban/internal/web/problem"
	"kanban/internal/wire/xapi"
)

// alternate are the headers that may stand in the form of an alternate request (xAPI 1.0.3, Communication
// 1.3.a).
var alternate = []string{
	"Authorization", xapi.VersionHeader, "Content-Type", "Content-Length", "If-Match", "If-None-Match",
	"Accept", "Accept-Language", "Updated",
}

// mostForm bounds the form of an alternate request, in bytes.
const mostForm = 10 << 20

// fromBrowsers lets scripts of listed origins report statements (Fetch standard, "CORS protocol"), and takes
// requests in the alternate syntax, in which a form of a POST holds method, headers, parameters and content.
func (s *Server) fromBrowsers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if origin := r.Header.Get("Origin"); origin != "" {
			w.Header().Add("Vary", "Origin")
			listed, err := s.Connections.MayReport(r.Context(), origin)
			if err != nil {
				problem.Busy(w, "it could not be looked up who may report; try again")
				return
			}
			if listed {
				h := w.Header()
				h.Set("Access-Control-Allow-Origin", origin)
				h.Set("Access-Control-Expose-Headers", strings.Join([]string{
					"ETag", "Last-Modified", xapi.VersionHeader, "X-Experience-API-Consistent-Through",
				}, ", "))
			}
			if r.Method == http.MethodOptions && listed {
				w.Header().Set("Access-Control-Allow-Methods", "GET, HEAD, POST, PUT, DELETE")
				w.Header().Set("Access-Control-Allow-Headers", strings.Join(alternate[:7], ", "))
				w.Header().Set("Access-Control-Max-Age", "600")
				w.WriteHeader(http.StatusNoContent)
				return
			}
		}
		if r.Method != http.MethodPost || !r.URL.Query().Has("method") {
			next.ServeHTTP(w, r)
			return
		}
		other, wrong := unfolded(w, r)
		if wrong != "" {
			problem.Write(w, http.StatusBadRequest, wrong)
			return
		}
		s.router.ServeHTTP(w, other)
	})
}

// unfolded is the request that an alternate one stands for. wrong says why it cannot be.
func unfolded(w http.ResponseWriter, r *http.Request) (other *http.Request, wrong string) {
	query := r.URL.Query()
	method := strings.ToUpper(query.Get("method"))
	if len(query) != 1 || len(query["method"]) != 1 {
		return nil, "an alternate request has nothing but method in its address; the parameters stand in its form"
	}
	if !slices.Contains([]string{"GET", "HEAD", "POST", "PUT", "DELETE"}, method) {
		return nil, "method must be one of GET, HEAD, POST, PUT and DELETE"
	}
	r.Body = http.MaxBytesReader(w, r.Body, mostForm)
	text, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, "the form could not be read, or is longer than 10 MiB"
	}
	form, err := url.ParseQuery(string(text))
	if err != nil {
		return nil, "the body is no form (application/x-www-form-urlencoded)"
	}
	other = r.Clone(r.Context())
	other.Method, other.Header = method, http.Header{}
	for _, name := range []string{"Origin", "User-Agent"} {
		other.Header[http.CanonicalHeaderKey(name)] = r.Header.Values(name)
	}
	content := form.Get("content")
	for name, values := range form {
		if i := slices.IndexFunc(alternate, func(h string) bool { return strings.EqualFold(h, name) }); i >= 0 {
			other.Header.Set(alternate[i], values[0])
			form.Del(name)
		}
	}
	form.Del("content")
	if strings.HasPrefix(other.Header.Get(xapi.VersionHeader), "2.") {
		return nil, "xAPI 2.0 has no alternate requests; send the request as it is"
	}
	other.Header.Del("Content-Length")
	if content != "" && other.Header.Get("Content-Type") == "" {
		other.Header.Set("Content-Type", "application/json")
	}
	address := *r.URL
	address.RawQuery = form.Encode()
	other.URL, other.RequestURI = &address, address.RequestURI()
	other.Body, other.ContentLength = io.NopCloser(strings.NewReader(content)), int64(len(content))
	other.Form, other.PostForm = nil, nil
	return other.WithContext(context.WithValue(r.Context(), chi.RouteCtxKey, nil)), "" // its route is found anew
}
