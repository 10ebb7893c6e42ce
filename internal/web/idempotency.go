package web

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"kanban/internal/store/accessstore"
	"kanban/internal/web/auth"
	"kanban/internal/web/problem"
)

// longestKey bounds an Idempotency-Key, in bytes.
const longestKey = 255

// sameAnswer are the headers that a repeat gets as the first request did.
var sameAnswer = []string{"Content-Type", "ETag", "Location", "Content-Disposition"}

// idempotent answers a repeated POST with the same Idempotency-Key as it did the first
// time, for a day. A key is claimed before the work is done: of repeats that come side by
// side one does it, and the others wait for its answer. What was refused can be tried
// again under the same key. Doors are left out: their answers are secrets of the moment.
func (s *Server) idempotent(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get("Idempotency-Key")
		if r.Method != http.MethodPost || key == "" || auth.Open(r.URL.Path) || secret(r.URL.Path) ||
			strings.HasSuffix(r.URL.Path, "/upload") {
			next.ServeHTTP(w, r)
			return
		}
		if len(key) > longestKey {
			problem.Write(w, http.StatusBadRequest,
				"the Idempotency-Key is longer than 255 characters; choose a shorter one, such as a UUID")
			return
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			writeUnread(w, err)
			return
		}
		r.Body = again(body, w)
		sum := sha256.Sum256([]byte(r.Method + " " + r.URL.RequestURI() + "\n" + string(body)))
		owned := auth.Caller(r.Context()).ID + "/" + key
		claimed, kept, err := s.claim(r.Context(), owned, sum[:])
		switch {
		case err != nil:
			s.Log.Error("claiming an Idempotency-Key", "cause", err.Error())
			problem.Busy(w, "the Idempotency-Key could not be looked at; try again")
		case !bytes.Equal(kept.Request, sum[:]):
			problem.Write(w, http.StatusUnprocessableEntity,
				"this Idempotency-Key was used for another request; choose a new one")
		case claimed:
			s.first(w, r, next, kept)
		case kept.Status == nil:
			w.Header().Set("Retry-After", "5")
			problem.Write(w, http.StatusConflict,
				"the first request with this Idempotency-Key is still being carried out; ask again in a moment")
		default:
			s.repeat(w, kept)
		}
	})
}

// patience is how long a repeat waits for the answer to the first request.
const patience = 15 * time.Second

// claim takes a key, or gives what it was used for once that has an answer.
func (s *Server) claim(ctx context.Context, key string, request []byte) (claimed bool, kept accessstore.KeptAnswer,
	err error,
) {
	until := time.Now().Add(patience)
	for {
		claimed, kept, err = s.Access.ClaimAnswer(ctx, key, request)
		if err != nil || claimed || kept.Status != nil || !bytes.Equal(kept.Request, request) ||
			time.Now().After(until) {
			return claimed, kept, err
		}
		select {
		case <-ctx.Done():
			return false, kept, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// first does the work of a key and keeps the answer. Without one, or with one that was no
// success, the key is free again.
func (s *Server) first(w http.ResponseWriter, r *http.Request, next http.Handler, kept accessstore.KeptAnswer) {
	answer := &recorder{ResponseWriter: w, status: http.StatusOK}
	done := false
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), 5*time.Second)
		defer cancel()
		var err error
		if done && answer.status < 300 {
			kept.Status, kept.Header = &answer.status, map[string]string{}
			for _, name := range sameAnswer {
				if v := w.Header().Get(name); v != "" {
					kept.Header[name] = v
				}
			}
			if kept.Body, err = s.Store.Seal(append([]byte{'\n'}, answer.body.Bytes()...),
				"answer/"+kept.Key); err == nil {
				err = s.Access.KeepAnswer(ctx, kept)
			}
		} else {
			err = s.Access.FreeAnswer(ctx, kept)
		}
		if err != nil {
			s.Log.Warn("keeping an answer", "cause", err.Error())
		}
	}()
	next.ServeHTTP(answer, r)
	done = true
}

func (s *Server) repeat(w http.ResponseWriter, kept accessstore.KeptAnswer) {
	body, err := s.Store.Unseal(kept.Body, "answer/"+kept.Key)
	if err != nil || len(body) == 0 {
		problem.Write(w, http.StatusInternalServerError, "the kept answer cannot be opened")
		return
	}
	for name, v := range kept.Header {
		w.Header().Set(name, v)
	}
	w.Header().Set("Idempotent-Replay", "true")
	w.WriteHeader(*kept.Status)
	_, _ = w.Write(body[1:])
}

type recorder struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(p []byte) (int, error) {
	r.body.Write(p)
	return r.ResponseWriter.Write(p)
}

// Unwrap lets http.ResponseController reach the connection.
func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }

// writeUnread answers a request whose body could not be read.
func writeUnread(w http.ResponseWriter, err error) {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		problem.Write(w, http.StatusRequestEntityTooLarge, "the request is larger than this address takes")
		return
	}
	problem.Write(w, http.StatusRequestTimeout, "the request did not arrive whole in time")
}

// secret reports whether the answers at an address hold secrets that are shown once, and so are not kept.
func secret(path string) bool {
	return path == "/api/v1/tokens" || strings.HasPrefix(path, "/api/v1/session/")
}
