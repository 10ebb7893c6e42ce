package scores_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/scores"
	"kanban/internal/core/refusal"
	"kanban/internal/standin/fault"
	"kanban/internal/standin/gradebook"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/oneroster"
)

// A book that is slow, throttles, breaks off, swallows or answers nonsense: nothing is carried twice, nothing is said
// to be there that is not, and once it is well again the rest is carried.
func TestBooksThatMisbehave(t *testing.T) {
	for name, f := range map[string]fault.Fault{
		"throttles":       {Kind: fault.Status, Status: 429, RetryAfter: 1, Method: "PUT", Count: 3},
		"is out of order": {Kind: fault.Status, Status: 503, Method: "PUT", Count: 6},
		"hangs":           {Kind: fault.Latency, Millis: 2500, Method: "PUT", Path: "/results/", Count: 2},
		"breaks off":      {Kind: fault.Truncate, Method: "PUT", Path: "/results/", Count: 4},
		"loses answers":   {Kind: fault.Cut, Method: "PUT", Count: 5},
		"swallows":        {Kind: fault.Swallow, Method: "PUT", Path: "/results/", Count: 2},
		"swallows all":    {Kind: fault.Swallow, Method: "PUT", Path: "/lineItems/", Count: 1},
		"forbids":         {Kind: fault.Status, Status: 403, Method: "PUT", Path: "/results/", After: 2, Count: 1},
		"refuses":         {Kind: fault.Status, Status: 422, Method: "PUT", Path: "/results/", Count: 2},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel() // most of it is waiting
			x := open(t)
			l := x.link()
			for i := range 5 {
				x.mark("cuttings-report", fmt.Sprintf("stu-%03d", i+2), oneroster.ScoreFullyGraded, float64(i+3), nil)
			}
			p := x.preview(l)
			require.NoError(t, x.Standins.Fault("register", f))
			r, err := x.Scores.Start(t.Context(), "test", p.ID, false)
			require.NoError(t, err)
			for range 6 {
				if x.Scores.Work(t.Context(), r.ID, false) == nil {
					break
				}
			}
			x.Standins.Settle()
			x.Standins.ClearFaults()
			require.NoError(t, x.Scores.Work(t.Context(), r.ID, true))
			ended, err := runstore.FindRun(t.Context(), x.Store, r.ID)
			require.NoError(t, err)
			require.False(t, ended.Active(), "%s %s", ended.State, ended.Error)
			assert.Equal(t, ended.Counts["scored"], x.there(), "what is said to be carried is there: %v", ended.Counts)
			if p = x.preview(l); p.Plan.Counts().Changes() > 0 {
				again := x.run(p, false)
				assert.Equal(t, runstore.Finished, again.State, "%s %v", again.Error, again.Counts)
			}
			assert.Equal(t, 5, x.there())
			assert.Zero(t, x.preview(l).Plan.Counts().Changes())
		})
	}
}

// there counts the scores of the report that the book has, each as it is at the source, and no person twice.
func (x *school) there() (n int) {
	seen := map[string]bool{}
	for _, r := range gradebook.All[oneroster.Result](x.Standins.Register.Book, oneroster.FileResults) {
		require.False(x.t, seen[r.LineItem.SourcedID+r.Student.SourcedID], "nobody has two")
		seen[r.LineItem.SourcedID+r.Student.SourcedID] = true
		var number int
		_, err := fmt.Sscanf(r.Student.SourcedID, "stu-%d", &number)
		require.NoError(x.t, err)
		if r.Score != nil && int(*r.Score) == number+1 {
			n++
		}
	}
	return n
}

// Pointed elsewhere, a link keeps what it has carried; what is no gradebook, or nothing, is refused.
func TestLinksArePointedElsewhere(t *testing.T) {
	x, l, _ := carried(t)
	other, none := "orchard", ""
	workspace := x.Workspace().ID
	for _, e := range []scores.Edit{{SourceClass: &none}, {SourceInterfaceID: &workspace}} {
		_, err := x.Scores.Change(t.Context(), "test", l.ID, 0, e)
		_, is := refusal.As(err)
		require.True(t, is, "%v", err)
	}
	l, err := x.Scores.Change(t.Context(), "test", l.ID, l.Version, scores.Edit{SourceClass: &other})
	require.NoError(t, err)
	p := x.preview(l)
	assert.Zero(t, p.Plan.Counts().Changes())
	assert.InDelta(t, 15, x.score(report, "stu-002"), 0.001, "what is in the book stays")
	back := "propagation"
	_, err = x.Scores.Change(t.Context(), "test", l.ID, 0, scores.Edit{SourceClass: &back})
	require.NoError(t, err)
	assert.Zero(t, x.preview(l).Plan.Counts().Changes())
}

// Links that run by themselves: a source that is away is kept as the link's trouble, one that is cut off by a stop of
// the service is not.
func TestTroubleIsKeptWithTheLink(t *testing.T) {
	x, l, _ := carried(t)
	trouble := func() string {
		listed, err := x.Scores.Find(t.Context(), l.ID)
		require.NoError(t, err)
		return listed.Trouble
	}
	stale := func() {
		_, err := db.Exec(t.Context(), x.Store, `UPDATE gradebook_reads SET read_at = now() - interval '1 hour'`)
		require.NoError(t, err)
	}
	stale()
	stopped, stop := context.WithCancel(t.Context())
	stop()
	require.ErrorIs(t, x.Scores.Look(stopped, []string{l.ID}), context.Canceled)
	assert.Empty(t, trouble())
	require.NoError(t, x.Standins.Fault("platform", fault.Fault{Kind: fault.Status, Status: 403, Count: 1000}))
	require.NoError(t, x.Scores.Look(t.Context(), []string{db.NewID(), l.ID}), "one that is not there stops no other")
	assert.NotEmpty(t, trouble())
	x.Standins.ClearFaults()
	require.NoError(t, x.Scores.Look(t.Context(), []string{l.ID}))
	assert.Empty(t, trouble())
}
