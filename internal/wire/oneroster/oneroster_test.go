package oneroster_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

func TestNextLink(t *testing.T) {
	for want, headers := range map[string][]string{
		"":             {`<https://h.example/x>; rel="prev"`, "nonsense", ""},
		"https://h/?a": {`<https://h/?z,;>; title="a, \"b"; rel=first, <https://h/?a>; rel="last NEXT"`},
		"/rel":         {`<https://h/x>; rel="prev"`, `</rel>;REL=next;rel=prev`},
	} {
		assert.Equal(t, want, oneroster.NextLink(headers))
	}
}

func TestUserReadsStandardAndLooseForms(t *testing.T) {
	var u oneroster.User
	require.NoError(t, json.Unmarshal([]byte(`{"sourcedId":"u1","enabledUser":true,"unknown":1}`), &u))
	assert.True(t, bool(u.EnabledUser))
	require.NoError(t, json.Unmarshal([]byte(`{"sourcedId":"u1","enabledUser":"false"}`), &u))
	assert.False(t, bool(u.EnabledUser))
	assert.Error(t, json.Unmarshal([]byte(`{"enabledUser":"1"}`), &u))
	var e oneroster.Enrollment
	require.NoError(t, json.Unmarshal([]byte(`{"beginDate":"2026-09-01T00:00:00Z","endDate":""}`), &e))
	assert.Equal(t, "2026-09-01", e.BeginDate.Format(time.DateOnly))
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"beginDate":"01.09.2026"}`), &e), "not a date like")
	text, err := json.Marshal(oneroster.Enrollment{
		Base: oneroster.Base{SourcedID: "e1", Status: "active"},
		Role: "student", BeginDate: oneroster.NewDate(time.Date(2026, 9, 1, 5, 0, 0, 0, time.UTC)),
	})
	require.NoError(t, err)
	assert.JSONEq(t, `{"sourcedId":"e1","status":"active","dateLastModified":"","user":{"href":"","sourcedId":"","type":""},"class":{"href":"","sourcedId":"","type":""},"school":{"href":"","sourcedId":"","type":""},"role":"student","primary":"false","beginDate":"2026-09-01"}`, string(text))
}

// serve answers the token endpoint and one users page per answer given.
func serve(t *testing.T, pages ...func(w http.ResponseWriter, r *http.Request)) *oneroster.Client {
	served := 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/token" {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"access_token":"t%d","token_type":"Bearer","expires_in":3600,"scope":"s"}`, served)
			return
		}
		if !assert.Less(t, served, len(pages), "one page too many was asked for") {
			return
		}
		served++
		pages[served-1](w, r)
	}))
	t.Cleanup(s.Close)
	return oneroster.NewClient(oneroster.V12, s.URL, s.URL+"/token", "id", "secret",
		call.Options{Retries: 2, WaitMin: time.Millisecond, WaitMax: 2 * time.Millisecond})
}

func page(body, link string) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) {
		if link != "" {
			w.Header().Set("Link", link)
		}
		fmt.Fprint(w, body)
	}
}

func status(code int) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(code)
		_ = json.NewEncoder(w).Encode(oneroster.NewStatusInfo("x", "in its own words"))
	}
}

func read(c *oneroster.Client) (ids []string, bad int, err error) {
	err = c.Pages(context.Background(), oneroster.FileUsers, c.First(oneroster.FileUsers, time.Time{}), 0,
		func(p oneroster.Page) error {
			for _, raw := range p.Items {
				r, err := oneroster.Parse(oneroster.FileUsers, raw)
				if err != nil {
					bad++
					continue
				}
				ids = append(ids, r.Get("sourcedId"))
			}
			return nil
		})
	return ids, bad, err
}

// Both bindings give the same values under the same names.
func TestRecordsOfBothBindingsAgree(t *testing.T) {
	user, err := oneroster.Parse(oneroster.FileUsers,
		[]byte(`{"sourcedId":"u1","status":"active","enabledUser":"true","givenName":"Ada","familyName":"Alder","username":"ada",
		"userIds":[{"type":"card","identifier":"77"}],"email":"ada@x.example","roles":[{"roleType":"secondary","role":"teacher"},{"roleType":"primary","role":"student"}]}`))
	require.NoError(t, err)
	for column, want := range map[string]string{
		"sourcedId": "u1", "enabledUser": "true", "familyName": "Alder",
		"userIds": "{card:77}", oneroster.RoleTypeColumn: "primary", "shoeSize": "",
	} {
		assert.Equal(t, want, user.Get(column), column)
	}
	assert.Equal(t, []oneroster.UserID{{Type: "card", Identifier: "77"}}, oneroster.UserIDs(user.Get("userIds")))
	class, err := oneroster.Parse(oneroster.FileClasses,
		[]byte(`{"sourcedId":"c","terms":[{"sourcedId":"t1"},{"sourcedId":"t2"}],"course":{"sourcedId":"k"}}`))
	require.NoError(t, err)
	assert.Equal(t, "t1,t2", class.Get("termSourcedIds"))
	assert.NotEqual(t, user.Sum(), class.Sum())
}

func TestPagesAreFollowedAndGoodRecordsKept(t *testing.T) {
	c := serve(t,
		page(`{"users":[{"sourcedId":"1"},{"sourcedId":2},{"sourcedId":"3"}]}`,
			`</ims/oneroster/rostering/v1p2/users?offset=3>; rel="next"`),
		status(503), // tried again
		status(401), // token withdrawn: a new one is fetched
		func(w http.ResponseWriter, _ *http.Request) { // breaks off, tried again
			w.Header().Set("Content-Length", "100")
			fmt.Fprint(w, `{"users"`)
		},
		page(`{"users":[{"sourcedId":"4"}]}`, ""),
	)
	ids, bad, err := read(c)
	require.NoError(t, err)
	assert.Equal(t, []string{"1", "3", "4"}, ids)
	assert.Equal(t, 1, bad)
}

func TestLyingServicesAreRefused(t *testing.T) {
	for want, pages := range map[string][]func(http.ResponseWriter, *http.Request){
		"not JSON":          {page(`<html>`, "")},
		`no member "users"`: {page(`{"people":[]}`, "")},
		"not a list":        {page(`{"users":{}}`, "")},
		"leads back":        {page(`{"users":[]}`, `<?limit=500&offset=0>; rel="next"`)},
		"another host":      {page(`{"users":[]}`, `<https://evil.example/>; rel="next"`)},
		"announced 9 records": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("X-Total-Count", "9")
			fmt.Fprint(w, `{"users":[]}`)
		}},
		"in its own words":      {status(403)},
		"wrong-credential (401": {status(401), status(401)},
	} {
		_, _, err := read(serve(t, pages...))
		_, is := call.As(err)
		assert.True(t, is, "%v is a problem of a known kind", err)
		assert.ErrorContains(t, err, want)
	}
}

// paged serves so many users, at most fifty to a page, with as little about the pages as said.
func paged(t *testing.T, n int, decorate func(w http.ResponseWriter, r *http.Request, offset int)) *oneroster.Client {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /token", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(`{"access_token":"t","token_type":"Bearer","expires_in":3600}`))
	})
	mux.HandleFunc("GET /ims/oneroster/rostering/v1p2/users", func(w http.ResponseWriter, r *http.Request) {
		offset, _ := strconv.Atoi(r.URL.Query().Get("offset"))
		decorate(w, r, offset)
		var items []string
		for i := offset; i < min(offset+50, n); i++ {
			items = append(items, fmt.Sprintf(`{"sourcedId":"%d"}`, i))
		}
		fmt.Fprintf(w, `{"users":[%s]}`, strings.Join(items, ","))
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	return oneroster.NewClient(oneroster.V12, s.URL, s.URL+"/token", "id", "secret", call.Options{Retries: -1})
}

// A service that says neither how many there are nor where the next page is is read to its
// end, and one whose pages go in circles is noticed.
func TestPagesAreReadToTheirEnd(t *testing.T) {
	read := func(c *oneroster.Client) (n int, err error) {
		err = c.Pages(t.Context(), oneroster.FileUsers, c.First(oneroster.FileUsers, time.Time{}), 0,
			func(p oneroster.Page) error {
				n += len(p.Items)
				return nil
			})
		return n, err
	}
	silent := func(http.ResponseWriter, *http.Request, int) {}
	for _, many := range []int{0, 1, 49, 50, 51, 250} {
		n, err := read(paged(t, many, silent))
		require.NoError(t, err)
		assert.Equal(t, many, n)
		n, err = read(paged(t, many, func(w http.ResponseWriter, _ *http.Request, _ int) {
			w.Header().Set("X-Total-Count", strconv.Itoa(many))
		}))
		require.NoError(t, err)
		assert.Equal(t, many, n, "with a number and no links")
	}
	for what, decorate := range map[string]func(w http.ResponseWriter, r *http.Request, offset int){
		"the same page twice": func(w http.ResponseWriter, r *http.Request, offset int) {
			w.Header().Set("Link", fmt.Sprintf(`<?offset=0&again=%d>; rel="next"`, time.Now().UnixNano()))
		},
		"empty pages in a row": func(w http.ResponseWriter, r *http.Request, offset int) {
			w.Header().Set("Link", fmt.Sprintf(`<?offset=%d>; rel="next"`, offset+50))
		},
		"announced 999 records": func(w http.ResponseWriter, _ *http.Request,
			_ int,
		) {
			w.Header().Set("X-Total-Count", "999")
		},
	} {
		_, err := read(paged(t, 120, decorate))
		p, ok := call.As(err)
		require.True(t, ok, "%s: %v", what, err)
		assert.Equal(t, call.Broken, p.Kind)
		assert.Contains(t, p.Detail, what)
	}
}

// Days come in two forms; whatever is neither is none.
func TestDaysComeInTwoForms(t *testing.T) {
	for _, s := range []string{
		"2026-09-01", "2026-09-01T00:00:00.000Z", "2026-09-01T08:30:00+02:00", "2026-09-01T00:00:00", "2026-09-01 00:00:00",
		"2026-09-01T00:00",
	} {
		day, err := oneroster.ParseDay(s)
		require.NoError(t, err, s)
		assert.Equal(t, "2026-09-01", day.Format(time.DateOnly), s)
	}
	for _, s := range []string{"", "2026-09", "2026-13-01", "2026-09-01x", "2026-09-01T", "2026-09-01T25:00:00Z", "01.09.2026", "20260901"} {
		_, err := oneroster.ParseDay(s)
		assert.Error(t, err, s)
	}
}

// A person of 1.1 has one role and organisations beside it.
func TestPeopleOfTheOlderVersion(t *testing.T) {
	r, err := oneroster.Parse(oneroster.FileUsers, []byte(`{"sourcedId":"u1","status":"active","username":"ada","enabledUser":"true",
		"givenName":"Ada","familyName":"Alder","role":"student","orgs":[{"sourcedId":"school","type":"org"}]}`))
	require.NoError(t, err)
	assert.Equal(t, []string{"primary", "school", "true"},
		[]string{r.Get(oneroster.RoleTypeColumn), r.Get(oneroster.PrimaryOrgColumn), r.Get("enabledUser")})
}
