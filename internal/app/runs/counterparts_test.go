package runs_test

import (
	"net/http"
	"slices"
	"testing"
	"time"

	"kanban/internal/app/connections"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/standin/fault"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
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
			{"making the class", http.MethodPost, "/Groups"}, {
				"making accounts", http.MethodPost,
				"/Users",
			}, {"making many accounts", http.MethodPost, "/Bulk"}, {
				"putting people in", http.MethodPatch,
				"/Groups",
			},
		} {
			if name == "lies" && at.what != "putting people in" {
				continue // without an answer to read there is nothing to be deceived by
			}
			t.Run(at.what+", "+name, func(t *testing.T) {
				w := apptest.New(t)
				quick := call.Options{
					Timeout: 400 * time.Millisecond, Retries: 1, WaitMin: time.Millisecond,
					WaitMax: 5 * time.Millisecond,
				}
				w.Runs.Call, w.Pairings.Call = quick, quick
				w.Read(w.Register(), false)
				w.Standins.Workspace.Double() // who is put in twice is in it twice
				c := w.Workspace()
				if f.Kind == fault.Latency { // what it does after the time limit shows within this
					_, err := w.Connections.Update(t.Context(), "test", c.ID, 0,
						connections.Change{Values: map[string]string{"late": "5"}})
					require.NoError(t, err)
				}
				p, err := w.Pairings.Pair(t.Context(), "test",
					pairings.Wish{SectionID: w.Section("PROP-C").ID, InterfaceID: c.ID})
				require.NoError(t, err)
				f.Method, f.Path = at.method, at.path
				require.NoError(t, w.Standins.Fault("workspace", f))
				preview, err := w.Runs.Preview(t.Context(), p.ID)
				require.NoError(t, err)
				run, err := w.Runs.Start(t.Context(), "test", preview.ID, false)
				require.NoError(t, err)
				for range 6 {
					if err := w.Runs.Work(t.Context(), run.ID, false); err == nil {
						break
					} else if wait, asked := adapter.Asked(err); asked {
						assert.LessOrEqual(t, wait, time.Second)
						w.Standins.ClearFaults() // the time it asked for has passed
					}
				}
				w.Standins.ClearFaults()
				w.Standins.Settle()
				run, err = runstore.FindRun(t.Context(), w.Store, run.ID)
				require.NoError(t, err)
				assert.True(t, run.State == runstore.Finished || run.State == runstore.NeedsPerson, "%s: %s",
					run.State, run.Error)
				if name == "lies" { // it is said, and the next run puts it right
					assert.Positive(t, run.Counts["not-arrived"])
					preview, err = w.Runs.Preview(t.Context(), p.ID)
					require.NoError(t, err)
					again, err := w.Runs.Start(t.Context(), "test", preview.ID, false)
					require.NoError(t, err)
					require.NoError(t, w.Runs.Work(t.Context(), again.ID, true))
				}
				members := w.Standins.Workspace.Space("Propagation C")
				slices.Sort(members)
				assert.Len(t, members, 13)
				assert.Len(t, slices.Compact(members), 13, "nobody is in it twice")
				assert.Equal(t, 1, classes(t, w, "Propagation C"), "one class")
				after, err := w.Runs.Preview(t.Context(), p.ID)
				require.NoError(t, err)
				assert.Zero(t, after.Plan.Counts().Changes(), "nothing is left to do")
				placed, err := pairingstore.Source(t.Context(), w.Store, mustPairing(t, w.Store, p.ID))
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
	_, err := w.Connections.Update(t.Context(), "test", c.ID, 0,
		connections.Change{Values: map[string]string{"late": "20"}})
	require.NoError(t, err)
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-C").ID,
		InterfaceID: c.ID,
	})
	require.NoError(t, err)
	w.Standins.Workspace.Late(700 * time.Millisecond)
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	run, err := w.Runs.Start(t.Context(), "test", preview.ID, false)
	require.NoError(t, err)
	require.NoError(t, w.Runs.Work(t.Context(), run.ID, true))
	run, err = runstore.FindRun(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	assert.Zero(t, run.Counts["not-arrived"])
	assert.Equal(t, 13, run.Counts["added"])
	assert.Equal(t, 1, classes(t, w, "Propagation C"))
}

// ran previews a pairing, runs that, and gives the ended run with what was planned.
func ran(t *testing.T, w *apptest.World, pairingID string) (runstore.Run, pairingstore.Preview) {
	t.Helper()
	preview, err := w.Runs.Preview(t.Context(), pairingID)
	require.NoError(t, err)
	run, err := w.Runs.Start(t.Context(), "test", preview.ID, false)
	require.NoError(t, err)
	require.NoError(t, w.Runs.Work(t.Context(), run.ID, true))
	run, err = runstore.FindRun(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	return run, preview
}

// A service that was replaced by an empty one is no reason to make or to end anything: that
// the class is gone is said, and it is made anew, once, when somebody says so.
func TestReplacedByAnEmptyService_R10(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-C").ID,
		InterfaceID: w.Workspace().ID,
	})
	require.NoError(t, err)
	ran(t, w, p.ID)
	before, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	w.Standins.Workspace.Replace(nil, nil)

	_, err = w.Runs.Preview(t.Context(), p.ID)
	require.ErrorContains(t, err, "no longer at the service")
	assert.True(t, mustPairing(t, w.Store, p.ID).TargetLost, "whoever looks first notes it")
	run, err := w.Runs.Start(t.Context(), "test", before.ID, false)
	require.NoError(t, err)
	require.NoError(t, w.Runs.Work(t.Context(), run.ID, true))
	run, err = runstore.FindRun(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	assert.Equal(t, runstore.Failed, run.State)
	assert.Contains(t, run.Error, "Make it anew")
	users, groups := w.Standins.Workspace.Content()
	assert.Empty(t, users)
	assert.Empty(t, groups)
	placed, err := pairingstore.Source(t.Context(), w.Store, mustPairing(t, w.Store, p.ID))
	require.NoError(t, err)
	assert.Len(t, placed.Placed, 13, "nobody is forgotten")

	require.NoError(t, w.Runs.Renew(t.Context(), "test", p.ID))
	again, _ := ran(t, w, p.ID)
	assert.Equal(t, runstore.Finished, again.State, again.Error)
	assert.Len(t, w.Standins.Workspace.Space("Propagation C"), 13)
	assert.Equal(t, 1, classes(t, w, "Propagation C"))
	users, _ = w.Standins.Workspace.Content()
	assert.Len(t, users, 13, "an account for each, once")
}

// A service that has forgotten its accounts and kept the class gets each account once more;
// theirs replace the old ones on record.
func TestForgottenAccountsAreReplaced_R10(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	c := w.Workspace()
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-C").ID,
		InterfaceID: c.ID,
	})
	require.NoError(t, err)
	ran(t, w, p.ID)
	_, groups := w.Standins.Workspace.Content()
	groups[0].Members = nil
	w.Standins.Workspace.Replace(nil, groups)
	run, _ := ran(t, w, p.ID)
	assert.Equal(t, runstore.Finished, run.State, run.Error)
	users, _ := w.Standins.Workspace.Content()
	assert.Len(t, users, 13)
	assert.Len(t, w.Standins.Workspace.Space("Propagation C"), 13)
	for _, u := range users {
		if u.ExternalID == "" {
			continue
		}
		person := w.Person(u.ExternalID)
		accounts, err := matchstore.AccountsOf(t.Context(), w.Store, person.ID)
		require.NoError(t, err)
		require.Len(t, accounts, 1, person.GivenName)
		assert.Equal(t, u.ID, accounts[0].RemoteID)
	}
	after, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Zero(t, after.Plan.Counts().Changes())
}

// The first run over a class and accounts that were there before accounts for everybody in
// the section and in the class.
func TestFirstRunOverAdoptedAccounts(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	user := func(id, email string) scim.User {
		return scim.User{
			Schemas: []string{scim.UserSchema}, ID: id, UserName: id, Active: true,
			Name: scim.Name{GivenName: "Old", FamilyName: id}, Emails: []scim.Email{{Value: email, Primary: true}},
		}
	}
	member := func(id string) scim.Member { return scim.Member{Value: id, Type: "User"} }
	w.Standins.Workspace.Hold([]scim.User{
		user("inside", w.Person("stu-030").Email),
		user("outside", w.Person("stu-031").Email), user("stranger", "s@elsewhere.example"),
	},
		[]scim.Group{{
			ID: "room", DisplayName: "Garden room",
			Members: []scim.Member{member("inside"), member("stranger")},
		}})
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-C").ID,
		InterfaceID: w.Workspace().ID, TargetRef: "room",
	})
	require.NoError(t, err)
	run, preview := ran(t, w, p.ID)
	require.Len(t, preview.Plan.Entries, 14, "thirteen of the section, one stranger")
	assert.Equal(t, 12, run.Counts["added"])
	assert.Equal(t, 1, run.Counts["in-step"])
	assert.Equal(t, 1, run.Counts["left-out"])
	assert.Zero(t, run.Counts["removed"]+run.Counts["refused"]+run.Counts["not-arrived"]+run.Counts["needs-person"])
	changes, err := runstore.Changes(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	assert.Len(t, changes, 14, "everybody is in the report")
	assert.Len(t, w.Standins.Workspace.Space("Garden room"), 14)
	users, _ := w.Standins.Workspace.Content()
	byEmail := map[string]int{}
	for _, u := range users {
		byEmail[u.Email()]++
	}
	for _, who := range []string{"stu-030", "stu-031"} {
		assert.Equal(t, 1, byEmail[w.Person(who).Email], "nobody who had an account gets a second one")
	}
}
