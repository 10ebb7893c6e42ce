package web_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
)

// Whoever edits what somebody else has changed since overwrites nothing, whatever it is,
// and gets it as it is now.
func TestEveryEditKeepsToWhatItWasMadeFrom(t *testing.T) {
	x := open(t, nil)
	x.Read(x.Register(), false)
	service := x.Workspace()
	x.Labels()
	labels, err := connectionstore.Interfaces(t.Context(), x.Store)
	require.NoError(t, err)
	p, err := x.World.Pairings.Pair(t.Context(), "test",
		pairings.Wish{SectionID: x.Section("PROP-A").ID, InterfaceID: service.ID})
	require.NoError(t, err)
	r := x.Rule(rule.Draft{
		Name: "Note", Trigger: "section.joined",
		Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "Look"}},
	})
	course := x.Section("PROP-A").CourseID
	require.NoError(t, x.Outlines.SetOutline(t.Context(), "test", course,
		learning.Outline{Modules: []learning.Module{{
			ID: "m", Title: "M",
			Activities: []learning.Activity{{ID: "https://a.example/1", Title: "One", Kind: learning.Lesson}},
		}}}))
	api := ""
	for _, c := range labels {
		if c.Name == "Labels" {
			api = c.ID
		}
	}
	for _, c := range []struct {
		read, method, write string // write is the address below read; the same when empty
		mine, theirs        string
		field               string // in which they differ, when it can be named
	}{
		{
			"/templates", "PUT", "",
			`[{"name":"Mine","target":"{section}","policy":{"roles":["student"],"leavers":"keep","schedule":{"kind":"by-hand"},"hold":false,"notify":false,"ownTarget":false,"removalNumber":5,"removalShare":0.5}}]`, `[{"name":"Theirs","target":"{section}","policy":{"roles":["student"],"leavers":"keep","schedule":{"kind":"by-hand"},"hold":false,"notify":false,"ownTarget":false,"removalNumber":5,"removalShare":0.5}}]`, "",
		},
		{"/maintenance", "PUT", "", `{"on":true,"note":"mine"}`, `{"on":true,"note":"theirs"}`, "note"},
		{
			"/full-comparison", "PUT", "", `{"schedule":{"kind":"daily","at":"04:00"}}`,
			`{"schedule":{"kind":"daily","at":"05:00"}}`, "schedule.at",
		},
		{"/history", "PUT", "", `{"months":12,"gone":0}`, `{"months":24,"gone":0}`, "months"},
		{"/views", "PUT", "", `[{"name":"mine","query":{}}]`, `[{"name":"theirs","query":{}}]`, ""},
		{"/sections/hidden", "PUT", "", `[{"name":"Mine","title":"A*"}]`, `[{"name":"Theirs","title":"B*"}]`, ""},
		{"/learning-settings", "PUT", "", `{"across":true}`, `{"across":false}`, "across"},
		{"/verbs", "PUT", "", `{"own":[]}`, `{"own":[{"verb":"https://verbs.example/grew","says":"completed"}]}`, ""},
		{
			"/test-recipient", "PUT", "", `{"address":"mine@fernmoor.example"}`,
			`{"address":"theirs@fernmoor.example"}`,
			"address",
		},
		{
			"/courses/" + course + "/outline", "PUT", "",
			`{"modules":[{"id":"n","title":"Mine","activities":[{"id":"https://a.example/1","title":"One","kind":"lesson"}]}]}`, `{"modules":[{"id":"m","title":"Theirs","activities":[{"id":"https://a.example/1","title":"One","kind":"lesson"}]}]}`, "modules",
		},
		{
			"/interfaces/" + api + "/operations/add-label", "PUT", "",
			`{"method":"PUT","path":"/x","name":"add-label","title":"Mine","fields":[]}`,
			`{"method":"POST","path":"/y","name":"add-label","title":"Theirs","fields":[]}`, "method",
		},
		{"/interfaces/" + service.ID, "PATCH", "", `{"label":"Mine"}`, `{"label":"Theirs"}`, "label"},
		{"/connections/" + service.ConnectionID, "PATCH", "", `{"owner":"Mine"}`, `{"owner":"Theirs"}`, "owner"},
		{
			"/interfaces/" + service.ID + "/matching", "PUT", "",
			`{"keys":["identifier"],"domains":[],"exclude":[]}`,
			`{"keys":["email"],"domains":[],"exclude":[]}`, "keys",
		},
		{"/pairings/" + p.ID, "PATCH", "", `{"paused":true}`, `{"paused":true}`, ""},
		{"/pairings/" + p.ID, "POST", "/hold", ``, ``, ""},
		{"/pairings/" + p.ID, "DELETE", "", ``, ``, ""},
		{"/rules/" + r.ID, "POST", "/switch", `{"on":false}`, `{"on":false}`, "on"},
		{"/rules/" + r.ID, "DELETE", "", ``, ``, ""},
	} {
		t.Run(c.method+" "+c.read+c.write, func(t *testing.T) {
			body := append(x.bearer(), "Content-Type", "application/json")
			resp, text := x.ask("GET", "/api/v1"+c.read, "", x.bearer()...)
			require.Equal(t, 200, resp.StatusCode, text)
			seen := resp.Header.Get("ETag")
			require.NotEmpty(t, seen, "there is a version to edit from")
			if c.method == "DELETE" || c.write == "/hold" {
				// Somebody else changes the record itself.
				if strings.HasPrefix(c.read, "/pairings") {
					resp, text = x.ask("PATCH", "/api/v1"+c.read, `{"paused":false}`, body...)
				} else {
					resp, text = x.ask("POST", "/api/v1"+c.read+"/switch", `{"on":true,"untried":true}`, body...)
				}
			} else {
				resp, text = x.ask(c.method, "/api/v1"+c.read+c.write, c.theirs, body...)
			}
			require.Less(t, resp.StatusCode, 300, text)
			_, before := x.ask("GET", "/api/v1"+c.read, "", x.bearer()...)
			resp, text = x.ask(c.method, "/api/v1"+c.read+c.write, c.mine, append(body, "If-Match", seen)...)
			require.Equal(t, http.StatusPreconditionFailed, resp.StatusCode, text)
			var problem struct {
				Detail  string
				Current json.RawMessage
				Errors  []struct{ Location string }
			}
			require.NoError(t, json.Unmarshal([]byte(text), &problem))
			assert.JSONEq(t, before, string(problem.Current), "the answer says what it is now")
			if c.field != "" && c.method != "POST" {
				require.NotEmpty(t, problem.Errors)
				assert.Equal(t, "body."+c.field, problem.Errors[0].Location)
			}
			_, after := x.ask("GET", "/api/v1"+c.read, "", x.bearer()...)
			assert.Equal(t, before, after, "nothing was overwritten")
			now := resp.Header.Get("ETag")
			require.NotEmpty(t, now)
			assert.NotEqual(t, seen, now)
			if c.method == "PUT" || c.method == "PATCH" {
				resp, text = x.ask(c.method, "/api/v1"+c.read+c.write, c.mine, append(body, "If-Match", now)...)
				require.Less(t, resp.StatusCode, 300, text)
				next := resp.Header.Get("ETag")
				resp, text = x.ask(c.method, "/api/v1"+c.read+c.write, c.theirs, append(body, "If-Match", next)...)
				assert.Less(t, resp.StatusCode, 300, "the answer says from which state to go on: %s", text)
			}
		})
	}
	// What has no ETag cannot keep to one, and says so instead of passing it over.
	person := x.Person("stu-001").ID
	resp, text := x.ask("DELETE", "/api/v1/people/"+person+"/accounts/"+service.ID, "",
		append(x.bearer(), "If-Match", `"1"`)...)
	assert.Equal(t, http.StatusPreconditionFailed, resp.StatusCode, text)
	resp, _ = x.ask("PUT", "/api/v1/courses/"+course+"/outline", `{"modules":[]}`,
		append(x.bearer(), "Content-Type", "application/json", "If-None-Match", "*")...)
	assert.Equal(t, http.StatusPreconditionFailed, resp.StatusCode, "one that is there already is not made anew")
}

// Of twenty who edit from the same version side by side one is heard.
func TestOneOfManyEditorsIsHeard(t *testing.T) {
	x := open(t, nil)
	resp, _ := x.ask("GET", "/api/v1/test-recipient", "", x.bearer()...)
	seen := resp.Header.Get("ETag")
	var heard, refused atomic.Int32
	var group sync.WaitGroup
	for n := range 20 {
		group.Go(func() {
			resp, _ := x.ask("PUT", "/api/v1/test-recipient", fmt.Sprintf(`{"address":"n%d@fernmoor.example"}`, n),
				append(x.bearer(), "Content-Type", "application/json", "If-Match", seen)...)
			switch resp.StatusCode {
			case http.StatusOK:
				heard.Add(1)
			case http.StatusPreconditionFailed:
				refused.Add(1)
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 1, heard.Load())
	assert.EqualValues(t, 19, refused.Load())
}
