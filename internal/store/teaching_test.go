package store_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/store/db"
	"kanban/internal/store/storetest"
	"kanban/internal/store/taskstore"
	"kanban/internal/store/teachingstore"
)

func TestTaughtSectionsAreKept(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	otto, orla := somebody(t, s, "otto"), somebody(t, s, "orla")
	a, b := w.Section("PROP-A").ID, db.NewID()
	tx(t, s, func(tx *db.Tx) error { return teachingstore.NameSection(ctx, tx, otto.ID, a, "Mornings") })
	tx(t, s, func(tx *db.Tx) error { return teachingstore.SetPicture(ctx, tx, otto.ID, a, []byte("png")) })
	tx(t, s, func(tx *db.Tx) error {
		require.ErrorIs(t, teachingstore.NameSection(ctx, tx, otto.ID, b, "None"), db.ErrNotFound)
		require.ErrorIs(t, teachingstore.SetPicture(ctx, tx, otto.ID, b, nil), db.ErrNotFound)
		return teachingstore.OrderSections(ctx, tx, otto.ID, []string{b, a, b})
	})
	own := must[map[string]teachingstore.TaughtSection](t)(teachingstore.TaughtSections(ctx, s, otto.ID))
	assert.Equal(t, teachingstore.TaughtSection{SectionID: a, Position: 2, ShortName: "Mornings", Picture: true},
		own[a])
	assert.Equal(t, 1, own[b].Position)
	assert.Equal(t, []byte("png"), must[[]byte](t)(teachingstore.PictureOf(ctx, s, otto.ID, a)))
	assert.Empty(t, must[map[string]teachingstore.TaughtSection](t)(teachingstore.TaughtSections(ctx, s, orla.ID)))
	_, err := teachingstore.PictureOf(ctx, s, orla.ID, a)
	require.ErrorIs(t, err, db.ErrNotFound)
	tx(t, s, func(tx *db.Tx) error { return teachingstore.OrderSections(ctx, tx, otto.ID, []string{a}) })
	own = must[map[string]teachingstore.TaughtSection](t)(teachingstore.TaughtSections(ctx, s, otto.ID))
	assert.Equal(t, []int{1, 0}, []int{own[a].Position, own[b].Position})
	there := must[map[string]teachingstore.SetUp](t)(teachingstore.SetUps(ctx, s, []string{a, b}))
	assert.Equal(t, map[string]teachingstore.SetUp{a: {SectionID: a}}, there)
}

func TestDifferencesAreHandedOnOnce(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	otto := somebody(t, s, "otto")
	person, section := db.NewID(), db.NewID()
	task := taskstore.Task{
		ID: db.NewID(), Title: "Mend it", Owner: "register office", PersonID: &person, SectionID: &section,
		AskedBy: &otto.ID, Asker: "otto", About: json.RawMessage(`{"code":"address-shared"}`),
	}
	now := func() (yes bool) {
		tx(t, s, func(tx *db.Tx) (err error) {
			yes, err = taskstore.HandedNow(ctx, tx, []string{db.NewID(), section}, person)
			return err
		})
		return yes
	}
	assert.False(t, now())
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &task, "test") })
	assert.True(t, now())
	tx(t, s, func(tx *db.Tx) error {
		ok, err := taskstore.EndTask(ctx, tx, taskstore.Task{ID: task.ID, Answer: "Done so"}, "Maud")
		assert.True(t, ok)
		return err
	})
	assert.False(t, now(), "it is done")
	handed := must[[]taskstore.ListedTask](t)(taskstore.Handed(ctx, s, []string{section}))
	require.Len(t, handed, 1)
	assert.Equal(t, []string{"Done so", "Maud", "otto"}, []string{handed[0].Answer, handed[0].DoneBy, handed[0].Asker})
	assert.Empty(t, must[[]taskstore.ListedTask](t)(taskstore.Handed(ctx, s, []string{db.NewID()})))
	found := must[taskstore.ListedTask](t)(taskstore.FindTask(ctx, s, task.ID))
	assert.JSONEq(t, `{"code":"address-shared"}`, string(found.About))
	_, err := taskstore.FindTask(ctx, s, db.NewID())
	require.ErrorIs(t, err, db.ErrNotFound)
}
