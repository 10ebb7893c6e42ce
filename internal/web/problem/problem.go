// Package problem answers with RFC 9457 problems outside of the API's described operations.
package problem

import (
	"encoding/json"
	"net/http"
)

// Write answers with a problem.
func Write(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{
		"title": http.StatusText(status), "status": status,
		"detail": detail,
	})
}

// Busy answers with what passes by itself.
func Busy(w http.ResponseWriter, detail string) {
	w.Header().Set("Retry-After", "5")
	Write(w, http.StatusServiceUnavailable, detail)
}
