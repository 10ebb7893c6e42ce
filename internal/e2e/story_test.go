package e2e_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/standin/fault"
	"kanban/internal/wire/api"
)

// The story as the demo plays it.
func TestStory(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))

	// The credential is what the standard says, to programs as well.
	req, err := http.NewRequest(http.MethodGet, w.Award.Address, nil)
	require.NoError(t, err)
	req.Header.Set("Accept", "application/vc+jwt")
	token := body(t, req)
	assert.Equal(t, 2, strings.Count(token, "."))
	req.Header.Set("Accept", "application/json")
	var credential struct{ Type []string }
	require.NoError(t, json.Unmarshal([]byte(body(t, req)), &credential))
	assert.Contains(t, credential.Type, "OpenBadgeCredential")

	// Nobody is awarded twice, and nothing is delivered twice for one fact.
	require.NoError(t, w.Learn(t.Context()))
	awards, err := client.All[api.Award](t.Context(), w.Client, "/awards")
	require.NoError(t, err)
	assert.Len(t, awards, 4, "one for Tamsin, three for Basil")

	// The log names nobody.
	log := readFile(t, w.service.LogPath)
	assert.NotContains(t, log, "Trial")
	assert.NotContains(t, log, "@fernmoor")
}

func body(t *testing.T, req *http.Request) string {
	t.Helper()
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, resp.StatusCode, string(text))
	return string(text)
}

// set switches a fault of a stand-in on through its control endpoint.
func (w *world) set(service string, f fault.Fault) {
	w.t.Helper()
	text, err := json.Marshal(f)
	require.NoError(w.t, err)
	req, err := http.NewRequest(http.MethodPut, w.At.Control+"/faults/"+service, bytes.NewReader(text))
	require.NoError(w.t, err)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(w.t, err)
	resp.Body.Close()
	require.Equal(w.t, http.StatusNoContent, resp.StatusCode)
}

func (w *world) clear(service string) {
	w.t.Helper()
	req, err := http.NewRequest(http.MethodDelete, w.At.Control+"/faults/"+service, nil)
	require.NoError(w.t, err)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(w.t, err)
	resp.Body.Close()
}

// accounts counts the workspace's accounts per external id.
func (w *world) accounts() map[string]int {
	w.t.Helper()
	out := map[string]int{}
	for start := 1; ; start += 50 {
		req, err := http.NewRequest(http.MethodGet, fmt.Sprintf("%s/scim/v2/Users?startIndex=%d", w.At.Workspace,
			start), nil)
		require.NoError(w.t, err)
		req.Header.Set("Authorization", "Bearer potting-shed")
		var page struct {
			TotalResults int
			Resources    []struct{ ExternalID string }
		}
		require.NoError(w.t, json.Unmarshal([]byte(body(w.t, req)), &page))
		for _, u := range page.Resources {
			if u.ExternalID != "" {
				out[u.ExternalID]++
			}
		}
		if start+50 > page.TotalResults {
			return out
		}
	}
}

// Killing or stopping Kanban half-way: the run resumes by itself after the
// restart, from the first change without an outcome, and nothing is done twice.
func TestRunResumesAfterKill_R10(t *testing.T) {
	for name, end := range map[string]func(*world){
		"killed":  func(w *world) { w.service.Kill() },
		"stopped": func(w *world) { w.service.Stop() },
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.to(w.Connect, w.ReadRegister, w.Pair)
			w.set("workspace", fault.Fault{Kind: fault.Latency, Millis: 150, Path: "/scim/v2/"})
			r, err := w.Start(t.Context())
			require.NoError(t, err)
			soon(t, "some people are in", func() bool {
				r, err = client.Get[api.Run](t.Context(), w.Client, "/runs/"+r.ID)
				return err == nil && r.Done >= 3
			})
			assert.False(t, r.Ended())
			end(w)
			w.clear("workspace")

			w.start()
			r, err = w.again(w.service.Address).Wait(t.Context(), r.ID, func(api.Run) {})
			require.NoError(t, err)
			assert.Equal(t, "needs-person", r.State)
			assert.Equal(t, 9, r.Counts["added"], "what was done before the end counts")
			assert.Equal(t, 1, r.Counts["refused"])
			for id, n := range w.accounts() {
				assert.Equal(t, 1, n, "%s has one account", id)
			}
		})
	}
}

// again signs in at another address of the same service.
func (w *world) again(address string) *client.Client {
	w.t.Helper()
	c := client.New(address, "")
	_, err := c.SignIn(w.t.Context(), api.SignIn{Email: scenario.Email, Password: scenario.Password})
	require.NoError(w.t, err)
	w.Client = c
	return c
}

// One fault of each kind at the workspace: each run ends in the same clear state
// as without, and nothing is done twice.
func TestRunOutlivesFaults(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair)
	for name, f := range map[string]fault.Fault{
		"throttled":  {Kind: fault.Status, Status: 429, RetryAfter: 1, Count: 2, Method: "PATCH"},
		"failing":    {Kind: fault.Status, Status: 500, Count: 2, Method: "POST"},
		"cut":        {Kind: fault.Cut, Count: 2, Method: "POST"},
		"truncated":  {Kind: fault.Truncate, Count: 2, Method: "POST"},
		"slow":       {Kind: fault.Latency, Millis: 300, Count: 3},
		"half-way":   {Kind: fault.Status, Status: 503, Count: 14, After: 6, Method: "PATCH"},
		"cut member": {Kind: fault.Cut, Count: 2, Method: "PATCH"},
	} {
		t.Run(name, func(t *testing.T) {
			w.t = t
			w.fresh(name)
			w.set("workspace", f)
			r, err := w.Sync(t.Context())
			require.NoError(t, err)
			assert.Equal(t, "needs-person", r.State, r.Error)
			assert.Equal(t, 9, r.Counts["added"]+r.Counts["in-step"])
			assert.Zero(t, r.Counts["not-arrived"])
			w.clear("workspace")
			for id, n := range w.accounts() {
				assert.Equal(t, 1, n, "%s has one account", id)
			}
		})
	}
}

// fresh ends the present pairing and pairs the section with a new space.
func (w *world) fresh(name string) {
	w.t.Helper()
	_, err := client.Send[client.Empty](w.t.Context(), w.Client, http.MethodDelete, "/pairings/"+w.Pairing.ID, nil)
	require.NoError(w.t, err)
	w.Pairing, err = client.Post[api.Pairing](w.t.Context(), w.Client, "/pairings",
		api.NewPairing{
			SectionID: w.Pairing.Section.ID, InterfaceID: w.Interfaces[scenario.WorkspaceName].ID,
			Target: "Space " + name,
		})
	require.NoError(w.t, err)
}

// A service that accepts and forgets is caught by reading back.
func TestLyingServiceIsCaught_R9(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair)
	w.set("workspace", fault.Fault{Kind: fault.Swallow, Method: "PATCH", Count: 1})
	r, err := w.Sync(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 9, r.Counts["not-arrived"], "all of them were sent with one call")
	assert.Equal(t, 0, r.Counts["added"])
	assert.Equal(t, "needs-person", r.State)
	changes, err := client.Get[api.Page[api.Change]](t.Context(), w.Client, "/runs/"+r.ID+"/changes")
	require.NoError(t, err)
	missing := 0
	for _, c := range changes.Items {
		if c.State == "not-arrived" {
			missing++
			assert.NotEmpty(t, c.Entry.Remedy)
		}
	}
	assert.Equal(t, 9, missing)
	r, err = w.Sync(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 9, r.Counts["added"], "the next run brings exactly them")
}

// The preview is a promise: when something moves, the run does nothing and says what.
func TestRunRefusesAnOldPreview_R3(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair)
	p, err := w.Preview(t.Context())
	require.NoError(t, err)
	resp, err := http.PostForm(w.At.Register+"/office/people/stu-005",
		map[string][]string{"email": {"elsa.elder@fernmoor.example"}})
	require.NoError(t, err)
	resp.Body.Close()
	_, err = w.Read(t.Context())
	require.NoError(t, err)
	r, err := client.Post[api.Run](t.Context(), w.Client, "/runs", api.NewRun{PreviewID: p.ID})
	require.NoError(t, err)
	r, err = w.Client.Wait(t.Context(), r.ID, func(api.Run) {})
	require.NoError(t, err)
	assert.Equal(t, "moved", r.State)
	require.Len(t, r.Findings, 1)
	assert.Equal(t, "Elsa Elder", r.Findings[0].Subject)
	assert.Empty(t, w.accounts(), "nothing was done")
	r, err = client.Post[api.Run](t.Context(), w.Client, "/runs", api.NewRun{PreviewID: r.NextPreview})
	require.NoError(t, err)
	r, err = w.Client.Wait(t.Context(), r.ID, func(api.Run) {})
	require.NoError(t, err)
	assert.Equal(t, 10, r.Counts["added"])
}

// Reading a register that misbehaves ends in a clear state and loses nothing.
func TestReadOutlivesFaults(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	for name, f := range map[string]fault.Fault{
		"throttled": {Kind: fault.Status, Status: 429, RetryAfter: 1, Count: 1, Path: "/users"},
		"failing":   {Kind: fault.Status, Status: 500, Count: 2, Path: "/classes"},
		"truncated": {Kind: fault.Truncate, Count: 1, Path: "/enrollments"},
		"cut":       {Kind: fault.Cut, Count: 1, Path: "/users"},
		"expired":   {Kind: fault.Status, Status: 401, Count: 1, Path: "/enrollments"},
	} {
		w.set("register", f)
		r, err := w.Read(t.Context())
		require.NoError(t, err, name)
		assert.Zero(t, r.Counts["added"]+r.Counts["changed"]+r.Counts["gone"], name)
	}
	w.set("register", fault.Fault{Kind: fault.Swallow, Path: "/classes"}) // an empty page is no page
	r, err := client.Post[api.Run](t.Context(), w.Client,
		"/interfaces/"+w.Interfaces[scenario.RegisterName].ID+"/read", api.ReadRequest{})
	require.NoError(t, err)
	soon(t, "the run says what it waits for", func() bool {
		r, err = client.Get[api.Run](t.Context(), w.Client, "/runs/"+r.ID)
		return err == nil && strings.Contains(r.Step, "not JSON")
	})
	w.clear("register")
	r, err = w.Client.Wait(t.Context(), r.ID, func(api.Run) {})
	require.NoError(t, err)
	assert.Equal(t, "finished", r.State)
}

// A delivery is tried again with the same id until it arrives; the receiver gets
// it once. One that can never arrive waits for a person and can be retried.
func TestDeliveriesAreFollowedAndRetried_E9(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair, w.FirstRun, w.Mend, w.SwitchOn)
	w.set("contacts", fault.Fault{Kind: fault.Cut, Count: 1, Path: "/events"}) // taken, but the answer is lost
	require.NoError(t, w.Join(t.Context()))
	soon(t, "the delivery arrived", func() bool {
		page, err := client.Get[api.Page[api.Delivery]](t.Context(), w.Client, "/deliveries")
		return err == nil && len(page.Items) == 1 && page.Items[0].State == "delivered" && page.Items[0].Attempts == 2
	})
	req, err := http.NewRequest(http.MethodGet, w.At.Contacts+"/received", nil)
	require.NoError(t, err)
	var received map[string]int
	require.NoError(t, json.Unmarshal([]byte(body(t, req)), &received))
	require.Len(t, received, 1, "both attempts carried one id")

	w.set("inbox", fault.Fault{Kind: fault.Status, Status: 550, Count: 1})
	require.Error(t, within(t, 5*time.Second, w.Learn), "the mail is refused")
	page, err := client.Get[api.Page[api.Delivery]](t.Context(), w.Client, "/deliveries?state=waiting")
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	tasks, err := client.Get[[]api.Finding](t.Context(), w.Client, "/today")
	require.NoError(t, err)
	assert.Equal(t, "Cuttings badge", tasks[0].Where)
	_, err = client.Post[client.Empty](t.Context(), w.Client, "/deliveries/"+page.Items[0].ID+"/retry", nil)
	require.NoError(t, err)
	require.NoError(t, w.Learn(t.Context()), "the mail comes now")
	var attempts []api.Attempt
	soon(t, "the second attempt is noted", func() bool { // the mail may come before its attempt is written down
		attempts, err = client.Get[[]api.Attempt](t.Context(), w.Client, "/deliveries/"+page.Items[0].ID+"/attempts")
		return err == nil && len(attempts) == 2
	})
	assert.NotContains(t, attempts[1].Request, "tamsin.trial@", "personal data is masked")
}

func within(t *testing.T, limit time.Duration, step func(ctx context.Context) error) error {
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	return step(ctx)
}

// The demo command ends with 0 and a readable account, and tells when a step
// did not happen.
func TestDemoCommand(t *testing.T) {
	data := filepath.Join(dataFolder(t), "demo")
	run := func(args ...string) (string, error) {
		cmd := exec.Command(filepath.Join(bin, "kanban"),
			append([]string{"demo", "--once", "--listen", "127.0.0.1:0", "--ports-from", "0", "--data", data},
				args...)...)
		cmd.Env = append(cmd.Environ(), environment...)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	out, err := run()
	require.NoError(t, err, out)
	assert.Contains(t, out, "public page verifies it")
	out, err = run() // again: the folder is the demo's own, so it is emptied
	require.NoError(t, err, out)
	busy, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer busy.Close()
	out, err = run("--listen", busy.Addr().String())
	require.Error(t, err)
	assert.Contains(t, out, "choose another --listen")
	data = filepath.Dir(data)
	out, err = run()
	require.Error(t, err)
	assert.Contains(t, out, "was not made by the demo")
}
