package scim_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

// directory is a service that offers as much as a test lets it.
type directory struct {
	config    string // its ServiceProviderConfig, empty for none
	schemas   string
	users     int
	obeys     bool // filters
	noTotal   bool
	expireAt  int // the cursor that is not taken, once
	circle    bool
	sizes     []string
	filters   []string
	asked     map[string]int // by path
	patched   string
	conflicts bool
}

func (d *directory) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	d.asked[r.URL.Path]++
	w.Header().Set("Content-Type", scim.ContentType)
	switch {
	case r.Method == http.MethodPatch:
		text, _ := io.ReadAll(r.Body)
		d.patched = string(text)
		w.WriteHeader(http.StatusNoContent)
		return
	case r.Method == http.MethodPost && d.conflicts:
		w.WriteHeader(http.StatusConflict)
		return
	case r.URL.Path == "/ServiceProviderConfig" && d.config != "":
		_, _ = io.WriteString(w, d.config)
		return
	case r.URL.Path == "/Schemas" && d.schemas != "":
		_, _ = io.WriteString(w, d.schemas)
		return
	case r.URL.Path != "/Users":
		w.WriteHeader(http.StatusNotFound)
		return
	}
	q := r.URL.Query()
	count, _ := strconv.Atoi(q.Get("count"))
	d.sizes = append(d.sizes, q.Get("count"))
	d.filters = append(d.filters, q.Get("filter"))
	start, _ := strconv.Atoi(q.Get("startIndex"))
	start = max(start-1, 0)
	if q.Get("cursor") != "" {
		start, _ = strconv.Atoi(q.Get("cursor"))
		if start == d.expireAt {
			d.expireAt = -1
			w.WriteHeader(http.StatusBadRequest)
			_, _ = io.WriteString(w, `{"status":"400","scimType":"expiredCursor","detail":"too late"}`)
			return
		}
	}
	answer := map[string]any{"schemas": []string{scim.ListMessage}}
	if !d.noTotal {
		answer["totalResults"] = d.users
	}
	all := []map[string]any{}
	for i := start; i < d.users && len(all) < count; i++ {
		if d.obeys && q.Get("filter") != "" && q.Get("filter") != scim.Equal("externalId", fmt.Sprint("e", i)) {
			continue
		}
		all = append(all, map[string]any{
			"id": fmt.Sprint("u", i), "externalId": fmt.Sprint("e", i), "userName": fmt.Sprint("User", i),
			"active": true,
		})
	}
	if q.Has("cursor") && start+count < d.users {
		answer["nextCursor"] = strconv.Itoa(start + count)
		if d.circle {
			answer["nextCursor"] = "3"
		}
	}
	if d.obeys && q.Get("filter") != "" {
		answer["totalResults"] = len(all)
	}
	answer["Resources"] = all
	_ = json.NewEncoder(w).Encode(answer)
}

func offering(t *testing.T, d *directory) *scim.Client {
	d.asked = map[string]int{}
	if d.expireAt == 0 {
		d.expireAt = -1
	}
	server := httptest.NewServer(d)
	t.Cleanup(server.Close)
	return scim.NewClient(server.URL, "t", 0, call.Options{Retries: -1})
}

// Lists are read with cursors where those are offered (RFC 9865), as large as the service gives them.
func TestListsByCursor(t *testing.T) {
	const cursor = `{"pagination":{"cursor":true,"index":%t,"maxPageSize":3},"filter":{"supported":true}}`
	for _, c := range []struct {
		what string
		d    directory
		want int
		err  string
	}{
		{"both", directory{config: fmt.Sprintf(cursor, true), users: 10}, 10, ""},
		{"without a total", directory{config: fmt.Sprintf(cursor, false), users: 7, noTotal: true}, 7, ""},
		{"none at all", directory{config: fmt.Sprintf(cursor, false), noTotal: true}, 0, ""},
		{"a cursor that ended", directory{config: fmt.Sprintf(cursor, false), users: 10, expireAt: 6}, 10, ""},
		{"cursors in a circle", directory{config: fmt.Sprintf(cursor, false), users: 10, circle: true}, 0, "same cursor"},
	} {
		t.Run(c.what, func(t *testing.T) {
			client := offering(t, &c.d)
			users, err := client.Users(t.Context(), "")
			if c.err != "" {
				require.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			require.Len(t, users, c.want)
			for i, u := range users {
				assert.Equal(t, fmt.Sprint("u", i), u.ID)
			}
			assert.Equal(t, "3", c.d.sizes[0])
			n, err := client.CountUsers(t.Context())
			require.NoError(t, err)
			if c.d.noTotal {
				assert.Equal(t, scim.Unknown, n)
			} else {
				assert.Equal(t, c.want, n)
			}
			assert.Equal(t, 1, c.d.asked["/ServiceProviderConfig"], "once")
		})
	}
}

// What the service says about filters and limits is obeyed, and what it gives is looked at: one that
// passes over a filter does not make somebody else's account ours.
func TestFiltersAndLimitsAreObeyed(t *testing.T) {
	for _, c := range []struct {
		what   string
		d      directory
		filter string // that is sent
		size   string
	}{
		{
			"filters",
			directory{config: `{"filter":{"supported":true,"maxResults":4}}`, users: 9, obeys: true},
			`externalId eq "e5"`, "4",
		},
		{"knows none", directory{config: `{"filter":{"supported":false}}`, users: 9}, "", "200"},
		{"passes over them", directory{config: `{"filter":{"supported":true}}`, users: 9}, `externalId eq "e5"`, "200"},
		{"says nothing", directory{users: 9, obeys: true}, `externalId eq "e5"`, "200"},
	} {
		t.Run(c.what, func(t *testing.T) {
			client := offering(t, &c.d)
			users, err := client.Users(t.Context(), scim.Equal("externalId", "e5"))
			require.NoError(t, err)
			require.Len(t, users, 1)
			assert.Equal(t, "u5", users[0].ID)
			assert.Equal(t, c.filter, c.d.filters[0])
			assert.Equal(t, c.size, c.d.sizes[0])
		})
	}
	d := directory{users: 1, conflicts: true} // its one account is somebody else's
	_, err := offering(t, &d).CreateUser(t.Context(), scim.User{UserName: "new", ExternalID: "new"})
	require.Error(t, err, "no account is taken for ours that does not carry our key")
}

// Only what the schemas let be changed is changed (RFC 7643 section 7).
func TestSchemasAreObeyed(t *testing.T) {
	const schemas = `{"totalResults":1,"Resources":[{"id":"` + scim.UserSchema + `","attributes":[
		{"name":"emails","mutability":"readOnly"},
		{"name":"name","mutability":"readWrite","subAttributes":[{"name":"familyName","mutability":"immutable"}]}]}]}`
	d := directory{schemas: schemas}
	client := offering(t, &d)
	ada := scim.Name{GivenName: "Ada", FamilyName: "Alder"}
	require.NoError(t, client.UpdateUser(t.Context(), "u1", "", ada, "a@x.example"))
	assert.Contains(t, d.patched, "name.givenName")
	assert.NotContains(t, d.patched, "familyName")
	assert.NotContains(t, d.patched, "emails")
	require.NoError(t, client.UpdateUser(t.Context(), "u1", "", scim.Name{GivenName: "Ada"}, "a@x.example"))
	assert.Equal(t, 1, d.asked["/Schemas"])

	d = directory{schemas: strings.Replace(schemas, "readWrite", "readOnly", 1)}
	err := offering(t, &d).UpdateUser(t.Context(), "u1", "", scim.Name{GivenName: "Ada"}, "a@x.example")
	require.ErrorContains(t, err, "let neither name nor address be changed")
	assert.Empty(t, d.patched)

	d = directory{} // it does not say
	require.NoError(t, offering(t, &d).UpdateUser(t.Context(), "u1", "", scim.Name{}, "a@x.example"))
	assert.Contains(t, d.patched, `emails[type eq \"work\"].value`)
}
