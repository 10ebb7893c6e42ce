package web

import (
	"context"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5"

	"kanban/internal/web/problem"
	"kanban/internal/wire/xapi"
)

// documents registers what platforms keep here beside statements, and what is known of activities and
// agents (xAPI 1.0.3, Communication 2.2 to 2.7).
func (s *Server) documents(r chi.Router) {
	for path, kind := range map[string]xapi.DocumentKind{
		"/xapi/activities/state": xapi.State, "/xapi/activities/profile": xapi.ActivityProfile,
		"/xapi/agents/profile": xapi.AgentProfile,
	} {
		h := func(w http.ResponseWriter, r *http.Request) { s.document(w, r, kind) }
		for _, method := range []string{"GET", "HEAD", "PUT", "POST", "DELETE"} {
			r.MethodFunc(method, path, h)
		}
		r.Options(path, notListed)
	}
}

// notListed answers scripts of an origin that is not listed; those of others were answered before.
func notListed(w http.ResponseWriter, _ *http.Request) {
	problem.Write(w, http.StatusForbidden, "scripts of this origin may not report here; enter the origin in the interface")
}

// refusedChange is why a document is left as it is.
type refusedChange struct {
	status int
	detail string
}

func (r refusedChange) Error() string { return r.detail }

func (s *Server) document(w http.ResponseWriter, r *http.Request, kind xapi.DocumentKind) {
	via, ok := s.platform(w, r)
	if !ok {
		return
	}
	q, err := xapi.ParseDocumentQuery(kind, r.URL.Query())
	if err != nil {
		problem.Write(w, http.StatusBadRequest, err.Error())
		return
	}
	switch {
	case (r.Method == http.MethodGet || r.Method == http.MethodHead) && q.ID == "":
		var ids []string
		if ids, err = s.Facts.DocumentIDs(r.Context(), via.ID, q); err == nil {
			writeJSON(w, http.StatusOK, ids)
			return
		}
	case r.Method == http.MethodGet || r.Method == http.MethodHead:
		err = s.giveDocument(w, r, via.ID, q)
	case q.ID == "" && (kind != xapi.State || r.Method != http.MethodDelete):
		err = refusedChange{http.StatusBadRequest, "the id of the document is missing: stateId or profileId"}
	case q.ID == "":
		if err = s.Facts.DropDocuments(r.Context(), via.ID, q); err == nil {
			w.WriteHeader(http.StatusNoContent)
		}
	default:
		err = s.changeDocument(w, r, via.ID, q)
	}
	var refused refusedChange
	switch {
	case err == nil:
	case errors.As(err, &refused):
		problem.Write(w, refused.status, refused.detail)
	default:
		s.notKept(w, err)
	}
}

func (s *Server) notKept(w http.ResponseWriter, err error) {
	if errors.Is(err, context.Canceled) {
		problem.Busy(w, "the request was given up; send it again")
		return
	}
	s.Log.Error("keeping a document", "cause", err.Error())
	problem.Write(w, http.StatusInternalServerError, "the document could not be read or kept; send it again")
}

// giveDocument gives a document as it was sent.
func (s *Server) giveDocument(w http.ResponseWriter, r *http.Request, interfaceID string, q xapi.DocumentQuery) error {
	d, ok, err := s.Facts.Document(r.Context(), interfaceID, q)
	if err != nil {
		return err
	}
	if !ok {
		return refusedChange{http.StatusNotFound, "there is no such document"}
	}
	w.Header().Set("ETag", d.ETag)
	w.Header().Set("Last-Modified", d.ChangedAt.UTC().Format(http.TimeFormat))
	w.Header().Set("Content-Type", d.ContentType)
	w.Header().Set("Content-Disposition", "attachment") // whatever a platform keeps, no browser shows it as ours
	if slices.Contains(strings.Fields(strings.ReplaceAll(r.Header.Get("If-None-Match"), ",", " ")), d.ETag) {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	_, _ = w.Write(d.Body)
	return nil
}

// changeDocument keeps a document, merges it with the one that is there, or drops it.
func (s *Server) changeDocument(w http.ResponseWriter, r *http.Request, interfaceID string,
	q xapi.DocumentQuery,
) error {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		writeUnread(w, err)
		return nil
	}
	sent := xapi.Document{ContentType: r.Header.Get("Content-Type"), Body: body}
	if sent.ContentType == "" {
		sent.ContentType = "application/octet-stream"
	}
	err = s.Facts.ChangeDocument(r.Context(), interfaceID, q, func(before *xapi.Document) (*xapi.Document, error) {
		switch xapi.Precondition(r, q.Kind, before, spokenVersion(r) == xapi.Version2) {
		case http.StatusPreconditionFailed:
			return nil, refusedChange{http.StatusPreconditionFailed, "the document is not the one that If-Match or If-None-Match names"}
		case http.StatusConflict:
			return nil, refusedChange{http.StatusConflict, "there is a document already; read it, then say in If-Match which one you have seen, or If-None-Match: * to replace none"}
		}
		switch r.Method {
		case http.MethodDelete:
			return nil, nil //nolint:nilnil // it is dropped
		case http.MethodPost:
			next, err := xapi.Merged(before, sent)
			if errors.Is(err, xapi.ErrMerge) {
				return nil, refusedChange{http.StatusBadRequest, err.Error()}
			}
			return &next, err
		}
		return &sent, nil
	})
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}

// activity gives what is known of an activity (Communication 2.5).
func (s *Server) activity(w http.ResponseWriter, r *http.Request) {
	via, ok := s.platform(w, r)
	if !ok {
		return
	}
	q, err := xapi.ParseDocumentQuery(xapi.ActivityProfile, r.URL.Query())
	if err != nil || len(r.URL.Query()) != 1 {
		problem.Write(w, http.StatusBadRequest, "give the activity's IRI as activityId, and nothing else")
		return
	}
	known, err := s.Facts.Activity(r.Context(), via.ID, q.Activity)
	if err != nil {
		s.notKept(w, err)
		return
	}
	writeJSON(w, http.StatusOK, known)
}

// agent gives what is known of an agent (Communication 2.4).
func (s *Server) agent(w http.ResponseWriter, r *http.Request) {
	via, ok := s.platform(w, r)
	if !ok {
		return
	}
	q, err := xapi.ParseDocumentQuery(xapi.AgentProfile, r.URL.Query())
	if err != nil || len(r.URL.Query()) != 1 {
		problem.Write(w, http.StatusBadRequest, "give one agent as agent, and nothing else")
		return
	}
	known, err := s.Facts.Person(r.Context(), via.ID, q.Agent)
	if err != nil {
		s.notKept(w, err)
		return
	}
	writeJSON(w, http.StatusOK, known)
}
