// Package contacts stands in for a plant-news contact list: it accepts signed
// events that carry an address and a label, and shows each contact's labels.
package contacts

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"kanban/internal/standin/page"
	"kanban/internal/standin/signin"
	"kanban/internal/wire/webhook"
)

// Secret with which messages to the list are signed.
const Secret = "whsec_RmVybm1vb3ItR2FyZGVuLVNjaG9vbC1kZW1vLXNlY3JldA=="

// Token of the list's own API.
const Token = "seed-packet"

// tokensLast is how long an access token lasts that was granted by signing in.
const tokensLast = time.Hour

// Labels that the list has; its API takes no others.
var Labels = []string{"learner", "cuttings-done", "to-repeat", "passed", "finished"}

// Contact is one entry of the list.
type Contact struct {
	Email  string   `json:"email"`
	Name   string   `json:"name"`
	Labels []string `json:"labels"`
	// Next is where the contact is sent next, as an event offered it.
	Next string `json:"next,omitempty"`
}

// List is the stand-in. Use New.
type List struct {
	SignIn   *signin.Server // grants access to the API to whoever is signed in there
	mux      *http.ServeMux
	mu       sync.Mutex
	contacts map[string]*Contact
	seen     map[string]int // message id → times it came
}

// New is an empty list.
func New() *List {
	l := &List{
		SignIn: signin.New(tokensLast), mux: http.NewServeMux(), contacts: map[string]*Contact{},
		seen: map[string]int{},
	}
	l.mux.HandleFunc("POST /events", l.receive)
	l.mux.HandleFunc("GET /contacts", l.json)
	l.mux.HandleFunc("GET /api/labels", l.withToken(func(w http.ResponseWriter,
		_ *http.Request,
	) {
		write(w, Labels)
	}))
	l.mux.HandleFunc("POST /api/contacts/{email}/labels", l.withToken(l.apiAdd))
	l.mux.HandleFunc("GET /api/contacts/{email}", l.withToken(l.apiGet))
	l.mux.HandleFunc("DELETE /api/contacts/{email}/labels", l.withToken(l.apiRemove))
	l.mux.HandleFunc("GET /received", l.received)
	l.mux.Handle("/oauth/", l.SignIn)
	l.mux.Handle("/.well-known/", l.SignIn)
	l.mux.HandleFunc("GET /{$}", l.page)
	return l
}

// ServeHTTP answers events, JSON and page.
func (l *List) ServeHTTP(w http.ResponseWriter, r *http.Request) { l.mux.ServeHTTP(w, r) }

func (l *List) receive(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		http.Error(w, "the body broke off", http.StatusBadRequest)
		return
	}
	id, err := webhook.Verify(Secret, r.Header, body)
	if err != nil {
		http.Error(w, "the signature is not accepted", http.StatusUnauthorized)
		return
	}
	event, data, err := webhook.Decode(body)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	if event.Type == "kanban.probe" {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if err := l.label(id, data); err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func (l *List) label(id string, data []byte) error {
	var in struct {
		Email, Name, Label, Without, Next string
	}
	if err := json.Unmarshal(data, &in); err != nil || !strings.Contains(in.Email, "@") || in.Label+in.Without == "" {
		return fmt.Errorf("the data needs an email and a label (or a label to go without)")
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seen[id]++
	if l.seen[id] > 1 {
		return nil // a repeat of a message already taken
	}
	key := strings.ToLower(in.Email)
	c := l.contacts[key]
	if c == nil {
		c = &Contact{Email: in.Email, Labels: []string{}}
		l.contacts[key] = c
	}
	if in.Name != "" {
		c.Name = in.Name
	}
	if in.Next != "" {
		c.Next = in.Next
	}
	if in.Label != "" && !slices.Contains(c.Labels, in.Label) {
		c.Labels = append(c.Labels, in.Label)
	}
	c.Labels = slices.DeleteFunc(c.Labels, func(x string) bool { return x == in.Without })
	return nil
}

// apiGet shows one contact.
func (l *List) apiGet(w http.ResponseWriter, r *http.Request) {
	c, ok := l.find(r.PathValue("email"))
	if !ok {
		http.Error(w, `{"error": "no such contact"}`, http.StatusNotFound)
		return
	}
	write(w, c)
}

func (l *List) find(email string) (Contact, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	c := l.contacts[strings.ToLower(email)]
	if c == nil {
		return Contact{}, false
	}
	return c.copy(), true
}

// copy is the contact as it is now, whatever becomes of its labels while it is sent.
func (c *Contact) copy() Contact {
	out := *c
	out.Labels = slices.Clone(c.Labels)
	return out
}

// Contacts is a copy of the list, ordered by address.
func (l *List) Contacts() []Contact {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := []Contact{}
	for _, c := range l.contacts {
		out = append(out, c.copy())
	}
	slices.SortFunc(out, func(a, b Contact) int { return strings.Compare(a.Email, b.Email) })
	return out
}

func (l *List) json(w http.ResponseWriter, _ *http.Request) {
	write(w, l.Contacts())
}

// received tells how often each message id came.
func (l *List) received(w http.ResponseWriter, _ *http.Request) {
	l.mu.Lock()
	seen := maps.Clone(l.seen)
	l.mu.Unlock()
	write(w, seen)
}

var list = template.Must(template.New("list").Parse(`<table><tr><th>Contact<th>E-mail address<th>Labels<th>Goes on at</tr>
{{range .}}<tr><td>{{.Name}}<td>{{.Email}}<td>{{range .Labels}}<code>{{.}}</code> {{end}}<td>{{if .Next}}<a href="{{.Next}}">{{.Next}}</a>{{end}}</tr>{{else}}<tr><td colspan="4">Nobody yet.</tr>{{end}}</table>`))

func (l *List) page(w http.ResponseWriter, _ *http.Request) {
	var body bytes.Buffer
	_ = list.Execute(&body, l.Contacts())
	page.Write(w, page.Page{
		Title: "Plant news: the contact list",
		About: "Stand-in for a contact list. It accepts signed CloudEvents at /events.",
		Body:  template.HTML(body.String()),
	})
}
