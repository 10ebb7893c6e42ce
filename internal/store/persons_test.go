package store_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/mirror"
	"kanban/internal/store/personstore"
	"kanban/internal/store/rosterstore"
)

// Every table that names a person is moved with them, so that nothing of anybody is lost when another is added.
func TestEveryTableThatNamesAPersonIsMoved(t *testing.T) {
	w, _ := school(t)
	named := must[[]string](t)(db.Values[string](t.Context(), w.Store, "listing tables", `SELECT c.table_name::text
		FROM information_schema.columns c JOIN information_schema.tables t USING (table_schema, table_name)
		JOIN pg_class k ON k.relname = c.table_name AND NOT k.relispartition
		WHERE c.table_schema = 'public' AND c.column_name = 'person_id' AND t.table_type = 'BASE TABLE'`))
	own := []string{"person_merges", "proofs"}
	named = slices.DeleteFunc(named, func(x string) bool { return slices.Contains(own, x) })
	assert.ElementsMatch(t, named, personstore.Tables())
}

func TestPersons(t *testing.T) {
	w, register := school(t)
	ctx, s := t.Context(), w.Store
	west := w.SecondSchool(
		apptest.Pupil{
			ID: "w-1", Identifier: "stu-001", Email: "ada.alder@fernmoor.example", Given: "Ada",
			Family: "Alder",
		},
		apptest.Pupil{
			ID: "w-2", Identifier: "x", Email: "bram.birch@fernmoor.example", Given: "Bram",
			Family: "Birch",
		})
	assert.Equal(t, []string{register.ID, west.ID}, must[[]string](t)(personstore.Registers(ctx, s)))
	mine := must[[]roster.Record](t)(personstore.Comparable(ctx, s, register.ID))
	theirs := must[[]roster.Record](t)(personstore.Comparable(ctx, s, west.ID))
	assert.Len(t, theirs, 2)
	assert.Empty(t, must[[]roster.DomainRule](t)(personstore.DomainRules(ctx, s)))
	tx(t, s, func(tx *db.Tx) error {
		return personstore.KeepSame(ctx, tx, register.ID, west.ID, roster.SamePeople(mine, theirs,
			roster.DefaultMatching()))
	})
	all := must[[]personstore.Same](t)(personstore.SamePeople(ctx, s, personstore.SameFilter{Limit: 1}))
	require.Len(t, all, 1)
	assert.Equal(t, []string{"Ada", "Ada"}, []string{all[0].A.GivenName, all[0].B.GivenName})
	next := must[[]personstore.Same](t)(personstore.SamePeople(ctx, s, personstore.SameFilter{
		After: all[0].ID,
		Limit: 5,
	}))
	require.Len(t, next, 1)
	assert.Equal(t, roster.Likely, next[0].Certainty)
	assert.Equal(t, map[string]int{"sure": 1, "likely": 1}, must[map[string]int](t)(personstore.CountSame(ctx, s)))
	tx(t, s, func(tx *db.Tx) error { return personstore.KeepApart(ctx, tx, next[0], "Maud") })
	apart := must[[]personstore.Apart](t)(personstore.KeptApart(ctx, s))
	require.Len(t, apart, 1)
	assert.Equal(t, next[0].ID, apart[0].ID)
	tx(t, s, func(tx *db.Tx) error {
		assert.Equal(t, []string{register.ID}, must[[]string](t)(personstore.Rejoin(ctx, tx, apart[0].ID)))
		return nil
	})

	a, b := all[0].A.PersonID, all[0].B.PersonID
	assert.Empty(t, must[[]personstore.Clash](t)(personstore.Clashes(ctx, s, []string{a}, []string{b})))
	m := personstore.Merge{
		ID: db.NewID(), PersonID: a, OtherID: b, Name: "Ada", Other: "Ada",
		Evidence: []string{}, MergedBy: "Maud",
	}
	tx(t, s, func(tx *db.Tx) error { return personstore.MergePeople(ctx, tx, []personstore.Merge{m}, nil) })
	assert.Len(t, must[[]personstore.Record](t)(personstore.Records(ctx, s, a)), 2)
	assert.Equal(t, map[string]string{a: a, b: a}, must[map[string]string](t)(personstore.PeopleNow(ctx, s, a, b)))
	assert.Equal(t, m.ID, must[personstore.Merge](t)(personstore.MergeOf(ctx, s, b)).ID)
	assert.Equal(t, "Maud", must[personstore.Merge](t)(personstore.FindMerge(ctx, s, m.ID)).MergedBy)
	assert.Len(t, must[[]personstore.Merge](t)(personstore.Merges(ctx, s, a, "", 5)), 1)
	assert.Empty(t, must[[]personstore.Merge](t)(personstore.Merges(ctx, s, "", m.ID, 5)))
	assert.Empty(t, must[[]string](t)(personstore.PairingsOf(ctx, s, []string{a})))
	assert.Len(t, must[personstore.Touched](t)(personstore.TouchedOf(ctx, s, []string{a})).Courses, 4)
	assert.Equal(t, "w-1", must[rosterstore.Person](t)(rosterstore.PersonAt(ctx, s, a,
		w.Section("WEST-1").ID)).UserName)
	missing[rosterstore.Person](t)(rosterstore.PersonAt(ctx, s, db.NewID(), w.Section("WEST-1").ID))
	tx(t, s, func(tx *db.Tx) error { return mirror.ChooseLeading(ctx, tx, west.ID) })
	tx(t, s, func(tx *db.Tx) error { return personstore.MoveRest(ctx, tx) })
	assert.Equal(t, a, w.Person("stu-001").ID, "two records of one person are one")
	found := must[[]rosterstore.Named](t)(rosterstore.PeopleNamed(ctx, s, []string{"ada.alder@fernmoor.example"}))
	assert.Len(t, found, 1)
	tx(t, s, func(tx *db.Tx) error { return personstore.SplitPeople(ctx, tx, m, "Maud", m.MergedAt) })
	assert.Len(t, must[[]personstore.Record](t)(personstore.Records(ctx, s, a)), 1)
	require.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error {
		return personstore.SplitPeople(ctx, tx, m, "Maud",
			m.MergedAt)
	}), db.ErrStale)
}
