package history_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/history"
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func events(t *testing.T, s *db.Database, months ...time.Time) {
	t.Helper()
	for _, at := range months {
		id := db.FirstID(at.AddDate(0, 0, 8))
		_, err := s.Pool.Exec(t.Context(), `INSERT INTO events (id, type, natural_key, occurred_at)
			VALUES ($1, 'section.joined', $2, $3)`, id, id, at)
		require.NoError(t, err)
	}
	require.NoError(t, s.EnsurePartitions(t.Context(), months[len(months)-1]))
}

func names(h history.History) (list []string) {
	for _, m := range h.Kept {
		list = append(list, m.First.Format("2006-01"))
	}
	return list
}

// Nothing goes unless somebody says so and knows how much; then whole months go, each
// at its time.
func TestHistoryGoesByTheMonth(t *testing.T) {
	s := storetest.New(t)
	this := time.Now().UTC()
	first := time.Date(this.Year(), this.Month(), 1, 0, 0, 0, 0, time.UTC)
	var months []time.Time
	for n := -7; n <= 0; n++ {
		months = append(months, first.AddDate(0, n, 0))
	}
	events(t, s, months...)
	now := this
	h := &history.Service{Store: s, Clock: func() time.Time { return now }}

	require.NoError(t, h.Tend(t.Context()))
	shown, err := h.Show(t.Context())
	require.NoError(t, err)
	require.Len(t, shown.Kept, 8, "kept for ever unless said otherwise")
	assert.Nil(t, shown.Kept[0].GoesAt)
	assert.EqualValues(t, 1, shown.Kept[0].Events)

	_, err = h.Keep(t.Context(), "test", 5, 0)
	_, refused := refusal.As(err)
	assert.True(t, refused)
	assert.ErrorContains(t, err, "2 months")
	_, err = h.Keep(t.Context(), "test", 2, 5)
	assert.ErrorContains(t, err, "3 to 240")
	shown, err = h.Keep(t.Context(), "test", 5, 2)
	require.NoError(t, err)
	assert.Len(t, shown.Kept, 8, "they go in the background")
	assert.Equal(t, first, *shown.Kept[1].GoesAt)

	require.NoError(t, h.Tend(t.Context()))
	shown, err = h.Show(t.Context())
	require.NoError(t, err)
	assert.Equal(t, first.AddDate(0, -5, 0).Format("2006-01"), names(shown)[0])
	assert.Len(t, shown.Kept, 6)

	now = first.AddDate(0, 1, 0).Add(-time.Second)
	require.NoError(t, h.Tend(t.Context()))
	shown, err = h.Show(t.Context())
	require.NoError(t, err)
	assert.Len(t, shown.Kept, 6)
	now = now.Add(time.Second)
	require.NoError(t, h.Tend(t.Context()))
	shown, err = h.Show(t.Context())
	require.NoError(t, err)
	assert.Equal(t, first.AddDate(0, -4, 0).Format("2006-01"), names(shown)[0], "the next month has begun")
}

// A preview goes after a month, unless a run is still to go by it.
func TestOldPreviewsGo(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-A").ID,
		InterfaceID: w.Workspace().ID,
	})
	require.NoError(t, err)
	old, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	queued, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	run, err := w.Runs.Start(t.Context(), "test", queued.ID, false)
	require.NoError(t, err)
	fresh := func() (ids []string) {
		for _, id := range []string{old.ID, queued.ID} {
			if _, err := pairingstore.FindPreview(t.Context(), w.Store, id); err == nil {
				ids = append(ids, id)
			} else {
				require.ErrorIs(t, err, db.ErrNotFound)
			}
		}
		return ids
	}
	now := time.Now()
	h := &history.Service{Store: w.Store, Clock: func() time.Time { return now }}
	require.NoError(t, h.Tend(t.Context()))
	assert.Equal(t, []string{old.ID, queued.ID}, fresh())
	now = now.AddDate(0, 0, 31)
	require.NoError(t, h.Tend(t.Context()))
	assert.Equal(t, []string{queued.ID}, fresh())
	require.NoError(t, w.Runs.Work(t.Context(), run.ID, true), "the run that was queued goes by its preview")
	require.NoError(t, h.Tend(t.Context()))
	assert.Empty(t, fresh())
	_, err = w.Runs.Start(t.Context(), "test", old.ID, false)
	assert.ErrorContains(t, err, "make one first")
}
