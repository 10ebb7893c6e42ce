package e2e_test

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
	"kanban/internal/wire/webhook"
)

func readFile(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(text)
}

// request calls the API raw and returns status and body.
func (w *world) request(method, path, body string, header ...string) (int, string) {
	w.t.Helper()
	req, err := http.NewRequest(method, w.service.Address+path, strings.NewReader(body))
	require.NoError(w.t, err)
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(w.t, err)
	defer resp.Body.Close()
	var text bytes.Buffer
	_, err = text.ReadFrom(resp.Body)
	require.NoError(w.t, err)
	return resp.StatusCode, text.String()
}

func (w *world) token() string {
	w.t.Helper()
	t, err := client.Post[api.Token](w.t.Context(), w.Client, "/tokens", api.NewToken{Name: "test"})
	require.NoError(w.t, err)
	return t.Token
}

// Wrong API input is a problem that names the field and the fix; nobody gets in
// without a credential; creates and edits are safe to repeat.
func TestAPI(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	bearer := []string{"Authorization", "Bearer " + w.token(), "Content-Type", "application/json"}

	t.Run("needs a credential", func(t *testing.T) {
		w.t = t
		for _, path := range []string{
			"/api/v1/sections", "/api/v1/interfaces", "/api/v1/live", "/api/v1/today",
			"/metrics",
		} {
			status, text := w.request(http.MethodGet, path, "")
			assert.Equal(t, http.StatusUnauthorized, status, path)
			assert.Contains(t, text, `"status":401`)
			status, _ = w.request(http.MethodGet, path, "", "Authorization", "Bearer kbt_made-up")
			assert.Equal(t, http.StatusUnauthorized, status, path)
		}
		for _, path := range []string{"/livez", "/readyz", "/openapi.json", "/xapi/about", "/"} {
			status, _ := w.request(http.MethodGet, path, "")
			assert.Equal(t, http.StatusOK, status, path)
		}
	})
	t.Run("metrics", func(t *testing.T) {
		w.t = t
		status, text := w.request(http.MethodGet, "/metrics", "", bearer...)
		assert.Equal(t, http.StatusOK, status)
		assert.Contains(t, text, `kanban_jobs_total{kind="read-register",result="done"}`)
		assert.Contains(t, text, "kanban_http_request_seconds")
	})
	t.Run("set-up link works once", func(t *testing.T) {
		w.t = t
		status, text := w.request(http.MethodPost, "/api/v1/setup",
			`{"secret":"`+w.service.SetupSecret+`","name":"x","email":"x@y.example","password":"long enough to do"}`,
			"Content-Type", "application/json")
		assert.Equal(t, http.StatusForbidden, status)
		assert.Contains(t, text, "used already")
	})
	t.Run("problems name field and fix", func(t *testing.T) {
		w.t = t
		for _, c := range []struct {
			method, path, body, want string
			status                   int
		}{
			{"POST", "/connections", `{"name":"x", "interfaces": [{"kind": "carrier-pigeon"}]}`, "body.interfaces[0].kind", 422},
			{
				"POST", "/connections", `{"name":"x", "interfaces": [{"kind": "scim","values":{"address":"chat.example","token":"t"}}]}`,
				"body.interfaces[0].values.address", 422,
			},
			{
				"POST", "/connections",
				`{"name":"x", "interfaces": [{"kind": "webhook","values":{"address":"http://h.example","secret":"short"}}]}`, "whsec_",
				422,
			},
			{"POST", "/connections", `{"name":"School register", "interfaces": [{"kind": "xapi"}]}`, "another one is called", 422},
			{"POST", "/connections", `{"name":`, "", 400},
			{"POST", "/connections", `{"name":"x", "interfaces": [{"kind": "xapi","colour":"red"}]}`, "colour", 422},
			{"POST", "/connections", `{"name":"x\u0000y", "interfaces": [{"kind": "xapi"}]}`, "NUL", 422},
			{"POST", "/pairings", `{"sectionId":"nope","interfaceId":"nope"}`, "kanban sections list", 422},
			{"POST", "/runs", `{"previewId":"nope"}`, "make one first", 422},
			{
				"POST", "/rules",
				`{"name":"r","trigger":"module.completed","condition":"event.x ==","actions":[{"kind":"award","badgeId":"x"}]}`, "body.condition", 422,
			},
			{"POST", "/rules", `{"name":"r","trigger":"module.completed","actions":[]}`, "at least one action", 422},
			{"POST", "/rules", `{"name":"r","trigger":"moon.full","actions":[]}`, "trigger", 422},
			{"POST", "/badges", `{"issuerId":"x","name":"b","description":"d","criteria":""}`, "body.criteria", 422},
			{"GET", "/runs/nope", "", "no such record", 404},
			{"GET", "/sections?limit=0", "", "limit", 422},
			{"GET", "/nothing", "", "openapi.json", 404},
		} {
			status, text := w.request(c.method, "/api/v1"+c.path, c.body, bearer...)
			assert.Equal(t, c.status, status, "%s %s: %s", c.path, c.body, text)
			assert.Contains(t, text, c.want)
			assert.NotContains(t, text, "SQLSTATE")
		}
	})
	t.Run("creates are idempotent", func(t *testing.T) {
		w.t = t
		body := `{"name":"Once", "interfaces": [{"kind": "xapi"}]}`
		header := append(bearer, "Idempotency-Key", "k1")
		s1, first := w.request(http.MethodPost, "/api/v1/connections", body, header...)
		s2, second := w.request(http.MethodPost, "/api/v1/connections", body, header...)
		assert.Equal(t, []int{201, 201}, []int{s1, s2})
		assert.Equal(t, first, second)
		status, _ := w.request(http.MethodPost, "/api/v1/connections", `{"name":"Other", "interfaces": [{"kind": "xapi"}]}`, header...)
		assert.Equal(t, http.StatusUnprocessableEntity, status)
		var connected api.Connection
		require.NoError(t, json.Unmarshal([]byte(first), &connected))
		c := connected.Interfaces[0]
		path := "/api/v1/interfaces/" + c.ID
		status, _ = w.request(http.MethodPatch, path, `{"paused":true}`, append(bearer, "If-Match", `"1"`)...)
		assert.Equal(t, http.StatusOK, status)
		status, text := w.request(http.MethodPatch, path, `{"paused":false}`, append(bearer, "If-Match", `"1"`)...)
		assert.Equal(t, http.StatusPreconditionFailed, status)
		assert.Contains(t, text, "Somebody changed this")
		_, text = w.request(http.MethodGet, path, "", bearer...)
		assert.NotContains(t, text, c.Made["secret"], "secrets are never shown again")
	})
	t.Run("reported events", func(t *testing.T) {
		w.t = t
		c := w.connect("cloudevents", "Plant shop", nil)
		send := func(secret, kind, id, body string, at time.Time) (int, string) {
			header, err := webhook.Sign(id, at, []byte(body), secret)
			require.NoError(t, err)
			req, err := http.NewRequest(http.MethodPost, c.Made["endpoint"], strings.NewReader(body))
			require.NoError(t, err)
			req.Header = header
			req.Header.Set("Content-Type", kind)
			resp, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			defer resp.Body.Close()
			var text bytes.Buffer
			_, _ = text.ReadFrom(resp.Body)
			return resp.StatusCode, text.String()
		}
		const one, many = "application/cloudevents+json", "application/cloudevents-batch+json"
		bought := func(id, who string) string {
			return `{"specversion":"1.0","id":"` + id + `","source":"http://shop.example","type":"shop.purchase","data":{"email":"` + who + `","item":"Propagation"}}`
		}
		secret, now := c.Made["secret"], time.Now()
		for range 2 {
			status, text := send(secret, one, "m1", bought("p1", "ADA.alder@fernmoor.example"), now)
			require.Equal(t, 204, status, text)
		}
		for _, bad := range []func() (int, string){
			func() (int, string) { return send(webhook.NewSecret(), one, "m2", bought("p2", "x"), now) },
			func() (int, string) { return send(secret, one, "m2", bought("p2", "x"), now.Add(-time.Hour)) },
		} {
			status, _ := bad()
			assert.Equal(t, 401, status)
		}
		status, _ := send(secret, one, "m3", `{"specversion":"1.0"}`, now)
		assert.Equal(t, 400, status)
		status, text := send(secret, many, "m4", `[`+bought("p1",
			"ada.alder@fernmoor.example")+`,{"id":"x"},`+bought("p3", "nobody@fernmoor.example")+`]`, now)
		assert.Equal(t, 200, status)
		assert.Contains(t, text, `"stored":2`)
		assert.Contains(t, text, `"index":1`)

		// The secret is changed: for a while both are taken.
		fresh := webhook.NewSecret()
		_, err := client.Send[api.Interface](t.Context(), w.Client, http.MethodPatch, "/interfaces/"+c.ID,
			api.EditInterface{Values: map[string]string{"secret": fresh, "earlier": secret}})
		require.NoError(t, err)
		status, text = send(secret, one, "m5", bought("p5", "x@fernmoor.example"), now)
		assert.Equal(t, 204, status, text)
		status, text = send(fresh, one, "m6", bought("p6", "x@fernmoor.example"), now)
		assert.Equal(t, 204, status, text)

		// What was refused is counted, with the latest reason.
		refused, err := client.All[api.Finding](t.Context(), w.Client, "/findings?group=mend")
		require.NoError(t, err)
		counts := map[string]int{}
		for _, f := range refused {
			if f.Where == "Plant shop" {
				counts[string(f.Code)] = f.Count
			}
		}
		assert.Equal(t, map[string]int{"signature-refused": 2, "event-unusable": 2}, counts)

		// The service asks whether it may report.
		platform := w.service.Address + "/reported/" + w.Interfaces[scenario.PlatformName].ID
		for address, want := range map[string]int{c.Made["endpoint"]: 200, platform: 404} {
			req, err := http.NewRequest(http.MethodOptions, address, nil)
			require.NoError(t, err)
			req.Header.Set("WebHook-Request-Origin", "shop.example")
			resp, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			require.NoError(t, resp.Body.Close())
			assert.Equal(t, want, resp.StatusCode)
			if want == 200 {
				assert.Equal(t, "shop.example", resp.Header.Get("WebHook-Allowed-Origin"))
				assert.Equal(t, "*", resp.Header.Get("WebHook-Allowed-Rate"))
				assert.Contains(t, resp.Header.Get("Allow"), "POST")
			}
		}

		events, err := client.All[api.Event](t.Context(), w.Client, "/events?type=service.reported")
		require.NoError(t, err)
		require.Len(t, events, 4, "once each")
		assert.Equal(t, "Ada Alder", events[3].Person)
		assert.Equal(t, "shop.purchase", events[3].Data["reported"])
		assert.Empty(t, events[2].Person, "an event about nobody who is known is kept")
	})
	t.Run("statements", func(t *testing.T) {
		w.t = t
		made := w.Interfaces[scenario.PlatformName].Made
		send := func(body, secret, version string) (int, string) {
			req, err := http.NewRequest(http.MethodPost, w.service.Address+"/xapi/statements",
				strings.NewReader(body))
			require.NoError(t, err)
			req.SetBasicAuth(made["key"], secret)
			req.Header.Set("X-Experience-API-Version", version)
			resp, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			defer resp.Body.Close()
			var text bytes.Buffer
			_, _ = text.ReadFrom(resp.Body)
			return resp.StatusCode, text.String()
		}
		statement := `{"id":"8f87ccde-bb56-4c2e-ab83-44982ef22df0","actor":{"account":{"homePage":"http://x.example","name":"stu-001"}},"verb":{"id":"http://adlnet.gov/expapi/verbs/completed"},"object":{"id":"http://x.example/a1"}}`
		for _, c := range []struct {
			body, secret, version string
			status                int
		}{
			{statement, "wrong", "1.0.3", 401},
			{statement, made["secret"], "", 400},
			{"[{}]", made["secret"], "1.0.3", 400},
			{statement, made["secret"], "1.0.3", 200},
			{statement, made["secret"], "1.0.3", 200},
			{strings.Replace(statement, "a1", "a2", 1), made["secret"], "1.0.3", 409},
			{
				strings.Replace(strings.Replace(statement, "stu-001", "nobody", 1), "8f", "9f", 1), made["secret"],
				"1.0.3", 200,
			},
		} {
			status, text := send(c.body, c.secret, c.version)
			assert.Equal(t, c.status, status, text)
		}
		get := func(path string, into any) int {
			req, err := http.NewRequest(http.MethodGet, w.service.Address+path, nil)
			require.NoError(t, err)
			req.SetBasicAuth(made["key"], made["secret"])
			req.Header.Set("X-Experience-API-Version", "1.0.3")
			resp, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			defer resp.Body.Close()
			_ = json.NewDecoder(resp.Body).Decode(into)
			return resp.StatusCode
		}
		type page struct {
			Statements []struct{ ID string }
			More       string
		}
		all := func(query string) (ids []string) {
			for next := "/xapi/statements?" + query; next != ""; {
				var p page
				require.Equal(t, 200, get(next, &p), query)
				for _, s := range p.Statements {
					ids = append(ids, s.ID[:2])
				}
				next = p.More
			}
			return ids
		}
		other := strings.NewReplacer("8f", "7a", "a1", "a2", "completed", "passed").Replace(statement)
		status, text := send(other, made["secret"], "1.0.3")
		require.Equal(t, 200, status, text)
		assert.Equal(t, []string{"7a", "9f", "8f"}, all(""), "newest first")
		assert.Equal(t, []string{"8f", "9f", "7a"}, all("ascending=true&limit=1"), "page by page")
		assert.Equal(t, []string{"7a"}, all("verb="+url.QueryEscape("http://adlnet.gov/expapi/verbs/passed")))
		agent := url.QueryEscape(`{"account":{"homePage":"http://x.example","name":"stu-001"}}`)
		assert.Equal(t, []string{"7a", "8f"}, all("agent="+agent))
		assert.Equal(t, []string{"7a", "8f"}, all("related_agents=true&agent="+agent))
		assert.Equal(t, []string{"9f", "8f"},
			all("related_activities=true&activity="+url.QueryEscape("http://x.example/a1")))
		assert.Empty(t, all("since="+url.QueryEscape(time.Now().Add(time.Hour).Format(time.RFC3339))))
		const one = "8f87ccde-bb56-4c2e-ab83-44982ef22df0"
		var got map[string]any
		assert.Equal(t, 200, get("/xapi/statements?statementId="+one, &got))
		assert.NotEmpty(t, got["stored"])
		assert.Equal(t, 404, get("/xapi/statements?voidedStatementId="+one, &got))
		assert.Equal(t, 200, get("/xapi/statements?statementId="+strings.Replace(one, "8f", "7a", 1), &got))
		latest := url.QueryEscape(got["stored"].(string))
		assert.Empty(t, all("since="+latest), "whoever goes on from the latest is not given it again")
		assert.Equal(t, []string{"7a", "9f", "8f"}, all("until="+latest), "up to it, with it")
		assert.Equal(t, 400, get("/xapi/statements?colour=red", &got))
		assert.Equal(t, 400, get("/xapi/statements/more/nonsense", &got))
		status, text = send(`{"id":"c1d5b0f2-6a0e-4a52-9a35-0f4f6b2d7e11","actor":{"mbox":"mailto:office@fernmoor.example"},"verb":{"id":"http://adlnet.gov/expapi/verbs/voided"},"object":{"objectType":"StatementRef","id":"`+one+`"}}`, made["secret"], "1.0.3")
		require.Equal(t, 200, status, text)
		assert.Equal(t, 404, get("/xapi/statements?statementId="+one, &got))
		assert.Equal(t, 200, get("/xapi/statements?voidedStatementId="+one, &got))

		// What several did together is kept, and is nobody's progress.
		together := `{"id":"5a87ccde-bb56-4c2e-ab83-44982ef22df0","actor":{"objectType":"Group","member":[{"mbox":"mailto:ada.alder@fernmoor.example"}]},"verb":{"id":"http://adlnet.gov/expapi/verbs/completed"},"object":{"id":"http://x.example/a1"}}`
		status, text = send(together, made["secret"], "1.0.3")
		require.Equal(t, 200, status, text)
		assert.Equal(t, 200, get("/xapi/statements?statementId=5a87ccde-bb56-4c2e-ab83-44982ef22df0", &got))
		assert.Equal(t, []string{"5a"}, all("related_agents=true&agent="+
			url.QueryEscape(`{"mbox":"mailto:ada.alder@fernmoor.example"}`)))

		// What the database cannot keep is the sender's to mend, and is never asked for again.
		status, text = send(strings.Replace(statement, "stu-001", `a\u0000b`, 1), made["secret"], "1.0.3")
		assert.Equal(t, 400, status, text)
		assert.Contains(t, text, "NUL")
		assert.Equal(t, 400, get("/xapi/statements?activity=%00", &got))

		// A batch with faults: whole or not at all, unless both sides agreed to take the others.
		fresh := strings.Replace(statement, "8f", "5b", 1)
		batch := "[" + strings.Join([]string{
			`{"actor":{}}`, fresh,
			strings.Replace(statement, "completed", "failed", 1), `{"id":"x"}`,
		}, ",") + "]"
		type refused struct {
			Errors []struct{ Index int }
			Stored map[string]string
		}
		answered := func(want int) (r refused) {
			status, text := send(batch, made["secret"], "1.0.3")
			require.Equal(t, want, status, text)
			require.NoError(t, json.Unmarshal([]byte(text), &r))
			return r
		}
		r := answered(400)
		assert.Len(t, r.Errors, 2, "every fault is named by its place")
		assert.Empty(t, r.Stored)
		assert.NotContains(t, all(""), "5b")
		_, err := client.Send[api.Interface](t.Context(), w.Client, http.MethodPatch,
			"/interfaces/"+w.Interfaces[scenario.PlatformName].ID,
			api.EditInterface{Values: map[string]string{"faulty": "take the others"}})
		require.NoError(t, err)
		for range 2 {
			r = answered(400)
			assert.Len(t, r.Errors, 3, "faults and conflicts")
			assert.Equal(t, map[string]string{"1": "5b87ccde-bb56-4c2e-ab83-44982ef22df0"}, r.Stored)
		}
		assert.Contains(t, all(""), "5b")
	})
}

// cli runs the command line against the world's service.
func (w *world) cli(env []string, args ...string) (out string, code int) {
	w.t.Helper()
	cmd := exec.Command(filepath.Join(bin, "kanban"), args...)
	cmd.Env = append(os.Environ(), env...)
	text, err := cmd.CombinedOutput()
	if err != nil {
		require.NotNil(w.t, cmd.ProcessState, "%v", err)
	}
	return string(text), cmd.ProcessState.ExitCode()
}

// expecting gives a function that runs the command line, which must end with a code and
// say a text, and gives all that it said.
func (w *world) expecting(env []string) func(code int, want string, args ...string) string {
	return func(code int, want string, args ...string) string {
		w.t.Helper()
		out, got := w.cli(env, args...)
		require.Equal(w.t, code, got, "kanban %s\n%s", strings.Join(args, " "), out)
		require.Contains(w.t, out, want, "kanban %s", strings.Join(args, " "))
		return out
	}
}

// signIn keeps a token for the command line.
func (w *world) signIn(env []string) {
	w.t.Helper()
	cmd := exec.Command(filepath.Join(bin, "kanban"), "sign-in", "--email", scenario.Email)
	cmd.Env, cmd.Stdin = append(os.Environ(), env...), strings.NewReader(scenario.Password+"\n")
	out, err := cmd.CombinedOutput()
	require.NoError(w.t, err, string(out))
}

// The story by hand in the command line, with exit codes that scripts can use.
func TestCommandLine(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	expect := w.expecting(env)
	expect(1, "sign in first", "sections", "list")
	w.signIn(env)

	expect(0, "wrong-credential", "explain")
	expect(2, "there is no code", "explain", "nonsense")
	expect(0, "works", "interfaces", "list")
	expect(1, "the ones that work were kept", "interfaces", "edit", scenario.WorkspaceName, "--set", "token=wrong")
	expect(3, "wrong-credential", "interfaces", "edit", scenario.WorkspaceName, "--set", "token=wrong", "--untested")
	expect(0, "works", "interfaces", "edit", scenario.WorkspaceName, "--set", "token=potting-shed")
	expect(2, "colour: an interface of kind scim has no such value", "interfaces", "edit", scenario.WorkspaceName, "--set",
		"colour=red")
	expect(0, "70 people", "interfaces", "read", scenario.RegisterName)
	expect(0, "· not paired", "sections", "list", "--state", "not-paired")
	expect(0, "Propagation A,PROP-A", "sections", "list", "--find", "maud", "--output", "csv")
	expect(2, "there is no section", "pairings", "add", "NOPE", scenario.WorkspaceName)
	expect(2, "leavers", "pairings", "add", "PROP-A", scenario.WorkspaceName, "--leavers", "vanish")
	expect(0, "Nothing has happened there yet", "pairings", "add", "PROP-A", scenario.WorkspaceName)
	expect(1, "is paired through", "pairings", "add", "PROP-A", scenario.WorkspaceName)
	expect(0, "e-mail address shared by two people", "pairings", "preview", "PROP-A")
	expect(2, "would change 0 people called", "pairings", "run", "PROP-A", "--only", "Elsa Elder")
	expect(3, "1 added", "pairings", "run", "PROP-A", "--only", "Ada Alder")
	expect(3, "8 added", "pairings", "run", "PROP-A")
	expect(0, "▲ needs a person", "sections", "list", "--state", "needs-person")
	var section []api.Section
	require.NoError(t, json.Unmarshal([]byte(expect(0, "", "sections", "list", "--find", "PROP-A", "--output",
		"json")), &section))
	assert.Equal(t, 12, section[0].Learners)
	expect(3, "Elsa Elder", "today")
	expect(0, "sync", "runs", "list")
	expect(0, "Ada Alder", "people", "find", "alder")
	expect(0, "Account at Chat workspace", "people", "show", "Ada Alder")
	expect(2, "nobody fits", "people", "show", "Nobody At All")
	zip, err := http.NewRequest(http.MethodGet, w.At.Register+"/export.zip", nil)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "register.zip")
	require.NoError(t, os.WriteFile(file, []byte(body(t, zip)), 0o600))
	expect(0, "", "connections", "add", "Register files")
	expect(0, "works", "interfaces", "add", "Register files", "oneroster-csv")
	expect(1, "--file package.zip", "interfaces", "read", "Register files")
	expect(0, "70 people", "interfaces", "read", "Register files", "--file", file)
	expect(1, "no ZIP archive", "interfaces", "read", "Register files", "--file", filepath.Join(bin, "standins"))
	expect(1, "takes no files", "interfaces", "read", scenario.RegisterName, "--file", file)
	expect(2, "name one by its id", "pairings", "pause", "PROP-A") // both registers have one
	expect(2, "name one by its id", "courses", "outline", "PROP", file)
	expect(0, "", "interfaces", "remove", "Register files", "--confirm", "Register files")
	expect(0, "no interface yet", "connections", "show", "Register files")
	expect(0, "back as it was", "interfaces", "restore", "Register files")
	expect(0, "Changed Files", "connections", "edit", "Register files", "--name", "Files", "--owner", "Office",
		"--per-minute", "600")
	expect(0, "Calls a minute  600", "connections", "show", "Files")
	expect(0, "Packages are uploaded by hand", "connections", "probe", "Files")
	expect(0, "paused", "connections", "pause", "Files")
	expect(1, "paused", "interfaces", "read", "Files", "--file", file)
	expect(1, "paused still, with its whole connection", "interfaces", "resume", "Files")
	expect(0, "resumed", "connections", "resume", "Files")
	expect(2, "leads everybody to the same page", "interfaces", "edit", "Files", "--set",
		"classPage=https://register.example/sections")
	expect(2, "--confirm", "connections", "remove", "Files")
	expect(0, "can be brought back", "connections", "remove", "Files", "--confirm", "Files")
	expect(0, "removed", "connections", "list", "--removed")
	expect(0, "paused", "pairings", "pause", "PROP-A")
	expect(1, "paused; resume it first", "pairings", "run", "PROP-A")
	expect(0, "resumed", "pairings", "resume", "PROP-A")

	manifest := filepath.Join(t.TempDir(), "imsmanifest.xml")
	req, err := http.NewRequest(http.MethodGet, w.At.Platform+"/courses/propagation/imsmanifest.xml", nil)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(manifest, []byte(body(t, req)), 0o600))
	expect(0, "assessment", "courses", "outline", "PROP", manifest, "--prefix", w.At.Platform+"/activities/")
	expect(0, "Made the badge", "badges", "add", "Rooted", "--issuer", "Fernmoor", "--about", "Takes cuttings.",
		"--criteria", "Finish the module.")
	expect(2, "condition", "rules", "add", "Bad", "--when", "module.completed", "--if", "event.", "--award",
		"Rooted")
	expect(0, "It is off", "rules", "add", "Badge", "--when", "module.completed", "--module", "mod-cuttings",
		"--award", "Rooted",
		"--mail", scenario.MailName, "--subject", "Well done", "--text", "{{.award.address}}")
	expect(1, "was not tried out as it is now", "rules", "on", "Badge")
	expect(0, "is on", "rules", "on", "Badge", "--untried")
	expect(0, "award, mail", "rules", "list")
	expect(0, "run.needs-person", "events", "list")
	expect(0, "No delivery fits", "deliveries", "list")
	expect(0, "Nobody has been awarded yet", "badges", "awards")
	out2, code := w.cli(append(env, "KANBAN_ADDRESS=http://127.0.0.1:1"), "today")
	assert.Equal(t, 4, code)
	assert.Contains(t, out2, "kanban serve")
}
