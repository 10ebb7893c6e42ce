package e2e_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/scenario"
	"kanban/internal/standin/fault"
	"kanban/internal/wire/api"
	"kanban/internal/wire/xapi"
)

// TestSoakSlowMail lets a mail server take 13 seconds for each of thirty mails: everybody gets
// one. It is for `make soak`.
func TestSoakSlowMail(t *testing.T) {
	if os.Getenv("KANBAN_SOAK") == "" {
		t.Skip("only in make soak")
	}
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	w.outlined("PROP-A")
	w.ruleOn(api.NewRule{Name: "tell", Trigger: string(rule.ActivityCompleted), Actions: []api.Action{
		{
			Kind: rule.Mail, InterfaceID: w.Interfaces[scenario.MailName].ID,
			To: `"trial-" + person.identifier + "@fernmoor.example"`, Subject: "Well done",
			Text: "{{.activity.title}}",
		},
	}})
	w.set("inbox", fault.Fault{Kind: fault.Latency, Millis: 13_000})
	const people = 30 // all in a section of the course
	var statements []map[string]any
	for n := 1; n <= people; n++ {
		statements = append(statements, map[string]any{
			"id": fmt.Sprintf("00000000-0000-4000-8000-%012d",
				n), "actor": map[string]any{"account": map[string]any{
				"homePage": w.At.Platform,
				"name":     fmt.Sprintf("stu-%03d", n),
			}},
			"verb":   map[string]any{"id": xapi.ADL + "completed"},
			"object": map[string]any{"id": w.At.Platform + "/activities/act-tools"},
		})
	}
	text, err := json.Marshal(statements)
	require.NoError(t, err)
	require.True(t, reports(w.service.Address, w.Interfaces[scenario.PlatformName].Made, text))
	began := time.Now()
	count := func(state string) (n int) {
		deliveries, err := client.All[api.Delivery](t.Context(), w.Client, "/deliveries?state="+state)
		require.NoError(t, err)
		return len(deliveries)
	}
	require.Eventually(t, func() bool { return count("delivered") == people }, 10*time.Minute, time.Second)
	took := time.Since(began)
	var mails []struct{ To, MessageID string }
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, w.At.Inbox+"/mails", nil)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal([]byte(body(t, req)), &mails))
	byID, byAddress := map[string]int{}, map[string]int{}
	for _, m := range mails {
		byID[m.MessageID]++
		byAddress[m.To]++
	}
	fmt.Printf("soak: %d mails at 13 s each: %d came, to %d people, with %d Message-IDs, in %v\n", people, len(mails),
		len(byAddress), len(byID), took.Round(time.Second))
	assert.Len(t, mails, people)
	assert.Len(t, byAddress, people)
	assert.Len(t, byID, people)
}

// TestSoakRetryAfter lets a service ask a run to wait for a minute and a half: the run waits
// that long, and ends by itself. It is for `make soak`.
func TestSoakRetryAfter(t *testing.T) {
	if os.Getenv("KANBAN_SOAK") == "" {
		t.Skip("only in make soak")
	}
	const wait = 90 * time.Second
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair)
	w.set("workspace", fault.Fault{
		Kind: fault.Status, Status: http.StatusTooManyRequests,
		RetryAfter: int(wait / time.Second), Count: 1, Method: http.MethodPost, Path: "/scim",
	})
	began := time.Now()
	r, err := w.Start(t.Context())
	require.NoError(t, err)
	r, err = w.Client.Wait(t.Context(), r.ID, func(api.Run) {})
	require.NoError(t, err)
	took := time.Since(began)
	fmt.Printf("soak: a run that was asked to wait %v ended after %v: %s, %v\n", wait, took.Round(time.Second),
		r.State, r.Counts)
	assert.Equal(t, "needs-person", r.State)
	assert.Equal(t, 9, r.Counts["added"])
	assert.GreaterOrEqual(t, took, wait)
	for id, n := range w.accounts() {
		assert.Equal(t, 1, n, "%s has one account", id)
	}
}
