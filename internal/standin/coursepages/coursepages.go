// Package coursepages stands in for the part of a course platform that opens pages of outside tools from inside its
// courses, as LTI 1.3 says: tools register themselves, each course has a page with the tool in a frame, and whoever
// opens it is told to the tool in a signed message. It can be made to lie.
package coursepages

import (
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"kanban/internal/standin/school"
)

// Wrong is a way to lie.
type Wrong string

// The ways.
const (
	Right           Wrong = ""
	Expired         Wrong = "expired"          // the message ended an hour ago
	OfTomorrow      Wrong = "of-tomorrow"      // it was made in a day
	OtherKey        Wrong = "other-key"        // it is signed with a key that is not published
	Unsigned        Wrong = "unsigned"         // its algorithm is none
	SharedSecret    Wrong = "shared-secret"    // it is signed with a secret (HS256)
	OtherIssuer     Wrong = "other-issuer"     // it names another issuer
	OtherClient     Wrong = "other-client"     // it is for another tool
	TwoClients      Wrong = "two-clients"      // it is for two
	OtherParty      Wrong = "other-party"      // another tool asked for it
	OtherNonce      Wrong = "other-nonce"      // it answers another question
	OldNonce        Wrong = "old-nonce"        // it answers the question before
	OtherDeployment Wrong = "other-deployment" // it comes by a deployment that nobody knows
	NoDeployment    Wrong = "no-deployment"    // it does not say by which
	NoRoles         Wrong = "no-roles"         // it does not say what somebody is
	NoLink          Wrong = "no-link"          // it does not say what was opened
	OlderVersion    Wrong = "older-version"    // it names another version
	OtherMessage    Wrong = "other-message"    // it is of a kind that nobody knows
	Huge            Wrong = "huge"             // it holds 70,000 letters more
	Broken          Wrong = "broken"           // it is no token
	LoginRequired   Wrong = "login-required"   // it says that nobody is signed in
	OtherState      Wrong = "other-state"      // it gives back another state
	Anonymous       Wrong = "anonymous"        // it does not say who
	NoIDs           Wrong = "no-ids"           // it says nothing of the register
)

// Test is who opens a page as the platform's test user.
const Test = "test"

// Deployment is by what the platform opens links.
const Deployment = "fernmoor-1"

type tool struct {
	Login, Redirect, Name string
	Custom                map[string]string
}

// Server is the stand-in. Use New.
type Server struct {
	school *school.School
	mux    *http.ServeMux
	key    *rsa.PrivateKey

	mu        sync.Mutex
	kid       string
	wrong     Wrong
	late      bool            // it says its deployment at the first launch, not before
	storage   bool            // it keeps values for pages in frames
	tickets   map[string]bool // registration tokens that were given out
	tools     map[string]tool
	lastNonce string
}

// New is a platform for a school, at which no tool is registered.
func New(s *school.School) *Server {
	p := &Server{
		school: s, mux: http.NewServeMux(), storage: true, tickets: map[string]bool{},
		tools: map[string]tool{},
	}
	p.NewKey()
	p.mux.HandleFunc("GET /lti/.well-known/openid-configuration", p.configuration)
	p.mux.HandleFunc("GET /lti/keys", p.keys)
	p.mux.HandleFunc("POST /lti/tools", p.register)
	p.mux.HandleFunc("POST /lti/join", p.join)
	p.mux.HandleFunc("GET /lti/authorize", p.authorize)
	p.mux.HandleFunc("POST /lti/wrong", p.setWrong)
	p.mux.HandleFunc("GET /lti/{$}", p.admin)
	p.mux.HandleFunc("GET /lti/courses/{section}", p.course)
	p.mux.HandleFunc("GET /lti/open/{section}", p.open)
	p.mux.HandleFunc("GET /lti/storage.js", storageScript)
	return p
}

// ServeHTTP answers what is under /lti/.
func (p *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { p.mux.ServeHTTP(w, r) }

// NewKey signs with another key from now on; the former one is published no more.
func (p *Server) NewKey() {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.key, p.kid = key, rand.Text()
}

// Lie makes it lie from now on.
func (p *Server) Lie(w Wrong) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wrong = w
}

// SayLate lets it say its deployment at the first launch only.
func (p *Server) SayLate(late bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.late = late
}

// KeepValues lets its pages keep values for pages in frames, or not.
func (p *Server) KeepValues(keep bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.storage = keep
}

func (p *Server) setWrong(w http.ResponseWriter, r *http.Request) {
	p.Lie(Wrong(r.FormValue("how")))
	p.KeepValues(r.FormValue("storage") != "no")
	http.Redirect(w, r, "/lti/", http.StatusSeeOther)
}

func base(r *http.Request) string { return "http://" + r.Host + "/lti" }

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func (p *Server) configuration(w http.ResponseWriter, r *http.Request) {
	at := base(r)
	answer(w, http.StatusOK, map[string]any{
		"issuer": at, "authorization_endpoint": at + "/authorize", "token_endpoint": at + "/token", "jwks_uri": at + "/keys",
		"registration_endpoint": at + "/tools", "token_endpoint_auth_methods_supported": []string{"private_key_jwt"},
		"token_endpoint_auth_signing_alg_values_supported": []string{"RS256"},
		"scopes_supported": []string{"openid"}, "response_types_supported": []string{"id_token"},
		"subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"RS256"},
		"claims_supported": []string{"iss", "sub", "name", "given_name", "family_name", "email"},
		"https://purl.imsglobal.org/spec/lti-platform-configuration": map[string]any{
			"product_family_code": "fernmoor-courses", "version": "1",
			"messages_supported": []map[string]any{{"type": "LtiResourceLinkRequest"}},
			"variables":          []string{"CourseSection.sourcedId", "Person.sourcedId"},
		},
	})
}

func (p *Server) keys(w http.ResponseWriter, _ *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	answer(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{
		Key: p.key.Public(), KeyID: p.kid, Algorithm: string(jose.RS256), Use: "sig",
	}}})
}

// Ticket is a registration token that can be used once.
func (p *Server) Ticket() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	t := rand.Text()
	p.tickets[t] = true
	return t
}

// join opens a tool's registration address, as an administrator does who pastes it.
func (p *Server) join(w http.ResponseWriter, r *http.Request) {
	u, err := url.Parse(strings.TrimSpace(r.FormValue("address")))
	if err != nil || u.Host == "" {
		http.Error(w, "that is not an address", http.StatusUnprocessableEntity)
		return
	}
	q := u.Query()
	q.Set("openid_configuration", base(r)+"/.well-known/openid-configuration")
	q.Set("registration_token", p.Ticket())
	u.RawQuery = q.Encode()
	http.Redirect(w, r, u.String(), http.StatusSeeOther)
}

func (p *Server) register(w http.ResponseWriter, r *http.Request) {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.tickets[token] {
		answer(w, http.StatusForbidden, map[string]string{"error": "invalid_token", "error_description": "the registration token is not known, or was used"})
		return
	}
	var body map[string]any
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&body); err != nil {
		answer(w, http.StatusBadRequest, map[string]string{"error": "invalid_client_metadata", "error_description": "the body is not JSON"})
		return
	}
	t := tool{Custom: map[string]string{}}
	t.Login, _ = body["initiate_login_uri"].(string)
	t.Name, _ = body["client_name"].(string)
	if redirects, _ := body["redirect_uris"].([]any); len(redirects) > 0 {
		t.Redirect, _ = redirects[0].(string)
	}
	const configuration = "https://purl.imsglobal.org/spec/lti-tool-configuration"
	said, _ := body[configuration].(map[string]any)
	custom, _ := said["custom_parameters"].(map[string]any)
	for name, v := range custom {
		t.Custom[name], _ = v.(string)
	}
	if t.Login == "" || t.Redirect == "" || body["jwks_uri"] == nil || body["token_endpoint_auth_method"] != "private_key_jwt" {
		answer(w, http.StatusBadRequest, map[string]string{"error": "invalid_client_metadata", "error_description": "a tool has a login address, a redirect address and keys"})
		return
	}
	delete(p.tickets, token)
	id := "tool-" + rand.Text()[:8]
	p.tools[id] = t
	body["client_id"] = id
	if !p.late {
		said["deployment_id"] = Deployment
	}
	answer(w, http.StatusCreated, body)
}

// Tools are the client ids of the tools that have registered, in no order.
func (p *Server) Tools() (ids []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for id := range p.tools {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

// AddTool registers a tool by hand, and gives its client id.
func (p *Server) AddTool(login, redirect string, custom map[string]string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	id := "tool-" + rand.Text()[:8]
	p.tools[id] = tool{Login: login, Redirect: redirect, Name: "by hand", Custom: custom}
	return id
}

// open sends a browser to the tool, to begin a launch: of the one that is registered, or the one that is named.
func (p *Server) open(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	id := r.URL.Query().Get("tool")
	for known := range p.tools {
		if id == "" {
			id = known
		}
	}
	t, ok := p.tools[id]
	if !ok {
		http.Error(w, "no tool has registered here", http.StatusNotFound)
		return
	}
	q := url.Values{
		"iss": {base(r)}, "login_hint": {r.URL.Query().Get("as")}, "target_link_uri": {t.Redirect}, "client_id": {id},
		"lti_message_hint": {r.PathValue("section")}, "lti_deployment_id": {Deployment},
	}
	if p.storage {
		q.Set("lti_storage_target", "_parent")
	}
	http.Redirect(w, r, t.Login+"?"+q.Encode(), http.StatusSeeOther)
}

var posted = template.Must(template.New("posted").Parse(`<!doctype html><title>Opening</title><form method="post" action="{{.To}}">
{{range $name, $value := .Fields}}<input type="hidden" name="{{$name}}" value="{{$value}}">{{end}}<noscript><button>Open</button></noscript></form>
<script>document.forms[0].submit()</script>`))

// authorize says to the tool who opened what.
func (p *Server) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	p.mu.Lock()
	defer p.mu.Unlock()
	t, ok := p.tools[q.Get("client_id")]
	switch {
	case !ok || q.Get("redirect_uri") != t.Redirect:
		http.Error(w, "the tool is not registered with this redirect address", http.StatusBadRequest)
		return
	case q.Get("scope") != "openid" || q.Get("response_type") != "id_token" || q.Get("response_mode") != "form_post" ||
		q.Get("prompt") != "none" || q.Get("nonce") == "" || q.Get("state") == "":
		http.Error(w, "the question is not whole (1EdTech Security Framework 1.0, 5.1.1.2)", http.StatusBadRequest)
		return
	}
	fields := map[string]string{"state": q.Get("state")}
	if p.wrong == OtherState {
		fields["state"] = rand.Text()
	}
	if p.wrong == LoginRequired {
		fields["error"], fields["error_description"] = "login_required", "nobody is signed in"
	} else {
		token, err := p.message(base(r), q, t)
		if err != nil {
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
			return
		}
		fields["id_token"] = token
	}
	p.lastNonce = q.Get("nonce")
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = posted.Execute(w, map[string]any{"To": t.Redirect, "Fields": fields})
}

const claim = "https://purl.imsglobal.org/spec/lti/claim/"

// message signs who opened what.
func (p *Server) message(issuer string, q url.Values, t tool) (string, error) {
	now := time.Now()
	claims, err := p.claims(issuer, q, t, now)
	if err != nil {
		return "", err
	}
	p.lie(claims, q.Get("client_id"), now)
	return p.signed(claims)
}

// lie makes wrong what is to be wrong.
func (p *Server) lie(claims map[string]any, client string, now time.Time) {
	switch p.wrong {
	case Expired:
		claims["exp"], claims["iat"] = now.Add(-time.Hour).Unix(), now.Add(-65*time.Minute).Unix()
	case OfTomorrow:
		claims["exp"], claims["iat"] = now.Add(25*time.Hour).Unix(), now.Add(24*time.Hour).Unix()
	case OtherIssuer:
		claims["iss"] = "https://other.example"
	case OtherClient:
		claims["aud"] = "another-tool"
	case TwoClients:
		claims["aud"], claims["azp"] = []string{client, "another-tool"}, client
	case OtherParty:
		claims["azp"] = "another-tool"
	case OtherNonce:
		claims["nonce"] = rand.Text()
	case OldNonce:
		claims["nonce"] = p.lastNonce
	case OtherDeployment:
		claims[claim+"deployment_id"] = "somebody-elses"
	case NoDeployment:
		delete(claims, claim+"deployment_id")
	case NoRoles:
		delete(claims, claim+"roles")
	case NoLink:
		delete(claims, claim+"resource_link")
	case OlderVersion:
		claims[claim+"version"] = "1.1.0"
	case OtherMessage:
		claims[claim+"message_type"] = "LtiSurpriseRequest"
	case Huge:
		claims["more"] = strings.Repeat("x", 70_000)
	case Anonymous:
		delete(claims, "sub")
	case NoIDs:
		delete(claims, claim+"lis")
		delete(claims, claim+"custom")
	}
}

// signed signs a message, or does so wrongly.
func (p *Server) signed(claims map[string]any) (string, error) {
	key, id, algorithm := any(p.key), p.kid, jose.RS256
	switch p.wrong {
	case Broken:
		return "broken", nil
	case OtherKey:
		other, err := rsa.GenerateKey(rand.Reader, 2048)
		if err != nil {
			return "", err
		}
		key = other
	case SharedSecret:
		key, id, algorithm = []byte(strings.Repeat("secret", 8)), "secret", jose.HS256
	case Unsigned:
		return unsigned(claims)
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: algorithm, Key: key},
		(&jose.SignerOptions{}).WithType("JWT").WithHeader("kid", id))
	if err != nil {
		return "", err
	}
	return jwt.Signed(signer).Claims(claims).Serialize()
}

func (p *Server) claims(issuer string, q url.Values, t tool, now time.Time) (map[string]any, error) {
	section, as := q.Get("lti_message_hint"), q.Get("login_hint")
	all := p.school.Sections()
	at := slices.IndexFunc(all, func(x school.Section) bool { return x.ID == section })
	if at < 0 {
		return nil, fmt.Errorf("there is no course %q", section)
	}
	claims := map[string]any{
		"iss": issuer, "aud": q.Get("client_id"), "nonce": q.Get("nonce"), "iat": now.Unix(),
		"exp":                  now.Add(5 * time.Minute).Unix(),
		claim + "message_type": "LtiResourceLinkRequest", claim + "version": "1.3.0", claim + "deployment_id": Deployment,
		claim + "target_link_uri": t.Redirect, claim + "resource_link": map[string]string{
			"id":    "link-" + section,
			"title": t.Name,
		},
		claim + "context": map[string]any{
			"id": "course-" + section, "label": all[at].Code, "title": all[at].Title,
			"type": []string{"http://purl.imsglobal.org/vocab/lis/v2/course#CourseSection"},
		},
		claim + "launch_presentation": map[string]string{"document_target": "iframe", "return_url": issuer + "/courses/" + section},
	}
	const membership = "http://purl.imsglobal.org/vocab/lis/v2/membership#"
	if as == Test {
		claims["sub"], claims["name"] = "test-user", "Test user"
		claims[claim+"roles"] = []string{membership + "Learner", "http://purl.imsglobal.org/vocab/lti/system/person#TestUser"}
		return claims, nil
	}
	people := p.school.People()
	who := slices.IndexFunc(people, func(x school.Person) bool { return x.ID == as })
	if who < 0 {
		return nil, fmt.Errorf("there is no person %q", as)
	}
	x := people[who]
	role := "Learner"
	if x.Role == "teacher" {
		role = "Instructor"
	}
	claims["sub"], claims["name"], claims["email"] = "account-"+x.ID, x.Name(), x.Email
	claims["given_name"], claims["family_name"] = x.GivenName, x.FamilyName
	claims[claim+"roles"] = []string{membership + role}
	claims[claim+"lis"] = map[string]string{"person_sourcedid": x.ID, "course_section_sourcedid": section}
	custom := map[string]string{}
	for name, value := range t.Custom {
		custom[name] = strings.NewReplacer("$CourseSection.sourcedId", section, "$Person.sourcedId", x.ID).Replace(value)
	}
	claims[claim+"custom"] = custom
	return claims, nil
}
