package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-oauth2/oauth2/v4"
	oautherrors "github.com/go-oauth2/oauth2/v4/errors"

	"kanban/internal/app/holders"
	"kanban/internal/app/wallets"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/wire/openbadge"
)

// Pages of a holder's credentials.
const (
	usualCredentials = 20
	mostCredentials  = 100
)

// apiProblem answers as the Open Badges API has it (Imsx_StatusInfo).
func apiProblem(w http.ResponseWriter, status int, minor, why string) {
	writeJSON(w, status, openbadge.NewAPIStatus(status, minor, why))
}

// walletActs does something for the holder whose token a wallet gives.
type walletActs func(w http.ResponseWriter, r *http.Request, t oauth2.TokenInfo) error

// forWallet lets a wallet do something if its token allows it (RFC 6750).
func (s *Server) forWallet(scope string, act walletActs) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		t, err := s.oauth.ValidationBearerToken(r)
		switch {
		case errors.Is(err, oautherrors.ErrInvalidAccessToken), errors.Is(err, oautherrors.ErrExpiredAccessToken),
			errors.Is(err, oautherrors.ErrExpiredRefreshToken):
			w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
			apiProblem(w, http.StatusUnauthorized, "", "the token is missing, has ended or was taken back")
			return
		case err != nil:
			s.Log.Error("looking at a token", "cause", err.Error())
			apiProblem(w, http.StatusServiceUnavailable, "", "the token cannot be looked at now; try again")
			return
		case !slices.Contains(strings.Fields(t.GetScope()), scope):
			w.Header().Set("WWW-Authenticate", fmt.Sprintf("Bearer error=%q, scope=%q", "insufficient_scope", scope))
			apiProblem(w, http.StatusForbidden, "", "the holder does not let this wallet do that")
			return
		}
		err = act(w, r, t)
		refused, is := refusal.As(err)
		switch {
		case err == nil:
			if err := s.Wallets.Used(r.Context(), t.GetClientID(), t.GetUserID()); err != nil {
				s.Log.Warn("noting what a wallet did", "cause", err.Error())
			}
		case is && refused.Kind == refusal.KindConflict:
			apiProblem(w, http.StatusForbidden, "", refused.Error())
		case is:
			apiProblem(w, http.StatusBadRequest, "", refused.Error())
		case errors.Is(err, db.ErrNotFound):
			apiProblem(w, http.StatusNotFound, "", "whose token this is is not known here any more")
		default:
			s.Log.Error("answering a wallet", "cause", err.Error())
			apiProblem(w, http.StatusInternalServerError, "", "this did not work; try again")
		}
	}
}

// givenCredentials answers GET /credentials (getCredentials).
func (s *Server) givenCredentials(w http.ResponseWriter, r *http.Request, t oauth2.TokenInfo) error {
	q := r.URL.Query()
	number := func(name string, usual, least, most int) (int, bool) {
		n, err := strconv.Atoi(q.Get(name))
		return map[bool]int{true: usual, false: min(n, most)}[q.Get(name) == ""], q.Get(name) == "" || err == nil &&
			n >= least
	}
	limit, ok := number("limit", usualCredentials, 1, mostCredentials)
	offset, ok2 := number("offset", 0, 0, 1<<30)
	var since time.Time
	var err error
	if text := q.Get("since"); text != "" {
		since, err = time.Parse(time.RFC3339, text)
	}
	if !ok || !ok2 || err != nil {
		apiProblem(w, http.StatusBadRequest, "invalid_query_parameter",
			"limit is 1 or more, offset 0 or more, and since a time as in 2026-01-31T08:00:00Z")
		return nil
	}
	all, total, err := s.Wallets.Credentials(r.Context(), t.GetUserID(), since, limit, offset)
	if err != nil {
		return err
	}
	w.Header().Set("X-Total-Count", strconv.Itoa(total))
	w.Header().Set("Link", s.pageLinks(q, limit, offset, total))
	writeJSON(w, http.StatusOK, all)
	return nil
}

// pageLinks are the links to the other pages of a list (RFC 8288).
func (s *Server) pageLinks(q url.Values, limit, offset, total int) string {
	var all []string
	add := func(rel string, at int) {
		q.Set("limit", strconv.Itoa(limit))
		q.Set("offset", strconv.Itoa(at))
		all = append(all, fmt.Sprintf("<%s%s/credentials?%s>; rel=%q", s.Public, openbadge.APIPath, q.Encode(), rel))
	}
	add("first", 0)
	add("last", max(0, (total-1)/limit*limit))
	if offset > 0 {
		add("prev", max(0, offset-limit))
	}
	if offset+limit < total {
		add("next", offset+limit)
	}
	return strings.Join(all, ", ")
}

// broughtCredential answers POST /credentials (upsertCredential).
func (s *Server) broughtCredential(w http.ResponseWriter, r *http.Request, t oauth2.TokenInfo) error {
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || !slices.Contains([]string{
		"application/json", "application/ld+json", "application/vc", "application/vc+ld+json", "text/plain",
		"application/vc+jwt",
	}, kind) {
		apiProblem(w, http.StatusUnsupportedMediaType, "", "send application/json, or a compact JWS as text/plain")
		return nil
	}
	content, err := io.ReadAll(http.MaxBytesReader(w, r.Body, wallets.LongestCredential))
	if err != nil {
		apiProblem(w, http.StatusRequestEntityTooLarge, "", "the credential is larger than 256 kB, or did not come whole")
		return nil
	}
	outcome, err := s.Wallets.Bring(r.Context(), t.GetUserID(), t.GetClientID(), content)
	if err != nil {
		return err
	}
	status := map[wallets.Outcome]int{
		wallets.New: http.StatusCreated, wallets.Replaced: http.StatusOK, wallets.Unchanged: http.StatusNotModified,
	}[outcome]
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	if status != http.StatusNotModified {
		_, _ = w.Write(content)
	}
	return nil
}

// givenProfile answers GET /profile (getProfile).
func (s *Server) givenProfile(w http.ResponseWriter, r *http.Request, t oauth2.TokenInfo) error {
	p, err := s.Wallets.Profile(r.Context(), t.GetUserID())
	if err != nil {
		return err
	}
	writeJSON(w, http.StatusOK, p)
	return nil
}

// changedProfile answers PUT /profile (putProfile).
func (s *Server) changedProfile(w http.ResponseWriter, r *http.Request, t oauth2.TokenInfo) error {
	var to openbadge.HolderProfile
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&to); err != nil {
		return refusal.Invalid("profile", "is not a JSON object as the standard has it")
	}
	p, err := s.Wallets.SetProfile(r.Context(), t.GetUserID(), to)
	if err != nil {
		return err
	}
	writeJSON(w, http.StatusOK, p)
	return nil
}

// walletDiscovery answers GET /discovery (getServiceDescription).
func (s *Server) walletDiscovery(w http.ResponseWriter, _ *http.Request) {
	answers := map[string]any{"200": map[string]string{"description": "As the standard has it."}}
	operation := func(id string, scope string) map[string]any {
		return map[string]any{
			"operationId": id, "responses": answers,
			"security": []map[string][]string{{openbadge.SchemeName: {scope}}},
		}
	}
	writeJSON(w, http.StatusOK, openbadge.Discovery{
		OpenAPI: "3.0.1",
		Info: openbadge.DiscoveryInfo{
			Title: "Kanban: badges of holders", Version: "3.0", Terms: s.Public + holders.Path + "#terms",
			Privacy: s.Public + holders.Path + "#terms",
		},
		Servers: []openbadge.DiscoveryServer{{URL: s.Public + openbadge.APIPath}},
		Paths: map[string]any{
			"/credentials": map[string]any{
				"get":  operation("getCredentials", openbadge.ScopeCredentials),
				"post": operation("upsertCredential", openbadge.ScopeUpsert),
			},
			"/profile": map[string]any{
				"get": operation("getProfile", openbadge.ScopeProfile),
				"put": operation("putProfile", openbadge.ScopeEditProfile),
			},
		},
		Components: openbadge.DiscoveryComponent{SecuritySchemes: map[string]openbadge.DiscoveryScheme{
			openbadge.SchemeName: {
				Type: "oauth2", Description: "OAuth 2.0 authorization code with PKCE, S256",
				Registration: s.Public + registerPath,
				Flows: map[string]openbadge.DiscoveryFlow{openbadge.FlowName: {
					Authorization: s.Public + allowPath, Token: s.Public + tokenPath, Refresh: s.Public + tokenPath,
					Scopes: scopeSays,
				}},
			},
		}},
	})
}
