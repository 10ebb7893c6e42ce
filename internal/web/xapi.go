package web

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"kanban/internal/adapter"
	"kanban/internal/app/pipeline"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/web/problem"
	"kanban/internal/wire/xapi"
)

// xapi registers the endpoint to which course platforms report (xAPI 1.0.3
// Communication 2.1). Each xAPI interface has a key and a secret of its own.
func (s *Server) xapi(r chi.Router) {
	r = r.With(s.fromBrowsers)
	read := func(path string, h http.HandlerFunc) {
		r.Get(path, h)
		r.Head(path, h)
		r.Options(path, notListed)
		r.Post(path, func(w http.ResponseWriter, r *http.Request) { // but for the alternate syntax
			w.Header().Set("Allow", "GET, HEAD")
			problem.Write(w, http.StatusMethodNotAllowed, "nothing can be posted here; the API is described at /openapi.json")
		})
	}
	read("/xapi/about", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set(xapi.VersionHeader, xapi.Version)
		writeJSON(w, http.StatusOK, map[string]any{"version": []string{xapi.Version, xapi.Version2}})
	})
	read("/xapi/activities", s.activity)
	read("/xapi/agents", s.agent)
	s.documents(r)
	read("/xapi/statements", s.listStatements)
	read("/xapi/statements/more/{token}", s.listStatements)
	r.Post("/xapi/statements", s.statements)
	r.Put("/xapi/statements", s.statements)
}

func writeJSON(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

// platform finds the interface that a request is for; ok is false when it was
// answered already.
func (s *Server) platform(w http.ResponseWriter, r *http.Request) (via adapter.Interface, ok bool) {
	spoken := spokenVersion(r)
	w.Header().Set(xapi.VersionHeader, cmp.Or(spoken, xapi.Version))
	key, secret, _ := r.BasicAuth()
	via, known, err := s.Connections.Authenticate(r.Context(), key, secret)
	switch {
	case err != nil:
		s.Log.Error("checking a platform's credentials", "cause", err.Error())
		problem.Write(w, http.StatusServiceUnavailable, "the credentials could not be checked; try again")
	case !known:
		w.Header().Set("WWW-Authenticate", `Basic realm="xAPI"`)
		problem.Write(w, http.StatusUnauthorized,
			"the key or the secret is not right; both are shown when the interface is made")
	case spoken == "":
		problem.Write(w, http.StatusBadRequest, xapi.VersionHeader+" must be 1.0.x or 2.0.x")
	default:
		return via, true
	}
	return via, false
}

// spokenVersion is the version that a request says it is of, empty for one that is not spoken.
func spokenVersion(r *http.Request) string {
	of := r.Header.Get(xapi.VersionHeader)
	for prefix, version := range map[string]string{"1.0": xapi.Version, "2.0": xapi.Version2} {
		if of == prefix || strings.HasPrefix(of, prefix+".") {
			return version
		}
	}
	return ""
}

// listStatements answers what is asked for, page by page (Communication 2.1.3 to
// 2.1.4). A platform sees what it reported itself.
func (s *Server) listStatements(w http.ResponseWriter, r *http.Request) {
	via, ok := s.platform(w, r)
	if !ok {
		return
	}
	var q xapi.Query
	var err error
	if token := chi.URLParam(r, "token"); token != "" {
		q, err = xapi.ParseMore(token)
	} else {
		q, err = xapi.ParseQuery(r.URL.Query())
	}
	if err != nil {
		problem.Write(w, http.StatusBadRequest, err.Error())
		return
	}
	ask := eventstore.StatementQuery{
		InterfaceID: via.ID, ID: q.StatementID + q.VoidedStatementID, Voided: q.VoidedStatementID != "",
		Verb: q.Verb, Activity: q.Activity, RelatedActivities: q.RelatedActivities,
		Registration: q.Registration, Since: q.Since, Until: q.Until, Ascending: q.Ascending, After: q.After,
		Limit: q.Limit + 1,
	}
	if q.Agent != nil && q.RelatedAgents {
		ask.AnyAgent = q.Agent.Path()
	} else if q.Agent != nil {
		ask.Actor = q.Agent.Key()
	}
	list, through, err := s.Deliveries.Statements(r.Context(), ask)
	if err != nil {
		s.Log.Error("listing statements", "cause", err.Error())
		problem.Write(w, http.StatusInternalServerError, "the statements could not be read; ask again")
		return
	}
	w.Header().Set("X-Experience-API-Consistent-Through", through.UTC().Format(time.RFC3339Nano))
	var parts []xapi.Attachment
	if q.Attachments {
		parts, err = s.Facts.Attachments(r.Context(), via.ID, list[:min(len(list), q.Limit)])
		if errors.Is(err, pipeline.ErrTooMuchAttached) {
			problem.Write(w, http.StatusBadRequest, err.Error())
			return
		}
		if err != nil {
			s.Log.Error("reading attachments", "cause", err.Error())
			problem.Write(w, http.StatusInternalServerError, "the attachments could not be read; ask again")
			return
		}
	}
	s.answerStatements(w, q, list, parts, xapi.Agent{
		ObjectType: "Agent",
		Account:    &xapi.Account{HomePage: s.Public, Name: via.Settings["key"]},
	})
}

// writeStatements answers with statements, beside the content of their attachments where that was asked for.
func (s *Server) writeStatements(w http.ResponseWriter, q xapi.Query, body any, parts []xapi.Attachment) {
	if !q.Attachments {
		writeJSON(w, http.StatusOK, body)
		return
	}
	text, err := json.Marshal(body)
	var out bytes.Buffer
	kind := ""
	if err == nil {
		kind, err = xapi.WriteMultipart(&out, text, parts)
	}
	if err != nil {
		s.Log.Error("writing attachments", "cause", err.Error())
		problem.Write(w, http.StatusInternalServerError, "the attachments could not be written; ask again")
		return
	}
	w.Header().Set("Content-Type", kind)
	_, _ = w.Write(out.Bytes())
}

func (s *Server) answerStatements(w http.ResponseWriter, q xapi.Query, list []eventstore.StoredStatement,
	parts []xapi.Attachment, authority xapi.Agent,
) {
	answer := struct {
		Statements []json.RawMessage `json:"statements"`
		More       string            `json:"more"`
	}{Statements: []json.RawMessage{}}
	for i, x := range list {
		if i == q.Limit {
			answer.More = "/xapi/statements/more/" + q.More(list[i-1].Seq)
			break
		}
		text, err := xapi.Stored(x.Body, x.ID, x.StoredAt, authority, q.Format)
		if err != nil {
			s.Log.Error("writing a statement", "cause", err.Error())
			problem.Write(w, http.StatusInternalServerError, "a stored statement could not be written")
			return
		}
		answer.Statements = append(answer.Statements, text)
	}
	switch {
	case !q.Single():
		s.writeStatements(w, q, answer, parts)
	case len(list) == 0:
		problem.Write(w, http.StatusNotFound, "there is no such statement")
	default:
		w.Header().Set("Last-Modified", list[0].StoredAt.UTC().Format(http.TimeFormat))
		s.writeStatements(w, q, answer.Statements[0], parts)
	}
}

func (s *Server) statements(w http.ResponseWriter, r *http.Request) {
	via, ok := s.platform(w, r)
	if !ok {
		return
	}
	list, raw, parts, ok, err := readStatements(w, r)
	if !ok {
		return
	}
	var faults xapi.Faults
	switch {
	case errors.As(err, &faults) && r.Method == http.MethodPost &&
		via.Settings["faulty"] == adapter.TakeOthers:
		s.takeOthers(w, r, via, list, raw, parts, faults)
		return
	case errors.As(err, &faults):
		writeFaults(w, http.StatusBadRequest, "nothing of the batch was stored: "+err.Error(), faults, nil)
		return
	case err != nil:
		problem.Write(w, http.StatusBadRequest, err.Error())
		return
	case via.Settings["faulty"] == adapter.TakeOthers && r.Method == http.MethodPost:
		s.takeOthers(w, r, via, list, raw, parts, nil)
		return
	}
	ids, err := s.Facts.Take(r.Context(), via.ID, list, raw)
	if err == nil {
		err = s.keep(r.Context(), via, raw, parts)
	}
	switch {
	case errors.As(err, &faults):
		status := http.StatusBadRequest
		if errors.Is(err, pipeline.ErrConflict) {
			status = http.StatusConflict
		}
		writeFaults(w, status, "nothing of the batch was stored: "+err.Error(), faults, nil)
	case err != nil:
		s.notTaken(w, err)
	case r.Method == http.MethodPut:
		w.WriteHeader(http.StatusNoContent)
	default:
		writeJSON(w, http.StatusOK, ids)
	}
}

// readStatements reads what a request reports. ok is false when it was answered already; err says what is
// wrong with the statements.
func readStatements(w http.ResponseWriter, r *http.Request) (list []xapi.Statement, raw []json.RawMessage,
	parts []xapi.Attachment, ok bool, err error,
) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		writeUnread(w, err)
		return nil, nil, nil, false, nil
	}
	if kind := r.Header.Get("Content-Type"); xapi.Multipart(kind) {
		if body, parts, err = xapi.SplitMultipart(kind, body); err != nil {
			return nil, nil, nil, true, err
		}
	}
	list, raw, err = xapi.ParseVersion(spokenVersion(r), body, parts...)
	if err == nil && r.Method == http.MethodPut {
		err = onlyOne(spokenVersion(r), list, r.URL.Query().Get("statementId"))
	}
	return list, raw, parts, true, err
}

// keep stores the content of attachments that taken statements name, where the interface says so. When that
// fails the sender sends all again: what is stored is known then.
func (s *Server) keep(ctx context.Context, via adapter.Interface, taken []json.RawMessage,
	parts []xapi.Attachment,
) error {
	if via.Settings["attachments"] != adapter.KeepAttachments {
		return nil
	}
	return s.Facts.KeepAttachments(ctx, via.ID, taken, parts)
}

func (s *Server) notTaken(w http.ResponseWriter, err error) {
	s.Log.Error("taking statements", "cause", err.Error())
	if db.Unreachable(err) || errors.Is(err, context.Canceled) {
		problem.Busy(w, "the statements could not be stored just now; send them again")
		return
	}
	problem.Write(w, http.StatusInternalServerError, "the statements could not be stored; send them again")
}

// takeOthers stores what is not faulty of a batch, for platforms that asked for it. The
// answer tells the sender that not all is well, which of them are stored, and what is
// wrong with each other one.
func (s *Server) takeOthers(w http.ResponseWriter, r *http.Request, via adapter.Interface,
	list []xapi.Statement, raw []json.RawMessage, parts []xapi.Attachment, faults xapi.Faults,
) {
	place := others(len(list), faults)
	ids, left, err := s.Facts.TakeOthers(r.Context(), via.ID, list, raw)
	if err == nil {
		drop := map[int]bool{}
		for _, f := range left {
			drop[f.Index] = true
		}
		var taken []json.RawMessage
		for i, text := range raw {
			if !drop[i] {
				taken = append(taken, text)
			}
		}
		err = s.keep(r.Context(), via, taken, parts)
	}
	if err != nil {
		s.notTaken(w, err)
		return
	}
	for _, f := range left {
		faults = append(faults, xapi.Fault{Index: place[f.Index], Detail: f.Detail})
	}
	if len(faults) == 0 {
		writeJSON(w, http.StatusOK, ids)
		return
	}
	stored := map[int]string{}
	for i, id := range ids {
		stored[place[i]] = id
	}
	for _, f := range faults {
		delete(stored, f.Index)
	}
	slices.SortFunc(faults, func(a, b xapi.Fault) int { return cmp.Compare(a.Index, b.Index) })
	writeFaults(w, http.StatusBadRequest, faults.Error(), faults, stored)
}

// others gives the places in a batch of the n that are not faulty.
func others(n int, faults xapi.Faults) (places []int) {
	faulty := map[int]bool{}
	for _, f := range faults {
		faulty[f.Index] = true
	}
	for i := 0; len(places) < n; i++ {
		if !faulty[i] {
			places = append(places, i)
		}
	}
	return places
}

// writeFaults answers with what is wrong with each statement of a batch, and which are
// stored all the same, by their place.
func writeFaults(w http.ResponseWriter, status int, detail string, faults xapi.Faults, stored map[int]string) {
	if stored == nil {
		stored = map[int]string{}
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{
		"title": http.StatusText(status), "status": status, "detail": detail,
		"errors": faults, "stored": stored,
	})
}

// onlyOne checks a PUT: one statement, whose id is that of the address.
func onlyOne(version string, list []xapi.Statement, id string) error {
	if len(list) != 1 || id == "" {
		return errors.New("PUT takes one statement and its statementId")
	}
	if list[0].ID != "" && !strings.EqualFold(list[0].ID, id) {
		return errors.New("the statement's id is not the statementId of the address")
	}
	list[0].ID = strings.ToLower(id)
	return list[0].CheckVersion(version)
}
