package scim_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

func says(status int, kind, body string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", kind)
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}
}

// whatGoesWrong are services that answer wrongly, and what their failure is called.
var whatGoesWrong = []struct {
	name  string
	serve http.HandlerFunc
	kind  call.Kind
}{
	{"breaks", says(500, "text/plain", "oops"), call.Broken},
	{"shows a page", says(200, "text/html", "<html>Sign in</html>"), call.Broken},
	{"cuts its answer off", says(200, scim.ContentType, `{"totalResults": 3, "Resources": [{"id": "u1"`), call.Broken},
	{"forbids", says(403, scim.ContentType, `{"detail": "no right"}`), call.NotAllowed},
	{"does not know the token", says(401, scim.ContentType, `{}`), call.WrongCredential},
	{"throttles", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Retry-After", "3600")
		says(429, scim.ContentType, `{}`)(w, r)
	}, call.Throttled},
	{"hangs", func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body) // or the server does not see that the caller is gone
		<-r.Context().Done()
	}, call.Unreachable},
}

// sayingNothing are answers of 200 in which there is nothing of what was asked for.
var sayingNothing = []string{
	"", " ", "null", "{}", `{"message": "ok"}`, `[]`, `"u1"`, `{"totalResults": -1}`,
	`{"totalResults": "many"}`, `{"id": "somebody-else", "Resources": []}`,
}

var reads = map[string]func(context.Context, *scim.Client) error{
	"Users":   func(ctx context.Context, c *scim.Client) error { _, err := c.Users(ctx, ""); return err },
	"Groups":  func(ctx context.Context, c *scim.Client) error { _, err := c.Groups(ctx, ""); return err },
	"members": func(ctx context.Context, c *scim.Client) error { _, err := c.GroupsWithMembers(ctx); return err },
	"count":   func(ctx context.Context, c *scim.Client) error { _, err := c.CountUsers(ctx); return err },
	"User":    func(ctx context.Context, c *scim.Client) error { _, err := c.User(ctx, "u1"); return err },
	"Group":   func(ctx context.Context, c *scim.Client) error { _, err := c.Group(ctx, "g1"); return err },
	"Schemas": func(ctx context.Context, c *scim.Client) error { _, err := c.Schemas(ctx); return err },
}

var writes = map[string]func(context.Context, *scim.Client) error{
	"CreateUser": func(ctx context.Context, c *scim.Client) error {
		_, err := c.CreateUser(ctx, scim.User{ExternalID: "k1", UserName: "ada"})
		return err
	},
	"CreateUsers": func(ctx context.Context, c *scim.Client) error {
		made, err := c.CreateUsers(ctx, []scim.User{{ExternalID: "k1", UserName: "ada"}})
		if err == nil {
			return made[0].Err
		}
		return err
	},
	"CreateGroup": func(ctx context.Context, c *scim.Client) error {
		_, err := c.CreateGroup(ctx, "Orchard", "k2", nil)
		return err
	},
	"AddMembers":    func(ctx context.Context, c *scim.Client) error { return c.AddMembers(ctx, "g1", "u1", "u2") },
	"RemoveMembers": func(ctx context.Context, c *scim.Client) error { return c.RemoveMembers(ctx, "g1", "u1", "u2") },
	"UpdateUser": func(ctx context.Context, c *scim.Client) error {
		return c.UpdateUser(ctx, "u1", "", scim.Name{GivenName: "Ada"}, "ada@fernmoor.example")
	},
	"SetActive":   func(ctx context.Context, c *scim.Client) error { return c.SetActive(ctx, "u1", false) },
	"RenameGroup": func(ctx context.Context, c *scim.Client) error { return c.RenameGroup(ctx, "g1", "Meadow") },
	"DeleteUser":  func(ctx context.Context, c *scim.Client) error { return c.DeleteUser(ctx, "u1") },
	"DeleteGroup": func(ctx context.Context, c *scim.Client) error { return c.DeleteGroup(ctx, "g1") },
}

// Whatever is wrong with a service, no call of it looks like one that went well, and each failure
// has its kind. What makes something is asked for once.
func TestWhatGoesWrongIsNeverAnAnswer(t *testing.T) {
	quick := call.Options{
		Timeout: 100 * time.Millisecond, Retries: 1,
		WaitMin: time.Millisecond, WaitMax: time.Millisecond,
	}
	for _, wrong := range whatGoesWrong {
		for name, calls := range map[string]map[string]func(context.Context, *scim.Client) error{
			"reading": reads, "changing": writes,
		} {
			for what, do := range calls {
				t.Run(fmt.Sprintf("%s %s/%s", wrong.name, name, what), func(t *testing.T) {
					t.Parallel()
					var posts atomic.Int64
					server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
						if r.Method == http.MethodPost {
							posts.Add(1)
						}
						wrong.serve(w, r)
					}))
					defer server.Close()
					err := do(t.Context(), scim.NewClient(server.URL, "token", 0, quick))
					p, ok := call.As(err)
					require.True(t, ok, "%v", err)
					assert.Equal(t, wrong.kind, p.Kind, "%v", err)
					assert.LessOrEqual(t, posts.Load(), int64(1))
				})
			}
		}
	}
}

// An answer that says nothing is no empty list and nobody's account.
func TestSayingNothingIsNoEmptyList(t *testing.T) {
	for _, body := range sayingNothing {
		server := httptest.NewServer(says(200, scim.ContentType, body))
		c := scim.NewClient(server.URL, "token", 0, call.Options{Retries: -1})
		for what, do := range reads {
			p, ok := call.As(do(t.Context(), c))
			require.True(t, ok, "%s of %q is an answer", what, body)
			assert.Equal(t, call.Broken, p.Kind, "%s of %q", what, body)
		}
		server.Close()
	}
}

// pages serves total resources under ids that of gives, count at a time.
func pages(total int, of func(i int) string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		start, _ := strconv.Atoi(r.URL.Query().Get("startIndex"))
		count, _ := strconv.Atoi(r.URL.Query().Get("count"))
		list := scim.List[scim.User]{Schemas: []string{scim.ListMessage}, TotalResults: total, StartIndex: start}
		for i := start; i <= total && i < start+count; i++ {
			list.Resources = append(list.Resources, scim.User{ID: of(i), UserName: "u"})
		}
		_ = json.NewEncoder(w).Encode(list)
	}
}

// A list is read whole and each once, or not at all.
func TestListsAreWholeOrNone(t *testing.T) {
	read := func(serve http.HandlerFunc) ([]scim.User, error) {
		server := httptest.NewServer(serve)
		defer server.Close()
		return scim.NewClient(server.URL, "token", 0, call.Options{Retries: -1}).Users(t.Context(), "")
	}
	all, err := read(pages(450, func(i int) string { return fmt.Sprint("u", i) }))
	require.NoError(t, err)
	assert.Len(t, all, 450)
	none, err := read(pages(0, nil))
	require.NoError(t, err)
	assert.Empty(t, none)
	asked := 0
	// One comes in at the front after the first page.
	slipped, err := read(func(w http.ResponseWriter, r *http.Request) {
		if asked++; asked == 1 {
			pages(300, func(i int) string { return fmt.Sprint("u", i) })(w, r)
			return
		}
		pages(301, func(i int) string { return fmt.Sprint("u", i-1) })(w, r)
	})
	require.NoError(t, err)
	assert.Len(t, slipped, 301)
	assert.Equal(t, "u0", slipped[0].ID, "read anew, so that nobody is missed")
	for what, serve := range map[string]http.HandlerFunc{
		"always the first page": func(w http.ResponseWriter, r *http.Request) {
			q := r.URL.Query()
			q.Set("startIndex", "1")
			r.URL.RawQuery = q.Encode()
			pages(450, func(i int) string { return fmt.Sprint("u", i) })(w, r)
		},
		"one id for all":  pages(450, func(int) string { return "u" }),
		"no ids":          pages(3, func(int) string { return "" }),
		"without an end":  pages(2_000_000, func(i int) string { return fmt.Sprint("u", i) }),
		"fewer than said": says(200, scim.ContentType, `{"totalResults": 5, "Resources": [{"id": "u1"}]}`),
		"null for people": says(200, scim.ContentType, `{"totalResults": 2, "Resources": [null, null]}`),
		"a list of texts": says(200, scim.ContentType, `{"totalResults": 2, "Resources": ["u1", "u2"]}`),
	} {
		list, err := read(serve)
		p, ok := call.As(err)
		require.True(t, ok, "%s gives %d", what, len(list))
		assert.Equal(t, call.Broken, p.Kind, what)
		assert.Empty(t, list, what)
	}
}
