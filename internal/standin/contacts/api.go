package contacts

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
)

// verdict is what the list's API answers, always with the status 200.
type verdict struct {
	OK    bool   `json:"ok"`
	Error string `json:"error,omitempty"`
}

func write(w http.ResponseWriter, body any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(body)
}

func (l *List) withToken(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+Token && !l.SignIn.Allows(r) {
			http.Error(w, "the token is not accepted", http.StatusUnauthorized)
			return
		}
		next(w, r)
	}
}

func (l *List) apiAdd(w http.ResponseWriter, r *http.Request) {
	var in struct{ Label, Name string }
	email := r.PathValue("email")
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil || !strings.Contains(email, "@") {
		write(w, verdict{Error: "an address and a label are needed"})
		return
	}
	if !slices.Contains(Labels, in.Label) {
		write(w, verdict{Error: "there is no label " + in.Label})
		return
	}
	l.change(email, in.Name, func(c *Contact) {
		if !slices.Contains(c.Labels, in.Label) {
			c.Labels = append(c.Labels, in.Label)
		}
	})
	write(w, verdict{OK: true})
}

func (l *List) apiRemove(w http.ResponseWriter, r *http.Request) {
	label := r.URL.Query().Get("label")
	l.change(r.PathValue("email"), "", func(c *Contact) {
		c.Labels = slices.DeleteFunc(c.Labels, func(x string) bool { return x == label })
	})
	write(w, verdict{OK: true})
}

func (l *List) change(email, name string, change func(*Contact)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	key := strings.ToLower(email)
	c := l.contacts[key]
	if c == nil {
		c = &Contact{Email: email, Labels: []string{}}
		l.contacts[key] = c
	}
	if name != "" {
		c.Name = name
	}
	change(c)
}
