// Package wallet stands in for a program in which somebody keeps credentials: it registers itself with a school, asks
// its holder for access (OAuth 2 with PKCE), and takes their badges along (Open Badges 3.0, REST API).
package wallet

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"golang.org/x/oauth2"

	"kanban/internal/standin/page"
	"kanban/internal/wire/openbadge"
)

// Kept is a credential that the wallet has taken along.
type Kept struct {
	ID, Name, Issuer string
	Content          string
}

// school is where somebody's badges are.
type school struct {
	api    string // where its API begins
	config *oauth2.Config
	token  *oauth2.Token
	issuer string
}

// Wallet is the stand-in. Use New.
type Wallet struct {
	mux *http.ServeMux

	mu      sync.Mutex
	waiting map[string]waiting // by state: who is at the school just now
	school  *school
	kept    []Kept
	said    string
}

type waiting struct {
	school   *school
	verifier string
}

// New is an empty wallet.
func New() *Wallet {
	w := &Wallet{mux: http.NewServeMux(), waiting: map[string]waiting{}}
	w.mux.HandleFunc("GET /{$}", w.page)
	w.mux.HandleFunc("POST /add", w.add)
	w.mux.HandleFunc("GET /back", w.back)
	w.mux.HandleFunc("POST /fetch", w.fetchAgain)
	return w
}

// ServeHTTP answers a browser.
func (w *Wallet) ServeHTTP(rw http.ResponseWriter, r *http.Request) { w.mux.ServeHTTP(rw, r) }

// Kept lists what the wallet has.
func (w *Wallet) Kept() []Kept {
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]Kept(nil), w.kept...)
}

var body = template.Must(template.New("wallet").Parse(`{{with .Said}}<p id="said">{{.}}</p>{{end}}
<p><form method="post" action="/add"><label>The school's address <input name="school" id="school" size="40" value="{{.School}}" required></label> <button id="add">Get badges from there</button></form>
{{if .Connected}}<form method="post" action="/fetch"><button id="fetch">Look again</button></form>{{end}}</p>
{{if .Kept}}<table><tr><th>Badge</th><th>Issuer</th><th>Address</th></tr>{{range .Kept}}<tr><td>{{.Name}}</td><td>{{.Issuer}}</td><td><a href="{{.ID}}">{{.ID}}</a></td></tr>{{end}}</table>{{else}}<p id="empty">Nothing in it yet.</p>{{end}}`))

func (w *Wallet) page(rw http.ResponseWriter, r *http.Request) {
	w.mu.Lock()
	data := map[string]any{
		"Kept": w.kept, "Said": w.said, "Connected": w.school != nil,
		"School": r.FormValue("school"),
	}
	w.mu.Unlock()
	var text bytes.Buffer
	_ = body.Execute(&text, data)
	page.Write(rw, page.Page{
		Title: "Seed tin: a wallet", About: "Stand-in for a program in which people keep badges. It speaks the Open Badges 3.0 API.",
		Body: template.HTML(text.String()),
	})
}

func (w *Wallet) say(format string, args ...any) {
	w.mu.Lock()
	w.said = fmt.Sprintf(format, args...)
	w.mu.Unlock()
}

// add finds out how a school is asked, registers the wallet there and sends its user to it.
func (w *Wallet) add(rw http.ResponseWriter, r *http.Request) {
	own := "http://" + r.Host
	found, err := discover(r.Context(), strings.TrimSuffix(r.FormValue("school"), "/"), own+"/back")
	if err != nil {
		w.say("That school cannot be asked: %v", err)
		http.Redirect(rw, r, "/", http.StatusSeeOther)
		return
	}
	state, verifier := oauth2.GenerateVerifier(), oauth2.GenerateVerifier()
	w.mu.Lock()
	w.waiting[state] = waiting{found, verifier}
	w.mu.Unlock()
	http.Redirect(rw, r, found.config.AuthCodeURL(state, oauth2.S256ChallengeOption(verifier)), http.StatusSeeOther)
}

// discover reads the school's service description and registers with it (RFC 7591).
func discover(ctx context.Context, at, back string) (*school, error) {
	var d openbadge.Discovery
	if err := call(ctx, http.DefaultClient, http.MethodGet, at+openbadge.APIPath+"/discovery", nil, &d); err != nil {
		return nil, err
	}
	scheme := d.Components.SecuritySchemes[openbadge.SchemeName]
	flow := scheme.Flows[openbadge.FlowName]
	if scheme.Registration == "" || flow.Token == "" || len(d.Servers) == 0 {
		return nil, errors.New("its service description names no way to ask for access")
	}
	ask := map[string]any{
		"client_name": "Seed tin", "redirect_uris": []string{back}, "token_endpoint_auth_method": "none",
		"scope": openbadge.ScopeCredentials + " " + openbadge.ScopeProfile,
	}
	var got struct {
		ID     string `json:"client_id"`
		Secret string `json:"client_secret"`
	}
	if err := call(ctx, http.DefaultClient, http.MethodPost, scheme.Registration, ask, &got); err != nil {
		return nil, err
	}
	return &school{issuer: at, api: d.Servers[0].URL, config: &oauth2.Config{
		ClientID: got.ID, ClientSecret: got.Secret, RedirectURL: back,
		Endpoint: oauth2.Endpoint{
			AuthURL: flow.Authorization, TokenURL: flow.Token,
			AuthStyle: oauth2.AuthStyleInParams,
		},
		Scopes: []string{openbadge.ScopeCredentials, openbadge.ScopeProfile},
	}}, nil
}

// back is where the school sends the user, with a code or with a refusal.
func (w *Wallet) back(rw http.ResponseWriter, r *http.Request) {
	defer http.Redirect(rw, r, "/", http.StatusSeeOther)
	w.mu.Lock()
	at, known := w.waiting[r.FormValue("state")]
	delete(w.waiting, r.FormValue("state"))
	w.mu.Unlock()
	switch {
	case !known:
		w.say("Nobody here asked for that.")
		return
	case r.FormValue("error") != "":
		w.say("The school says: %s (%s)", r.FormValue("error_description"), r.FormValue("error"))
		return
	case r.FormValue("iss") != at.school.issuer: // RFC 9207
		w.say("The answer does not come from the school that was asked.")
		return
	}
	token, err := at.school.config.Exchange(r.Context(), r.FormValue("code"), oauth2.VerifierOption(at.verifier))
	if err != nil {
		w.say("The school gave no access: %v", err)
		return
	}
	at.school.token = token
	w.mu.Lock()
	w.school = at.school
	w.mu.Unlock()
	w.take(r.Context())
}

func (w *Wallet) fetchAgain(rw http.ResponseWriter, r *http.Request) {
	w.take(r.Context())
	http.Redirect(rw, r, "/", http.StatusSeeOther)
}

// take gets the badges of whoever gave access, page by page, and keeps each once.
func (w *Wallet) take(ctx context.Context) {
	w.mu.Lock()
	at := w.school
	w.mu.Unlock()
	if at == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	source := at.config.TokenSource(ctx, at.token)
	client := oauth2.NewClient(ctx, source)
	var all []Kept
	const most = 20
	for offset := 0; ; offset += most {
		var got openbadge.Credentials
		address := fmt.Sprintf("%s/credentials?limit=%d&offset=%d", at.api, most, offset)
		if err := call(ctx, client, http.MethodGet, address, nil, &got); err != nil {
			w.say("The school gave nothing: %v", err)
			return
		}
		for _, x := range got.Credential {
			all = append(all, read(x))
		}
		for _, x := range got.CompactJWS {
			if plain, err := openbadge.Plain(x); err == nil {
				all = append(all, read(plain))
			}
		}
		if len(got.Credential)+len(got.CompactJWS) < most {
			break
		}
	}
	var whose openbadge.HolderProfile
	if err := call(ctx, client, http.MethodGet, at.api+"/profile", nil, &whose); err != nil {
		whose.Name = "somebody"
	}
	w.mu.Lock()
	w.kept, w.said = all, fmt.Sprintf("%d from the school, of %s.", len(all), whose.Name)
	w.mu.Unlock()
	if token, err := source.Token(); err == nil {
		w.mu.Lock()
		at.token = token
		w.mu.Unlock()
	}
}

func read(content []byte) Kept {
	var c struct {
		ID     string `json:"id"`
		Name   string `json:"name"`
		Issuer struct {
			Name string `json:"name"`
		} `json:"issuer"`
	}
	_ = json.Unmarshal(content, &c)
	return Kept{c.ID, c.Name, c.Issuer.Name, string(content)}
}

func call(ctx context.Context, client *http.Client, method, address string, send, into any) error {
	text, err := json.Marshal(send)
	if err != nil {
		return err
	}
	var body io.Reader
	if send != nil {
		body = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return err
	}
	if send != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err = io.ReadAll(io.LimitReader(resp.Body, 64<<20))
	if err != nil {
		return err
	}
	if resp.StatusCode >= 300 {
		return fmt.Errorf("%s: %s", resp.Status, text[:min(len(text), 300)])
	}
	return json.Unmarshal(text, into)
}
