package e2e_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
	"kanban/internal/wire/xapi"
)

// While facts come in and rules act on them, the service is killed again and again: no
// fact is lost, none acts twice, and every delivery arrives under its one id.
func TestKillsLoseAndDoubleNothing_E8(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	all, err := client.All[api.Section](t.Context(), w.Client, "/sections?hidden=*")
	require.NoError(t, err)
	i := slices.IndexFunc(all, func(x api.Section) bool { return x.Code == "PROP-A" })
	require.NoError(t, w.Outline(t.Context(), all[i].CourseID))
	for _, r := range []api.NewRule{
		{Name: "tell", Trigger: "activity.completed", Actions: []api.Action{{
			Kind:        rule.SendEvent,
			InterfaceID: w.Interfaces[scenario.ContactsName].ID, Fields: map[string]string{
				"email": "person.email",
				"label": "activity.title",
			}, Fallbacks: map[string]string{"email": "nobody@fernmoor.example"},
		}}},
		{Name: "note", Trigger: "module.completed", Actions: []api.Action{{
			Kind: rule.AppendRow, Sheet: "Done",
			Fields: map[string]string{"who": "person.identifier", "module": "module.title"},
		}}},
	} {
		made, err := client.Post[api.Rule](t.Context(), w.Client, "/rules", r)
		require.NoError(t, err)
		_, err = client.Post[api.Rule](t.Context(), w.Client, "/rules/"+made.ID+"/switch",
			api.Switch{On: true, Untried: true})
		require.NoError(t, err)
	}
	made := w.Interfaces[scenario.PlatformName].Made
	learners := []string{"stu-001", "stu-002", "stu-006", "stu-007", "stu-008", "stu-009", "stu-010", "stu-011"}
	activities := []string{"act-tools", "act-softwood", "act-cuttings-check"}

	var mu sync.Mutex
	address := w.service.Address
	send := func(body []byte) bool {
		mu.Lock()
		at := address
		mu.Unlock()
		return reports(at, made, body)
	}
	var acknowledged atomic.Int64
	var group sync.WaitGroup
	group.Go(func() {
		for i, who := range learners {
			for j, a := range activities {
				verb := "completed"
				if a == "act-cuttings-check" {
					verb = "passed"
				}
				body, err := json.Marshal([]map[string]any{{
					"id":     fmt.Sprintf("00000000-0000-4000-8000-%06d%06d", i, j),
					"actor":  map[string]any{"account": map[string]any{"homePage": w.At.Platform, "name": who}},
					"verb":   map[string]any{"id": xapi.ADL + verb},
					"object": map[string]any{"id": w.At.Platform + "/activities/" + a},
				}})
				require.NoError(t, err)
				for tries := 0; !send(body) && tries < 400; tries++ { // as platforms do: again, with the same id
					time.Sleep(50 * time.Millisecond)
				}
				acknowledged.Add(1)
				time.Sleep(40 * time.Millisecond) // how fast the platform reports
			}
		}
	})
	facts := len(learners) * len(activities)
	for kill := range 3 {
		soon(t, "some are on record", func() bool { return int(acknowledged.Load()) >= (kill+1)*facts/5 })
		w.service.Kill()
		w.start()
		mu.Lock()
		address = w.service.Address
		mu.Unlock()
	}
	group.Wait()
	c := w.again(w.service.Address)
	var list []api.Delivery
	soon(t, "every delivery is made", func() bool {
		var err error
		list, err = client.All[api.Delivery](t.Context(), c, "/deliveries")
		done := 0
		for _, d := range list {
			if d.State == "delivered" {
				done++
			}
		}
		return err == nil && done == facts+len(learners)
	})
	assert.Len(t, list, facts+len(learners))
	var received map[string]int
	resp, err := http.Get(w.At.Contacts + "/received")
	require.NoError(t, err)
	defer resp.Body.Close()
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&received))
	sent := 0
	for _, d := range list {
		if d.Action == rule.SendEvent {
			sent++
			assert.Positive(t, received[d.ID], "the receiver has it")
		}
	}
	assert.Len(t, received, sent, "and nothing else: whatever came twice came under its one id")
	rows, err := c.Download(t.Context(), "/sheets/Done.csv")
	require.NoError(t, err)
	assert.Equal(t, len(learners)+1, bytes.Count(rows, []byte("\n")), "one row for each, under the header")
}

// reports sends statements as a platform does, with the key and secret that were made for
// it, and says whether they were acknowledged.
func reports(address string, made map[string]string, body []byte) bool {
	req, err := http.NewRequest(http.MethodPost, address+"/xapi/statements", bytes.NewReader(body))
	if err != nil {
		return false
	}
	req.SetBasicAuth(made["key"], made["secret"])
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(xapi.VersionHeader, xapi.Version)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return false
	}
	resp.Body.Close()
	return resp.StatusCode == http.StatusOK
}
