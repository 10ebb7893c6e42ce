// Package shop stands in for a shop that sells places in courses: a plain page on
// which somebody buys or cancels, and a signed CloudEvent for each.
package shop

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"sync"
	"time"

	"kanban/internal/standin/page"
	"kanban/internal/standin/reporter"
	"kanban/internal/wire/webhook"
)

// Offers are what the shop sells.
var Offers = []string{"propagation-place", "orchard-membership", "garden-gloves"}

// Order is what somebody bought.
type Order struct {
	Number    string
	Offer     string
	Name      string
	Email     string
	Cancelled bool
	Told      string // what became of telling about it
}

// Shop is the stand-in. Use New.
type Shop struct {
	*reporter.Reporter
	mux *http.ServeMux

	mu     sync.Mutex
	orders []Order
}

// New is a shop in which nothing was bought yet.
func New() *Shop {
	s := &Shop{mux: http.NewServeMux(), Reporter: reporter.New()}
	s.mux.HandleFunc("POST /reporting", s.Set("/"))
	s.mux.HandleFunc("POST /orders", s.buy)
	s.mux.HandleFunc("POST /orders/{number}/cancel", s.cancel)
	s.mux.HandleFunc("GET /{$}", s.page)
	return s
}

// ServeHTTP answers page and forms.
func (s *Shop) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.mux.ServeHTTP(w, r) }

func (s *Shop) buy(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	o := Order{
		Number: fmt.Sprintf("order-%d", 1001+len(s.orders)), Offer: r.FormValue("offer"),
		Name: r.FormValue("name"), Email: r.FormValue("email"),
	}
	s.orders = append(s.orders, o)
	i := len(s.orders) - 1
	s.mu.Unlock()
	s.settle(w, r, i, "purchase.completed")
}

func (s *Shop) cancel(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	i := -1
	for j, o := range s.orders {
		if o.Number == r.PathValue("number") && !o.Cancelled {
			i = j
			s.orders[j].Cancelled = true
		}
	}
	s.mu.Unlock()
	if i < 0 {
		http.Error(w, "there is no such order", http.StatusNotFound)
		return
	}
	s.settle(w, r, i, "purchase.cancelled")
}

func (s *Shop) settle(w http.ResponseWriter, r *http.Request, i int, kind string) {
	s.mu.Lock()
	o := s.orders[i]
	s.mu.Unlock()
	told := "told"
	err := s.tell(r.Context(), "http://"+r.Host, kind, o)
	if err != nil {
		told = "not told: " + err.Error()
	}
	s.mu.Lock()
	s.orders[i].Told = told
	s.mu.Unlock()
	if err != nil && r.Header.Get("Accept") == "application/json" {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

func (s *Shop) tell(ctx context.Context, base, kind string, o Order) error {
	return s.Reporter.Tell(ctx, webhook.Event{
		ID:     o.Number + "-" + strings.ReplaceAll(kind, ".", "-"), // without a full stop, as it is signed
		Source: base, Type: kind, Subject: o.Number, Time: time.Now().UTC(),
		Data: map[string]any{"order": o.Number, "offer": o.Offer, "email": o.Email, "name": o.Name},
	})
}

// Orders is a copy of what was bought.
func (s *Shop) Orders() []Order {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Order{}, s.orders...)
}

var orders = template.Must(template.New("orders").Parse(`<form method="post" action="/orders"><select name="offer">{{range .Offers}}<option>{{.}}</option>{{end}}</select>
<label>name <input name="name"></label> <label>e-mail <input name="email" type="email"></label> <button>Buy</button></form>
<table><tr><th>Order<th>What<th>Who<th>Told<th></tr>
{{range .Orders}}<tr><td>{{.Number}}<td>{{.Offer}}<td>{{.Name}} ({{.Email}})<td>{{.Told}}<td>{{if .Cancelled}}cancelled{{else}}<form method="post" action="/orders/{{.Number}}/cancel"><button>Cancel</button></form>{{end}}</tr>{{else}}<tr><td colspan="5">Nothing yet.</tr>{{end}}</table>
<h2>Where purchases are told</h2><form method="post" action="/reporting"><label>address <input name="address" size="44" value="{{.Address}}"></label> <label>signing secret <input name="secret" type="password"></label> <button>Save</button></form>`))

func (s *Shop) page(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("Accept") == "application/json" {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(s.Orders())
		return
	}
	s.mu.Lock()
	address := s.Address()
	s.mu.Unlock()
	var body bytes.Buffer
	_ = orders.Execute(&body, map[string]any{"Offers": Offers, "Orders": s.Orders(), "Address": address})
	page.Write(w, page.Page{
		Title: "Garden shop",
		About: "Stand-in for a shop that sells places in courses. Each purchase is reported as a signed CloudEvent.",
		Body:  template.HTML(body.String()),
	})
}
