package workspaces_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/roster"
	"kanban/internal/standin/school"
	"kanban/internal/standin/workspace"
	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

// service is a workspace stand-in with a count of its calls.
type service struct {
	*workspace.Workspace
	mu    sync.Mutex
	calls map[string]int // "METHOD /kind"
	here  adapter.Interface
}

func start(t *testing.T) *service {
	s := &service{Workspace: workspace.New(school.Fernmoor(time.Now)), calls: map[string]int{}}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		s.calls[r.Method+" /"+strings.Split(r.URL.Path, "/")[3]]++
		s.mu.Unlock()
		s.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	s.here = adapter.Interface{
		ID: t.Name(), Kind: adapter.KindSCIM,
		Settings: map[string]string{
			"address": server.URL + "/scim/v2",
			"notice":  workspace.WelcomeSchema + ":sendWelcome",
		}, Secret: map[string]string{"token": workspace.Token},
	}
	return s
}

func (s *service) connect() *workspaces.Workspace {
	return workspaces.New(s.here, call.Options{Retries: -1, WaitMin: time.Millisecond, WaitMax: time.Millisecond})
}

func newcomer(n int) workspaces.Step {
	return workspaces.Step{
		Outcome: roster.OutcomeAdd,
		Want: roster.Wanted{
			GivenName: "N", FamilyName: fmt.Sprint(n), Email: fmt.Sprintf("n%d@fernmoor.example", n),
			Identifier: fmt.Sprintf("id-%d", n),
		},
	}
}

// apply carries steps out and gives the accounts and the refusals by step.
func apply(t *testing.T, w *workspaces.Workspace, ref string, steps []workspaces.Step) (ids []string,
	refused map[int]string,
) {
	t.Helper()
	ids, refused = make([]string, len(steps)), map[int]string{}
	told := map[int]int{}
	require.NoError(t, w.Apply(t.Context(), ref, steps, func(i int, account string, err error) error {
		told[i]++
		if ids[i] = account; err != nil {
			refused[i] = err.Error()
		}
		return nil
	}))
	assert.Len(t, told, len(steps), "everybody's end is told")
	for i, n := range told {
		assert.Equal(t, 1, n, "step %d", i)
	}
	return ids, refused
}

// Many people take few calls where the service offers it, and one person's
// refusal is theirs alone, with and without what a service may offer.
func TestManyAtOnceAndOneByOne(t *testing.T) {
	for _, plain := range []bool{false, true} {
		t.Run(fmt.Sprint("plain ", plain), func(t *testing.T) {
			s := start(t)
			if plain {
				s.Plain()
			}
			w := s.connect()
			ref, err := w.EnsureTarget(t.Context(), "Space", "key", nil)
			require.NoError(t, err)
			steps := make([]workspaces.Step, 130)
			for i := range steps {
				steps[i] = newcomer(i)
			}
			steps[70].Want.Email = "seventy@old.fernmoor.example" // refused there
			steps[90] = workspaces.Step{Outcome: roster.OutcomeAdd, AccountID: "no-such-account"}
			ids, refused := apply(t, w, ref, steps)
			require.Len(t, refused, 2)
			assert.Contains(t, refused[70], "no longer accepted here")
			assert.Contains(t, refused[90], "No such user: no-such-account")
			assert.Equal(t, 128, s.Created())
			assert.Zero(t, s.Told(), "nobody is told unless asked")
			if plain {
				assert.Equal(t, 129, s.calls["POST /Users"])
			} else {
				assert.Equal(t, 7, s.calls["POST /Bulk"])
			}
			assert.Less(t, s.calls["PATCH /Groups"], 20)
			wanted := make([]roster.Wanted, 0, len(steps))
			for _, x := range steps[:40] {
				wanted = append(wanted, x.Want)
			}
			seen, err := w.ReadTarget(t.Context(), workspaces.TargetGroup{Ref: ref}, wanted, nil)
			require.NoError(t, err)
			members := 0
			for _, a := range seen.Accounts {
				if a.InTarget {
					members++
				}
			}
			assert.Equal(t, 128, members)

			// Doing everything again makes no account and no double member.
			again, _ := apply(t, w, ref, steps[:60])
			assert.Equal(t, ids[:60], again)
			assert.Equal(t, 128, s.Created())

			out := make([]workspaces.Step, 60)
			for i := range out {
				out[i] = workspaces.Step{Outcome: roster.OutcomeRemove, AccountID: ids[i], Deactivate: i == 3}
			}
			_, refused = apply(t, w, ref, out)
			assert.Empty(t, refused)
			seen, err = w.ReadTarget(t.Context(), workspaces.TargetGroup{Ref: ref}, wanted, []string{ids[3]})
			require.NoError(t, err)
			for _, a := range seen.Accounts {
				if a.ID == ids[3] {
					assert.False(t, a.Active)
				}
				assert.False(t, a.InTarget && slices.Contains(ids[:60], a.ID), a.ID)
			}
		})
	}
}

// A service that lists a member twice does not confuse anybody.
func TestDoubledMembersCountOnce(t *testing.T) {
	s := start(t)
	s.Double()
	w := s.connect()
	ref, err := w.EnsureTarget(t.Context(), "Space", "key", nil)
	require.NoError(t, err)
	ids, _ := apply(t, w, ref, []workspaces.Step{newcomer(1)})
	_, _ = apply(t, w, ref, []workspaces.Step{{Outcome: roster.OutcomeAdd, AccountID: ids[0]}})
	group, err := scim.NewClient(s.here.Settings["address"], workspace.Token, 0, call.Options{}).Group(t.Context(),
		ref)
	require.NoError(t, err)
	require.Len(t, group.Members, 2)
	members := func() (n int) {
		seen, err := w.ReadTarget(t.Context(), workspaces.TargetGroup{Ref: ref}, []roster.Wanted{newcomer(1).Want},
			nil)
		require.NoError(t, err)
		for _, a := range seen.Accounts {
			if a.InTarget {
				n++
			}
		}
		return n
	}
	assert.Equal(t, 1, members())
	_, _ = apply(t, w, ref, []workspaces.Step{{Outcome: roster.OutcomeRemove, AccountID: ids[0]}})
	assert.Zero(t, members())
}

// A large service is not listed whole: only who could be somebody is asked for.
func TestLargeServiceIsLookedUp(t *testing.T) {
	for _, plain := range []bool{false, true} {
		s := start(t)
		w := s.connect()
		ref, err := w.EnsureTarget(t.Context(), "Space", "key", nil)
		require.NoError(t, err)
		steps := make([]workspaces.Step, 300)
		for i := range steps {
			steps[i] = newcomer(i)
		}
		ids, _ := apply(t, w, ref, steps)
		if plain {
			s.Plain()
		}
		other, err := w.EnsureTarget(t.Context(), "Other", "other", nil)
		require.NoError(t, err)
		_, _ = apply(t, w, other, []workspaces.Step{{Outcome: roster.OutcomeAdd, AccountID: ids[200]}})
		before := s.calls["GET /Users"]
		wanted := []roster.Wanted{
			{Identifier: "id-7"},
			{Email: "N8@FERNMOOR.example"},
			{Identifier: `x" or externalId eq "id-9`},
		}
		place := workspaces.TargetGroup{Ref: other}
		seen, err := w.ReadTarget(t.Context(), place, wanted, []string{ids[100], "gone"})
		require.NoError(t, err)
		var got []string
		for _, a := range seen.Accounts {
			got = append(got, a.ExternalID)
			assert.Equal(t, a.ID == ids[200], a.InTarget)
		}
		assert.ElementsMatch(t, []string{"id-7", "id-8", "id-100", "id-200"}, got, "a filter cannot be broken out of")
		assert.LessOrEqual(t, s.calls["GET /Users"]-before, 9)

		survey, err := w.Survey(t.Context())
		require.NoError(t, err)
		surveyed, err := survey.ReadTarget(t.Context(), place, wanted, []string{ids[100], "gone"})
		require.NoError(t, err)
		assert.ElementsMatch(t, seen.Accounts, surveyed.Accounts, "a service read whole gives the same")
		assert.Equal(t, "Other", surveyed.Name)
	}
}

// Only what Kanban made is changed, even when somebody takes it over meanwhile.
func TestUpdateLeavesWhatIsNoLongerOurs(t *testing.T) {
	s := start(t)
	w := s.connect()
	ref, err := w.EnsureTarget(t.Context(), "Space", "key", nil)
	require.NoError(t, err)
	ids, _ := apply(t, w, ref, []workspaces.Step{newcomer(1)})
	change := newcomer(1)
	change.Outcome, change.AccountID, change.Want.GivenName = roster.OutcomeUpdate, ids[0], "New"
	_, refused := apply(t, w, ref, []workspaces.Step{change})
	assert.Empty(t, refused)
	change.Want.Identifier = "somebody else's"
	_, refused = apply(t, w, ref, []workspaces.Step{change})
	assert.Contains(t, refused[0], "left alone")
	require.NoError(t, w.Rename(t.Context(), ref, "Room"))
	groups, err := scim.NewClient(s.here.Settings["address"], workspace.Token, 0, call.Options{}).Groups(t.Context(),
		"")
	require.NoError(t, err)
	assert.Equal(t, "Room", groups[0].DisplayName)
}

func TestProbeTellsAboutTheNotice_R6(t *testing.T) {
	s := start(t)
	assert.Equal(t, adapter.Works, s.connect().Probe(t.Context())[1].State)
	s.here.Settings["notice"] = workspace.WelcomeSchema + ":shout"
	r := s.connect().Probe(t.Context())[1]
	assert.Equal(t, adapter.NotEnabled, r.State)
	assert.Contains(t, r.Detail, "may notify newcomers")
}

// An interface's limit holds for everything that uses it.
func TestLimitsOfAConnectionAreShared(t *testing.T) {
	c := adapter.Interface{ID: t.Name(), Settings: map[string]string{"atOnce": "2"}}
	leave, err := adapter.Limited(c, call.Options{}).Enter(t.Context())
	require.NoError(t, err)
	other, err := adapter.Limited(c, call.Options{}).Enter(t.Context())
	require.NoError(t, err)
	defer other()
	third := make(chan struct{})
	go func() {
		if leave, err := adapter.Limited(c, call.Options{}).Enter(context.Background()); err == nil {
			leave()
		}
		close(third)
	}()
	select {
	case <-third:
		t.Fatal("three at once")
	case <-time.After(50 * time.Millisecond):
	}
	leave()
	<-third
}
