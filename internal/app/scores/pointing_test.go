package scores_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/scores"
	"kanban/internal/core/grade"
	"kanban/internal/store/runstore"
)

// A score link that is pointed to another book keeps its history; what the former book has stays in it, and nothing of
// what the new one has is overwritten.
func TestScoreLinksArePointedToAnotherBook(t *testing.T) {
	x, l, first := carried(t)
	files := x.Connect(adapter.KindScoreFile, "Archive", nil)
	_, err := x.Scores.Change(t.Context(), "Maud", l.ID, 0, scores.Edit{
		BookInterfaceID: &x.source.ID, BookClasses: map[string]string{x.Section("PROP-A").ID: "propagation"},
	})
	require.Error(t, err, "scores would come back to where they were marked")
	now, err := x.Scores.Change(t.Context(), "Maud", l.ID, 0, scores.Edit{BookInterfaceID: &files.ID})
	require.NoError(t, err)
	assert.Equal(t, files.ID, now.BookInterfaceID)
	found, err := x.Scores.Find(t.Context(), l.ID)
	require.NoError(t, err)
	assert.Equal(t, "never-run", found.State(), "the first run into it is by hand again")
	p := x.preview(now)
	assert.Equal(t, grade.New, x.entry(p, report, "stu-002").Outcome, "as nothing is known of the new book")
	assert.InDelta(t, 15, x.score(report, "stu-002"), 0.001, "the former book keeps it")
	r := x.run(p, false)
	assert.Equal(t, runstore.Finished, r.State, r.Error)
	runs, err := runstore.Runs(t.Context(), x.Store, runstore.Wanted{ScoreLinkID: l.ID, Limit: 10})
	require.NoError(t, err)
	assert.Len(t, runs, 2, "its history")
	assert.Equal(t, first.ID, runs[1].ID)
	back := x.book.ID
	_, err = x.Scores.Change(t.Context(), "Maud", l.ID, 0, scores.Edit{BookInterfaceID: &back})
	require.NoError(t, err)
	p = x.preview(now)
	assert.Zero(t, p.Plan.Counts()[grade.Replacing], "nothing of the book is overwritten: %v", p.Plan.Counts())
}
