package webhook

import (
	"net/http"
	"net/url"
	"strconv"
	"strings"
)

// The headers by which a sender asks whether it may send events, and a receiver answers (HTTP 1.1
// Web Hooks for Event Delivery 1.0, 4: "Abuse Protection").
const (
	requestOrigin = "WebHook-Request-Origin"
	allowedOrigin = "WebHook-Allowed-Origin"
	allowedRate   = "WebHook-Allowed-Rate"
)

// Origin is the name under which a service at an address sends events: its host.
func Origin(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Hostname()
}

// Ask marks a request of method OPTIONS as asking whether origin may send events.
func Ask(r *http.Request, origin string) {
	r.Header.Set(requestOrigin, origin)
}

// Allowance is what a receiver allows a sender.
type Allowance struct {
	Refused   bool // the receiver allows others only
	PerMinute int  // how many events a minute it takes; 0 is any number
}

// Allowed reads the answer to a request that asked for origin. A receiver that says nothing about
// it does not take part, which forbids nothing.
func Allowed(h http.Header, origin string) (a Allowance) {
	names := h.Values(allowedOrigin)
	if len(names) == 0 {
		return a
	}
	a.Refused = true
	for _, list := range names {
		for _, name := range strings.Split(list, ",") {
			if name = strings.TrimSpace(name); name == "*" || strings.EqualFold(name, origin) {
				a.Refused = false
			}
		}
	}
	if n, err := strconv.Atoi(strings.TrimSpace(h.Get(allowedRate))); err == nil && n > 0 {
		a.PerMinute = n
	}
	return a
}

// Allow answers whoever asks whether it may send events: it may, as many as it likes.
func Allow(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Allow", "OPTIONS, POST")
	origin := r.Header.Get(requestOrigin)
	if origin == "" {
		return
	}
	w.Header().Set(allowedOrigin, origin)
	w.Header().Set(allowedRate, "*")
}
