package scores_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/connections"
	"kanban/internal/app/scores"
	"kanban/internal/core/schedule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
	"kanban/internal/wire/webhook"
)

// A source that says that scores became final is read then, whatever was read a moment ago, and what is final is
// carried.
func TestNoticesOfFinalScores(t *testing.T) {
	x, l, _ := carried(t)
	ctx := t.Context()
	source, err := connectionstore.FindInterface(ctx, x.Store, x.source.ID)
	require.NoError(t, err)
	events, _, err := x.Connections.Add(ctx, "test", source.ConnectionID, connections.NewInterface{
		Kind: adapter.KindEvents, Label: "notices",
	})
	require.NoError(t, err)
	opened, err := x.Connections.Open(ctx, events.ID)
	require.NoError(t, err)
	tell := func(kind, id string) {
		problems, err := x.Facts.Report(ctx, opened, []webhook.Received{{
			Event: webhook.Event{ID: id, Source: "http://platform.example", Type: kind, Time: time.Now()},
			Data:  []byte(`{"class": "propagation"}`),
		}})
		require.NoError(t, err)
		require.NoError(t, problems[0])
	}
	find := func() scorestore.Link {
		found, err := scorestore.FindLink(ctx, x.Store, l.ID)
		require.NoError(t, err)
		return found
	}
	tell("scores.final", "by-hand")
	assert.Nil(t, find().NextAt, "what runs by hand does not run by a notice")
	policy := l.Policy
	policy.Schedule = schedule.Schedule{Kind: schedule.Every, Minutes: 60}
	_, err = x.Scores.Change(ctx, "test", l.ID, 0, scores.Edit{Policy: &policy})
	require.NoError(t, err)
	x.preview(l) // both sides were read a moment ago
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 19, nil)
	due := find().NextAt
	tell("purchase.completed", "other")
	assert.Equal(t, due, find().NextAt, "what says nothing of scores starts nothing")
	for i := range 3 {
		tell("scores.final", fmt.Sprint("notice-", i))
	}
	assert.True(t, find().NextAt.Before(time.Now().Add(time.Minute)))
	require.NoError(t, x.Scores.Tick(ctx, time.Now().Add(30*time.Second)))
	require.NoError(t, x.Scores.Look(ctx, []string{l.ID}))
	runs, err := runstore.Runs(ctx, x.Store, runstore.Wanted{ScoreLinkID: l.ID, Limit: 10})
	require.NoError(t, err)
	require.Equal(t, runstore.Queued, runs[0].State)
	require.NoError(t, x.Scores.Work(ctx, runs[0].ID, true))
	assert.InDelta(t, 19, x.score(report, "stu-002"), 0.001)
}
