package contacts_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/standin/contacts"
)

// Whoever reads the list while labels come and go gets one state of it (the race detector looks).
func TestListIsReadWhileItChanges(t *testing.T) {
	list := contacts.New()
	call := func(method, path, body string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(method, path, strings.NewReader(body))
		r.Header.Set("Authorization", "Bearer "+contacts.Token)
		w := httptest.NewRecorder()
		list.ServeHTTP(w, r)
		return w
	}
	add := func(label string) {
		w := call(http.MethodPost, "/api/contacts/ada@fernmoor.example/labels", `{"label": "`+label+`"}`)
		assert.JSONEq(t, `{"ok": true}`, w.Body.String())
	}
	for _, label := range contacts.Labels {
		add(label)
	}
	var all sync.WaitGroup
	for _, path := range []string{"/api/contacts/ada@fernmoor.example", "/contacts", "/"} {
		all.Go(func() {
			for range 50 {
				assert.Equal(t, http.StatusOK, call(http.MethodGet, path, "").Code)
			}
		})
	}
	for range 50 {
		call(http.MethodDelete, "/api/contacts/ada@fernmoor.example/labels?label="+contacts.Labels[0], "")
		add(contacts.Labels[0])
	}
	all.Wait()
	require.Len(t, list.Contacts(), 1)
	assert.ElementsMatch(t, contacts.Labels, list.Contacts()[0].Labels)
}
