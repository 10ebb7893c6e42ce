package syncing_test

import (
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/pairing"
	"kanban/internal/apptest"
	"kanban/internal/standin/fault"
	"kanban/internal/store"
	"kanban/internal/wire/call"
)

// Whatever the service does wrong with the first calls of each kind, a run that is tried
// again as often as the worker would ends with everybody in the class once, one class, and
// one account for each person.
func TestEveryKindOfCounterpart_R10(t *testing.T) {
	for name, f := range map[string]fault.Fault{
		"slow":                        {Kind: fault.Latency, Millis: 150, Count: 3},
		"answers after the limit":     {Kind: fault.Latency, Millis: 700, Count: 2},
		"loses answers":               {Kind: fault.Cut, Count: 2},
		"breaks answers off":          {Kind: fault.Truncate, Count: 2},
		"fails":                       {Kind: fault.Status, Status: 500, Count: 4},
		"throttles":                   {Kind: fault.Status, Status: 429, RetryAfter: 1, Count: 2},
		"lies":                        {Kind: fault.Swallow, Count: 1},
		"overloaded and asks to wait": {Kind: fault.Status, Status: 503, RetryAfter: 1, Count: 2},
	} {
		for _, at := range []struct{ what, method, path string }{
			{"making the class", http.MethodPost, "/Groups"}, {"making accounts", http.MethodPost, "/Users"}, {"making many accounts", http.MethodPost, "/Bulk"}, {"putting people in", http.MethodPatch, "/Groups"},
		} {
			if name == "lies" && at.what != "putting people in" {
				continue // without an answer to read there is nothing to be deceived by
			}
			t.Run(at.what+", "+name, func(t *testing.T) {
				w := apptest.New(t)
				quick := call.Options{Timeout: 400 * time.Millisecond, Retries: 1, WaitMin: time.Millisecond, WaitMax: 5 * time.Millisecond}
				w.Syncing.Call, w.Pairing.Call = quick, quick
				w.Read(w.Register(), false)
				w.Standins.Workspace.Double() // who is put in twice is in it twice
				p, err := w.Pairing.Pair(t.Context(), "test", pairing.Wish{SectionID: w.Section("PROP-C").ID, ConnectionID: w.Workspace().ID})
				require.NoError(t, err)
				f.Method, f.Path = at.method, at.path
				require.NoError(t, w.Standins.Fault("workspace", f))
				preview, err := w.Syncing.Preview(t.Context(), p.ID)
				require.NoError(t, err)
				run, err := w.Syncing.Start(t.Context(), "test", preview.ID, false)
				require.NoError(t, err)
				for range 6 {
					if err := w.Syncing.Work(t.Context(), run.ID, false); err == nil {
						break
					} else if wait, asked := adapter.Asked(err); asked {
						assert.LessOrEqual(t, wait, time.Second)
						w.Standins.ClearFaults() // the time it asked for has passed
					}
				}
				w.Standins.ClearFaults()
				run, err = w.Store.Run(t.Context(), run.ID)
				require.NoError(t, err)
				assert.True(t, run.State == store.Finished || run.State == store.NeedsPerson, "%s: %s", run.State, run.Error)
				if name == "lies" { // it is said, and the next run puts it right
					assert.Positive(t, run.Counts["not-arrived"])
					preview, err = w.Syncing.Preview(t.Context(), p.ID)
					require.NoError(t, err)
					again, err := w.Syncing.Start(t.Context(), "test", preview.ID, false)
					require.NoError(t, err)
					require.NoError(t, w.Syncing.Work(t.Context(), again.ID, true))
				}
				members := w.Standins.Workspace.Space("Propagation C")
				slices.Sort(members)
				assert.Len(t, members, 13)
				assert.Len(t, slices.Compact(members), 13, "nobody is in it twice")
				assert.Equal(t, 1, classes(t, w, "Propagation C"), "one class")
				after, err := w.Syncing.Preview(t.Context(), p.ID)
				require.NoError(t, err)
				assert.Zero(t, after.Plan.Counts().Changes(), "nothing is left to do")
				placed, err := w.Store.Source(t.Context(), mustPairing(t, w.Store, p.ID))
				require.NoError(t, err)
				assert.Len(t, placed.Placed, 13, "everybody is on record as put in by us, so that leavers leave")
			})
		}
	}
}

// classes counts the groups of a name at the workspace.
func classes(t *testing.T, w *apptest.World, name string) (n int) {
	t.Helper()
	_, groups := w.Standins.Workspace.Content()
	for _, g := range groups {
		if g.DisplayName == name {
			n++
		}
	}
	return n
}

// A service that shows only after a while what it has carried out: late is not lost.
func TestLateIsNotLost_R9(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	c := w.Workspace()
	_, err := w.Connecting.Update(t.Context(), "test", c.ID, 0, nil, map[string]string{"late": "20"}, nil)
	require.NoError(t, err)
	p, err := w.Pairing.Pair(t.Context(), "test", pairing.Wish{SectionID: w.Section("PROP-C").ID, ConnectionID: c.ID})
	require.NoError(t, err)
	w.Standins.Workspace.Late(700 * time.Millisecond)
	preview, err := w.Syncing.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	run, err := w.Syncing.Start(t.Context(), "test", preview.ID, false)
	require.NoError(t, err)
	require.NoError(t, w.Syncing.Work(t.Context(), run.ID, true))
	run, err = w.Store.Run(t.Context(), run.ID)
	require.NoError(t, err)
	assert.Zero(t, run.Counts["not-arrived"])
	assert.Equal(t, 13, run.Counts["added"])
	assert.Equal(t, 1, classes(t, w, "Propagation C"))
}
