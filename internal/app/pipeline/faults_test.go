package pipeline_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/standin/fault"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/rulestore"
)

// reaching is an action at a stand-in, and how often it has had its effect for somebody.
type reaching struct {
	action rule.Action
	at     string // the stand-in
	narrow fault.Fault
	effect func(p rosterstore.Person, deliveryID string) int
}

// outside are the actions that reach services, by name.
func outside(t *testing.T, w *apptest.World) map[string]reaching {
	received := func() (ids map[string]int) {
		resp, err := http.Get(w.Standins.Addresses.Contacts + "/received")
		require.NoError(t, err)
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(body, &ids))
		return ids
	}
	labelled := func(email, label string) (n int) {
		for _, c := range w.Standins.Contacts.Contacts() {
			for _, l := range c.Labels {
				if l == label && strings.EqualFold(c.Email, email) {
					n++
				}
			}
		}
		return n
	}
	in := func(names []string, p rosterstore.Person) (n int) {
		for _, name := range names {
			if name == p.GivenName+" "+p.FamilyName {
				n++
			}
		}
		return n
	}
	w.Standins.Workspace.Open("Greenhouse talk")
	people := map[string]string{}
	for _, p := range w.Standins.School.People() {
		people[p.ID] = p.Name()
	}
	return map[string]reaching{
		"send": {
			rule.Action{
				Kind: rule.SendEvent, InterfaceID: w.Contacts().ID,
				Fields: map[string]string{"email": "person.email", "label": `"sent"`},
			},
			"contacts",
			fault.Fault{Path: "/events"},
			func(p rosterstore.Person, id string) int { return min(received()[id], 1) * labelled(p.Email, "sent") },
		},
		"operate": {
			rule.Action{
				Kind: rule.CallOperation, InterfaceID: w.Labels().ID, Operation: "add-label",
				Fields: map[string]string{"email": "person.email", "label": `"learner"`},
			},
			"contacts",
			fault.Fault{Path: "/api/contacts"},
			func(p rosterstore.Person, _ string) int { return labelled(p.Email, "learner") },
		},
		"group": {
			rule.Action{Kind: rule.AddToGroup, InterfaceID: w.Workspace().ID, Group: "Greenhouse talk"},
			"workspace",
			fault.Fault{Method: http.MethodPatch, Path: "/Groups"},
			func(p rosterstore.Person, _ string) int { return in(w.Standins.Workspace.Space("Greenhouse talk"), p) },
		},
		"enrol": {
			rule.Action{Kind: rule.Enrol, InterfaceID: w.Platform().ID, SectionID: w.Section("SOIL-A").ID},
			"platform",
			fault.Fault{Method: http.MethodPatch, Path: "/Groups"},
			func(p rosterstore.Person, _ string) int {
				var names []string
				for _, e := range w.Standins.School.Enrolments() {
					if e.SectionID == "sec-soil-a" && !e.Ended {
						names = append(names, people[e.PersonID])
					}
				}
				return in(names, p)
			},
		},
	}
}

// Whatever a service does wrong, a delivery ends where it must: what passes is tried
// again by itself, what does not waits for a person, and once the service is well again
// everybody has had the effect exactly once.
func TestFaultMatrix_E9(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Deliveries.Delays = slices.Repeat([]time.Duration{time.Minute}, 5)
	const retrying, waiting, delivered = deliverystore.DeliveryRetrying, deliverystore.DeliveryWaiting,
		deliverystore.DeliveryDelivered
	faults := []struct {
		name  string
		fault fault.Fault
		state string
		again time.Duration     // at least
		other map[string]string // where an action differs
	}{
		// it is done after the time limit, and seen
		{
			"slow",
			fault.Fault{Kind: fault.Latency, Millis: 1500},
			retrying, time.Minute,
			map[string]string{"group": delivered, "enrol": delivered},
		},
		{"throttled", fault.Fault{Kind: fault.Status, Status: 429, RetryAfter: 600}, retrying, 10 * time.Minute, nil},
		{"failing", fault.Fault{Kind: fault.Status, Status: 500}, retrying, time.Minute, nil},
		{"overloaded", fault.Fault{Kind: fault.Status, Status: 503}, retrying, time.Minute, nil},
		// where it can be looked whether it was done
		{
			"cut off",
			fault.Fault{Kind: fault.Cut},
			retrying, time.Minute,
			map[string]string{"group": delivered, "enrol": delivered},
		},
		// whose answers are a status alone
		{
			"cut in half",
			fault.Fault{Kind: fault.Truncate},
			retrying, time.Minute,
			map[string]string{"send": delivered, "group": delivered, "enrol": delivered},
		},
		{"refusing", fault.Fault{Kind: fault.Status, Status: 422}, waiting, 0, nil},
		{"forbidding", fault.Fault{Kind: fault.Status, Status: 403}, waiting, 0, nil},
		{"credential gone", fault.Fault{Kind: fault.Status, Status: 401}, waiting, 0, nil},
		{"not there", fault.Fault{Kind: fault.Status, Status: 404}, waiting, 0, nil},
		// A service that lies is caught where it can be read back (it may only be late, so it
		// is tried again) or is to say so itself; an accepted message counts as delivered.
		{
			"lying",
			fault.Fault{Kind: fault.Swallow},
			waiting, 0,
			map[string]string{"send": delivered, "group": retrying, "enrol": retrying},
		},
	}
	who := 1
	for name, x := range outside(t, w) {
		r := w.Rule(rule.Draft{
			Name: name, Trigger: string(rule.ModuleCompleted), Scope: rule.Scope{Module: name},
			Actions: []rule.Action{x.action},
		})
		for _, f := range faults {
			what := name + ", " + f.name
			f.fault.Method, f.fault.Path = x.narrow.Method, x.narrow.Path
			require.NoError(t, w.Standins.Fault(x.at, f.fault))
			// Learners with an address of their own, who are in no section of soil science.
			identifier := fmt.Sprintf("stu-%03d", 28+who%30)
			who++
			e := w.About(rule.ModuleCompleted, what, identifier)
			e.ModuleID = name
			id := w.DeliveriesOf(w.Record(e).ID)[0].ID
			w.Deliveries.Call.Timeout = 10 * time.Second
			if f.fault.Kind == fault.Latency {
				w.Deliveries.Call.Timeout = time.Second
			}
			again, err := w.Deliveries.Deliver(t.Context(), id)
			require.NoError(t, err, what)
			w.Standins.Settle()
			d, err := deliverystore.FindDelivery(t.Context(), w.Store, id)
			require.NoError(t, err)
			want := f.state
			if f.other[name] != "" {
				want = f.other[name]
			}
			assert.Equal(t, want, d.State, "%s: %s", what, d.LastError)
			if want != delivered {
				assert.GreaterOrEqual(t, again, f.again, what)
				assert.NotEmpty(t, d.LastError, what)
				assert.NotEmpty(t, d.Code, what)
			}
			w.Standins.ClearFaults()
			if want == delivered {
				if f.fault.Kind != fault.Swallow {
					assert.Equal(t, 1, x.effect(w.Person(identifier), id), "%s: exactly once", what)
				}
				continue
			}
			require.NoError(t, w.Deliveries.Retry(t.Context(), "test", id), what)
			*now = now.Add(20 * time.Minute) // whatever rest it was given is over
			_, err = w.Deliveries.Deliver(t.Context(), id)
			require.NoError(t, err, what)
			d, err = deliverystore.FindDelivery(t.Context(), w.Store, id)
			require.NoError(t, err)
			assert.Equal(t, delivered, d.State, "%s, once it is well again: %s", what, d.LastError)
			assert.Equal(t, 1, x.effect(w.Person(identifier), id), "%s: exactly once", what)
		}
		usage, err := rulestore.UsageOfRules(t.Context(), w.Store, *now)
		require.NoError(t, err)
		for _, u := range usage {
			if u.RuleID == r.ID {
				assert.Equal(t, len(faults), u.Fired, name)
				assert.Equal(t, len(faults), u.Delivered, name)
			}
		}
	}
}
