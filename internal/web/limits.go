package web

import (
	"bytes"
	"cmp"
	"io"
	"net/http"
	"strings"
	"time"
)

// maxBody bounds every request, in bytes; uploads may be larger, and take longer than
// other bodies.
const (
	maxBody      = 8 << 20
	uploadWithin = 15 * time.Minute
)

// limited bounds the body of every request in size and time.
func (s *Server) limited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		most, within := int64(maxBody), cmp.Or(s.BodyWithin, 30*time.Second)
		if strings.HasSuffix(r.URL.Path, "/upload") {
			most, within = maxUpload, uploadWithin
		}
		if r.ContentLength != 0 { // -1 is a body of unknown length
			control := http.NewResponseController(w)
			if control.SetReadDeadline(time.Now().Add(within)) == nil {
				r.Body = &timed{r.Body, control}
			}
		}
		r.Body = http.MaxBytesReader(w, r.Body, most)
		next.ServeHTTP(w, r)
	})
}

// timed is a body whose deadline ends with it: what the handler does after reading it may
// take longer.
type timed struct {
	io.ReadCloser
	control *http.ResponseController
}

func (t *timed) Read(p []byte) (int, error) {
	n, err := t.ReadCloser.Read(p)
	if err == io.EOF { //nolint:errorlint // readers return it itself
		_ = t.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

// again is a body that was read already, to be read once more. Whoever reads it may set a
// deadline for that, which must not outlive it: one that passes while the handler works
// would end the request.
func again(body []byte, w http.ResponseWriter) io.ReadCloser {
	return &timed{io.NopCloser(bytes.NewReader(body)), http.NewResponseController(w)}
}

// methods are those that are counted by name; a caller could make up any number of others.
var methods = map[string]bool{
	"GET": true, "HEAD": true, "POST": true, "PUT": true, "PATCH": true, "DELETE": true,
	"OPTIONS": true,
}

func methodLabel(method string) string {
	if methods[method] {
		return method
	}
	return "other"
}

// statusLabel is the status as it is counted.
func statusLabel(status int) string {
	if text := http.StatusText(status); text != "" {
		return text
	}
	return "other"
}
