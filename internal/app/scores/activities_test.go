package scores_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/scores"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/store/db"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// events counts the events of a type about somebody.
func (x *school) events(kind, identifier string) (n int) {
	x.t.Helper()
	require.NoError(x.t, db.Into(x.t.Context(), x.Store, &n, `SELECT count(*) FROM events WHERE type = $1 AND person_id = $2`,
		kind, x.Person(identifier).ID))
	return n
}

// tie says that the report on cuttings is an activity of the outline, in all sections.
func (x *school) tie(l scorestore.Link, activity string) error {
	x.t.Helper()
	rows, err := x.Scores.Assignments(x.t.Context(), l.ID)
	require.NoError(x.t, err)
	var ids []string
	for _, a := range rows {
		if a.Title == report {
			ids = append(ids, a.ID)
		}
	}
	return x.Scores.EditItems(x.t.Context(), "Maud", l.ID, ids, scores.EditItem{Activity: &activity})
}

// The score of an assignment that is an activity, and what the platform reports about the activity, are one fact
// and one event, whichever comes first.
func TestScoresOfActivitiesAreOneEvent(t *testing.T) {
	x, l, _ := carried(t)
	require.Equal(t, 1, x.events("score.final", "stu-002"))
	require.Error(t, x.tie(l, apptest.Activities+"one"), "the course has no outline")
	x.Outlined()
	all, err := x.Scores.Activities(t.Context(), l.ID)
	require.NoError(t, err)
	assert.Equal(t, []scores.OutlineActivity{
		{ID: apptest.Activities + "one", Title: "One", Module: "M"},
		{ID: apptest.Activities + "two", Title: "Two", Module: "M"},
	}, all)
	platform := x.Platform()
	x.Completes(platform.ID, "stu-003", "one", time.Now().Add(-time.Hour))
	require.Equal(t, 1, x.events("activity.completed", "stu-003"))
	require.Error(t, x.tie(l, "nothing"))
	require.NoError(t, x.tie(l, apptest.Activities+"one"))
	assert.Equal(t, 1, x.events("activity.completed", "stu-002"), "it was carried before")
	assert.Equal(t, 1, x.events("activity.completed", "stu-003"), "the platform has reported it already")
	finals := x.events("score.final", "stu-004")
	x.mark("cuttings-report", "stu-004", oneroster.ScoreFullyGraded, 18, nil)
	for range 3 { // looked at again and again
		x.preview(l)
	}
	assert.Equal(t, 1, x.events("activity.completed", "stu-004"))
	assert.Equal(t, finals, x.events("score.final", "stu-004"), "no second event beside it")
	x.Completes(platform.ID, "stu-004", "one", time.Now())
	assert.Equal(t, 1, x.events("activity.completed", "stu-004"))
	x.mark("cuttings-report", "stu-005", oneroster.ScoreExempt, 0, nil)
	x.mark("cuttings-report", "stu-006", oneroster.ScoreSubmitted, 12, nil)
	x.preview(l)
	assert.Zero(t, x.events("activity.completed", "stu-005")+x.events("activity.completed", "stu-006"),
		"neither an exempt one nor a draft is done")
	rows, err := x.Scores.Assignments(t.Context(), l.ID)
	require.NoError(t, err)
	tied := 0
	for _, a := range rows {
		if a.ActivityTitle == "One" {
			tied++
		}
	}
	assert.Equal(t, 3, tied, "in each section")
	progress, err := x.Facts.Progress(t.Context(), x.Person("stu-004").ID, x.Section("PROP-A").ID)
	require.NoError(t, err)
	assert.Equal(t, 50, progress.Percent)
	r := x.run(x.preview(l), false)
	assert.Equal(t, "finished", string(r.State), r.Error)
	assert.Equal(t, grade.Unchanged, x.entry(x.preview(l), report, "stu-004").Outcome)
	assert.Equal(t, finding.ScoreDraft, x.entry(x.preview(l), report, "stu-006").Reason)
}
