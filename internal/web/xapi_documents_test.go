package web_test

import (
	"crypto/sha1"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
)

const anAgent = `{"mbox":"mailto:ada@fernmoor.example"}`

func query(pairs ...string) string {
	v := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		v.Set(pairs[i], pairs[i+1])
	}
	return "?" + v.Encode()
}

// State is kept as it came, merged where it is JSON, listed, and dropped (xAPI 1.0.3, Communication 2.3).
func TestStateOfAnActivity(t *testing.T) {
	x := open(t, nil)
	header := x.xapiPlatform("")[:4]
	const at = "/xapi/activities/state"
	who := []string{"activityId", "https://platform.example/quiz", "agent", anAgent}
	where := func(more ...string) string { return at + query(append(append([]string{}, who...), more...)...) }
	ask := func(method, path, body string, more ...string) (int, string, http.Header) {
		resp, text := x.ask(method, path, body, append(append([]string{}, header...), more...)...)
		return resp.StatusCode, text, resp.Header
	}
	status, text, _ := ask("GET", where(), "")
	assert.Equal(t, []any{200, "[]"}, []any{status, strings.TrimSpace(text)}, "nothing yet is an empty list")
	status, _, _ = ask("GET", where("stateId", "bookmark"), "")
	assert.Equal(t, 404, status)
	status, text, _ = ask("PUT", where("stateId", "bookmark"), "page 7", "Content-Type", "text/plain")
	require.Equal(t, 204, status, text)
	status, text, got := ask("GET", where("stateId", "bookmark"), "")
	tag := fmt.Sprintf(`"%x"`, sha1.Sum([]byte("page 7")))
	assert.Equal(t, []any{200, "page 7", "text/plain", tag},
		[]any{status, text, got.Get("Content-Type"), got.Get("ETag")})
	assert.Equal(t, "attachment", got.Get("Content-Disposition"))
	status, text, _ = ask("GET", where("stateId", "bookmark"), "", "If-None-Match", got.Get("ETag"))
	assert.Equal(t, []any{304, ""}, []any{status, text})
	status, _, _ = ask("HEAD", where("stateId", "bookmark"), "")
	assert.Equal(t, 200, status)
	status, text, _ = ask("POST", where("stateId", "bookmark"), `{"a":1}`, "Content-Type", "application/json")
	assert.Equal(t, 400, status, "a text and JSON cannot be merged: %s", text)

	for _, body := range []string{`{"a":1,"b":{"c":2}}`, `{"b":{"d":3},"e":9007199254740993}`} {
		status, text, _ = ask("POST", where("stateId", "answers"), body, "Content-Type", "application/json; charset=utf-8")
		require.Equal(t, 204, status, text)
	}
	_, text, _ = ask("GET", where("stateId", "answers"), "")
	assert.JSONEq(t, `{"a":1,"b":{"d":3},"e":9007199254740993}`, text)
	assert.Contains(t, text, "9007199254740993", "numbers stay as they are")
	status, _, _ = ask("POST", where("stateId", "answers"), `[1]`, "Content-Type", "application/json")
	assert.Equal(t, 400, status)

	const registration = "EC531277-B57B-4C15-8D91-D292C5B2B8F7"
	status, _, _ = ask("PUT", where("stateId", "bookmark", "registration", registration), "page 9")
	require.Equal(t, 204, status)
	_, text, _ = ask("GET", where("stateId", "bookmark"), "")
	assert.Equal(t, "page 7", text, "that is another one")
	_, text, _ = ask("GET", where("registration", strings.ToLower(registration)), "")
	assert.JSONEq(t, `["bookmark"]`, text)
	_, text, _ = ask("GET", where(), "")
	assert.JSONEq(t, `["answers","bookmark"]`, text)
	_, text, _ = ask("GET", where("since", "2199-01-01T00:00:00Z"), "")
	assert.JSONEq(t, `[]`, text)
	other := at + query("activityId", "https://platform.example/quiz", "agent", `{"mbox":"mailto:bram@fernmoor.example"}`)
	_, text, _ = ask("GET", other, "")
	assert.JSONEq(t, `[]`, text, "nobody sees another one's")
	stranger := x.xapiNamed("Other platform", "")
	resp, text := x.ask("GET", where(), "", stranger[:4]...)
	assert.Equal(t, []any{200, "[]"}, []any{resp.StatusCode, strings.TrimSpace(text)}, "each platform has its own")

	status, _, _ = ask("DELETE", where("stateId", "bookmark"), "")
	assert.Equal(t, 204, status)
	status, _, _ = ask("DELETE", where("stateId", "bookmark"), "")
	assert.Equal(t, 204, status, "once more is the same")
	status, _, _ = ask("DELETE", where(), "")
	assert.Equal(t, 204, status)
	_, text, _ = ask("GET", where(), "")
	assert.JSONEq(t, `[]`, text)
}

// Whoever replaces a profile says which one they have seen (Communication 3.1).
func TestProfilesAreNotOverwrittenUnseen(t *testing.T) {
	x := open(t, nil)
	header := x.xapiPlatform("")[:4]
	for _, at := range []string{
		"/xapi/activities/profile" + query("activityId", "https://platform.example/quiz", "profileId", "p"),
		"/xapi/agents/profile" + query("agent", anAgent, "profileId", "p"),
	} {
		put := func(body string, more ...string) int {
			resp, _ := x.ask("PUT", at, body, append(append([]string{}, header...), more...)...)
			return resp.StatusCode
		}
		assert.Equal(t, 412, put("one", "If-Match", `"x"`), "there is none")
		assert.Equal(t, 204, put("one", "If-None-Match", "*"))
		assert.Equal(t, 412, put("two", "If-None-Match", "*"))
		assert.Equal(t, 409, put("two"))
		resp, _ := x.ask("GET", at, "", header...)
		tag := resp.Header.Get("ETag")
		assert.Equal(t, 412, put("two", "If-Match", `"another"`))
		assert.Equal(t, 204, put("two", "If-Match", `"another", `+tag))
		assert.Equal(t, 412, put("three", "If-Match", tag), "somebody was faster")
		assert.Equal(t, 204, put("three", "If-Match", "*"))

		var all errgroup.Group // two who edit at once: one of them is told
		resp, _ = x.ask("GET", at, "", header...)
		tag = resp.Header.Get("ETag")
		done := make(chan int, 6)
		for n := range 6 {
			all.Go(func() error { done <- put(fmt.Sprint("four ", n), "If-Match", tag); return nil })
		}
		require.NoError(t, all.Wait())
		close(done)
		count := map[int]int{}
		for status := range done {
			count[status]++
		}
		assert.Equal(t, map[int]int{204: 1, 412: 5}, count)
		resp, _ = x.ask("DELETE", at, "", append(append([]string{}, header...), "If-Match", tag)...)
		assert.Equal(t, 412, resp.StatusCode)
		resp, _ = x.ask("DELETE", at, "", header...)
		assert.Equal(t, 204, resp.StatusCode)
		resp, _ = x.ask("GET", at, "", header...)
		assert.Equal(t, 404, resp.StatusCode)
	}
}

func TestDocumentsThatCannotBe(t *testing.T) {
	x := open(t, nil)
	header := x.xapiPlatform("")[:4]
	const state, quiz = "/xapi/activities/state", "https://platform.example/quiz"
	endless := strings.Repeat("x", 501)
	for name, c := range map[string]struct {
		method, path string
		status       int
	}{
		"no agent":          {"GET", state + query("activityId", quiz), 400},
		"no activity":       {"GET", state + query("agent", anAgent), 400},
		"no id":             {"PUT", state + query("activityId", quiz, "agent", anAgent), 400},
		"no id to drop":     {"DELETE", "/xapi/agents/profile" + query("agent", anAgent), 400},
		"no IRI":            {"GET", state + query("activityId", "quiz", "agent", anAgent), 400},
		"no agent at all":   {"GET", state + query("activityId", quiz, "agent", "{}"), 400},
		"two identifiers":   {"GET", state + query("activityId", quiz, "agent", `{"mbox":"mailto:a@b","openid":"https://a"}`), 400},
		"no registration":   {"GET", state + query("activityId", quiz, "agent", anAgent, "registration", "7"), 400},
		"an unknown filter": {"GET", state + query("activityId", quiz, "agent", anAgent, "colour", "red"), 400},
		"since and id":      {"GET", state + query("activityId", quiz, "agent", anAgent, "stateId", "s", "since", "2026-01-01T00:00:00Z"), 400},
		"an endless id":     {"PUT", state + query("activityId", quiz, "agent", anAgent, "stateId", endless), 400},
		"NUL":               {"PUT", state + query("activityId", quiz, "agent", anAgent, "stateId", "a\x00b"), 400},
		"another's filter":  {"GET", "/xapi/agents/profile" + query("agent", anAgent, "activityId", quiz), 400},
		"activity missing":  {"GET", "/xapi/activities", 400},
		"agent missing":     {"GET", "/xapi/agents", 400},
		"too long":          {"PUT", state + query("activityId", quiz, "agent", anAgent, "stateId", "long"), 413},
	} {
		body := "x"
		if c.status == 413 {
			body = strings.Repeat("x", 9<<20)
		}
		resp, text := x.ask(c.method, c.path, body, header...)
		assert.Equal(t, c.status, resp.StatusCode, "%s: %s", name, text)
		assert.Contains(t, text, `"detail"`, name)
	}
	resp, _ := x.ask("GET", state+query("activityId", quiz, "agent", anAgent), "", "X-Experience-API-Version", "1.0.3")
	assert.Equal(t, 401, resp.StatusCode)
}

// What is known of activities and agents is what was reported through the same interface.
func TestWhatIsKnownOfActivitiesAndAgents(t *testing.T) {
	x := open(t, nil)
	header := x.xapiPlatform("")
	resp, text := x.ask("POST", "/xapi/statements", `{"actor":{"mbox":"mailto:ada@fernmoor.example","name":"Ada"},
		"verb":{"id":"https://v.example/saw"},"object":{"id":"https://platform.example/quiz","definition":{"name":{"en":"Quiz"}}}}`, header...)
	require.Equal(t, 200, resp.StatusCode, text)
	_, text = x.ask("GET", "/xapi/activities"+query("activityId", "https://platform.example/quiz"), "", header...)
	assert.JSONEq(t, `{"objectType":"Activity","id":"https://platform.example/quiz","definition":{"name":{"en":"Quiz"}}}`, text)
	_, text = x.ask("GET", "/xapi/activities"+query("activityId", "https://platform.example/other"), "", header...)
	assert.JSONEq(t, `{"objectType":"Activity","id":"https://platform.example/other"}`, text)
	_, text = x.ask("GET", "/xapi/agents"+query("agent", anAgent), "", header...)
	assert.JSONEq(t, `{"objectType":"Person","name":["Ada"],"mbox":["mailto:ada@fernmoor.example"]}`, text)
}

// Statements of xAPI 2.0 may name more who have to do with them; those of 1.0.3 may not.
func TestStatementsOfTheSecondVersion(t *testing.T) {
	x := open(t, nil)
	header := x.xapiPlatform("")
	second := append([]string{}, header...)
	second[3] = "2.0.0"
	statement := func(context string) string {
		return `{"actor":{"mbox":"mailto:ada@fernmoor.example"},"verb":{"id":"https://v.example/saw"},
			"object":{"id":"https://platform.example/quiz"},"context":{` + context + `}}`
	}
	const agents = `"contextAgents":[{"objectType":"contextAgent","agent":{"mbox":"mailto:bram@fernmoor.example"},"relevantTypes":["https://t.example/helper"]}]`
	const groups = `"contextGroups":[{"objectType":"contextGroup","group":{"objectType":"Group","mbox":"mailto:all@fernmoor.example"}}]`
	resp, text := x.ask("POST", "/xapi/statements", statement(agents), header...)
	assert.Equal(t, 400, resp.StatusCode)
	assert.Contains(t, text, "only xAPI 2.0 knows")
	resp, text = x.ask("POST", "/xapi/statements", statement(agents+","+groups), second...)
	require.Equal(t, 200, resp.StatusCode, text)
	assert.Equal(t, "2.0.0", resp.Header.Get("X-Experience-API-Version"))
	_, text = x.ask("GET", "/xapi/statements"+query("agent", `{"mbox":"mailto:bram@fernmoor.example"}`, "related_agents", "true"), "", second...)
	assert.Contains(t, text, `"contextAgents"`)
	assert.Contains(t, text, `"version":"2.0.0"`)
	for name, context := range map[string]string{
		"no type":         strings.Replace(agents, `"objectType":"contextAgent",`, "", 1),
		"nobody":          `"contextAgents":[{"objectType":"contextAgent"}]`,
		"a group":         strings.Replace(agents, `"agent":{`, `"agent":{"objectType":"Group",`, 1),
		"no IRI":          strings.Replace(agents, "https://t.example/helper", "helper", 1),
		"an agent":        strings.Replace(groups, `"objectType":"Group",`, "", 1),
		"without members": strings.Replace(groups, `,"mbox":"mailto:all@fernmoor.example"`, "", 1),
		"more than known": strings.Replace(agents, `"objectType"`, `"colour":1,"objectType"`, 1),
		"no types":        strings.Replace(agents, `["https://t.example/helper"]`, "[]", 1),
	} {
		resp, text := x.ask("POST", "/xapi/statements", statement(context), second...)
		assert.Equal(t, 400, resp.StatusCode, "%s: %s", name, text)
	}
	third := append([]string{}, header...)
	for _, version := range []string{"3.0.0", "1.1.0", "2", "10.0"} {
		third[3] = version
		resp, _ = x.ask("GET", "/xapi/statements", "", third...)
		assert.Equal(t, 400, resp.StatusCode, version)
	}
	const at = "/xapi/activities/state"
	state := at + query("activityId", "https://platform.example/quiz", "agent", anAgent, "stateId", "s")
	resp, _ = x.ask("PUT", state, "one", second...)
	assert.Equal(t, 204, resp.StatusCode)
	resp, _ = x.ask("PUT", state, "two", second...)
	assert.Equal(t, 409, resp.StatusCode, "2.0 asks for it of states too")
}
