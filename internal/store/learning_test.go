package store_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store"
)

const one, two = apptest.Activities + "one", apptest.Activities + "two"

// learned is a school in which Ada completed the first of two lessons.
func learned(t *testing.T) (w *apptest.World, platform store.Connection) {
	t.Helper()
	w, _ = apptest.Clocked(t)
	w.Outlined()
	platform = w.Connect("xapi", "Platform", nil)
	w.Completes(platform.ID, "stu-001", "one", time.Now().Add(-time.Hour))
	w.Follow()
	return w, platform
}

func TestOutlines(t *testing.T) {
	w, _ := learned(t)
	s, ctx, course := w.Store, t.Context(), w.Section("PROP-A").CourseID
	o := must[learning.Outline](t)(s.Outline(ctx, course))
	require.Len(t, o.Modules, 1)
	missing[learning.Outline](t)(s.Outline(ctx, store.NewID()))
	kept, version, err := s.OutlineNow(ctx, course)
	require.NoError(t, err)
	assert.Equal(t, o, kept)
	assert.Equal(t, o, must[learning.Outline](t)(s.OutlineAt(ctx, course, version)))
	assert.Equal(t, map[string]int{course: version}, must[map[string]int](t)(s.OutlineVersions(ctx, []string{course, store.NewID()})))
	assert.NotEmpty(t, must[[]int](t)(s.Crossings(ctx, course, "")))
	placed := must[store.Placed](t)(s.CoursesWith(ctx, []string{one, "https://none.example"}))
	assert.Equal(t, map[string][]string{one: {course}}, placed.Courses)
	known := must[store.Acquainted](t)(s.Acquaint(ctx, []string{"stu-001"}, []string{key(t, w.Person("stu-002"))}, []string{one}))
	assert.Equal(t, w.Person("stu-001").ID, known.ByIdentifier["stu-001"].ID)
	assert.Len(t, known.ByAddress, 1)
	tx(t, s, func(tx *store.Tx) error {
		locked, err := tx.LockOutline(ctx, course)
		assert.Equal(t, o, locked)
		if err == nil {
			locked.Percentages = []int{10}
			err = tx.SetOutline(ctx, "Maud", course, locked)
		}
		return err
	})
	assert.Equal(t, []int{10}, must[[]int](t)(s.Crossings(ctx, course, "")))
	_, now, err := s.OutlineNow(ctx, course)
	require.NoError(t, err)
	assert.Equal(t, version+1, now)
	out := must[[]store.Standing](t)(s.Outdated(ctx, course, now, store.Standing{}, 9))
	assert.NotEmpty(t, out, "what was worked out by the outline before")
	places := must[[]store.Place](t)(s.Places(ctx, []rule.Scope{{Course: course}}))
	assert.Equal(t, "Propagation", places[0].Course)
}

func TestProgress(t *testing.T) {
	w, platform := learned(t)
	s, ctx, prop, ada := w.Store, t.Context(), w.Section("PROP-A"), w.Person("stu-001")
	state := must[learning.State](t)(s.ProgressOf(ctx, ada.ID, prop.ID))
	assert.True(t, state.Activities[one].Completed)
	at := []store.Standing{{PersonID: ada.ID, SectionID: prop.ID}}
	assert.Len(t, must[map[[2]string]learning.State](t)(s.States(ctx, at)), 1)
	tx(t, s, func(tx *store.Tx) error {
		states, err := tx.States(ctx, at)
		assert.Len(t, states, 1)
		if err == nil {
			states, err = tx.StatesInCourse(ctx, prop.CourseID, []string{ada.ID})
			assert.Len(t, states, 1)
		}
		return err
	})
	tx(t, s, func(tx *store.Tx) error {
		kept, reached, err := tx.LockProgress(ctx, at, []store.Reached{{PersonID: ada.ID, SectionID: prop.ID, ActivityID: one}})
		require.Len(t, kept, 1)
		require.Len(t, reached, 1)
		assert.Positive(t, kept[0].Percent)
		if err == nil {
			kept[0].Percent = 75
			_, _, err = tx.KeepProgress(ctx, kept, nil, nil)
		}
		return err
	})
	results := must[[]store.Result](t)(s.ResultsOf(ctx, []string{prop.ID}))
	require.Len(t, results, 1)
	assert.Equal(t, []any{"Ada Alder", one, true, 75}, []any{results[0].Person, results[0].ActivityID, results[0].Completed, results[0].Percent})
	known, there, err := s.KnownResults(ctx, []store.ResultKey{{PersonID: ada.ID, SectionID: prop.ID, ActivityID: one}, {PersonID: ada.ID, SectionID: prop.ID, ActivityID: two}})
	require.NoError(t, err)
	assert.True(t, known[ada.ID])
	assert.Len(t, there, 1)
	tx(t, s, func(tx *store.Tx) error { return tx.ForgetActivity(ctx, ada.ID, prop.ID, one) })
	assert.Empty(t, must[[]store.Result](t)(s.ResultsOf(ctx, []string{prop.ID})))
	tx(t, s, func(tx *store.Tx) error {
		back := store.Reached{PersonID: ada.ID, SectionID: prop.ID, ActivityID: one}
		back.Completed = true
		courses, err := tx.PutBack(ctx, []store.Reached{back})
		assert.Equal(t, []string{prop.CourseID}, courses)
		return err
	})
	assert.Len(t, must[[]store.Result](t)(s.ResultsOf(ctx, []string{prop.ID})), 1)
	assert.Empty(t, must[[]string](t)(s.LearnedElsewhere(ctx, prop.CourseID)))
	assert.Empty(t, must[[]store.Left](t)(s.LeftSections(ctx, []string{ada.ID}, []string{prop.CourseID})))
	_ = must[[]store.Idle](t)(s.IdleSince(ctx, rule.PersonInactive, time.Now(), 3, 9))
	require.NoError(t, s.FoldTallies(ctx))

	assert.Equal(t, 1, must[int](t)(s.StatementsFrom(ctx, platform.ID)))
	list, through, err := s.Statements(ctx, store.StatementQuery{ConnectionID: platform.ID, Limit: 9})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.False(t, through.IsZero())
	tx(t, s, func(tx *store.Tx) error {
		about, err := tx.StatementsAbout(ctx, ada.ID, []string{one})
		assert.Len(t, about, 1)
		return err
	})
}

func TestStatements(t *testing.T) {
	w, platform := learned(t)
	s, ctx, ada := w.Store, t.Context(), w.Person("stu-001")
	st := store.Statement{ID: store.NewID(), ConnectionID: platform.ID, Body: json.RawMessage(`{"id": "x"}`), Note: "unknown-person", Verb: "v", Object: two, Actor: "a"}
	add := func() (existing map[string]json.RawMessage) {
		tx(t, s, func(tx *store.Tx) (err error) {
			existing, _, err = tx.AddStatements(ctx, platform.ID, []store.Statement{st}, "voided")
			return err
		})
		return existing
	}
	assert.Empty(t, add())
	assert.Len(t, add(), 1, "once")
	waiting := must[[]store.Waiting](t)(s.WaitingStatements(ctx, "", 0, 9))
	require.Len(t, waiting, 1)
	assert.Equal(t, "unknown-person", waiting[0].Note)
	assert.Len(t, must[[]store.Unresolved](t)(s.UnresolvedStatements(ctx, "", time.Now().Add(time.Hour))), 1)
	tx(t, s, func(tx *store.Tx) error { return tx.Reconsider(ctx, "unknown-person", []string{"v"}) })
	waiting = must[[]store.Waiting](t)(s.WaitingStatements(ctx, "", 0, 9))
	require.Len(t, waiting, 1)
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *store.Tx) error {
			ok, err := tx.ResolveStatement(ctx, waiting[0], &ada.ID, "")
			assert.Equal(t, want, ok)
			return err
		})
	}
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *store.Tx) error {
			_, ok, err := tx.Void(ctx, platform.ID, st.ID, "voided")
			assert.Equal(t, want, ok)
			return err
		})
	}
	page := must[string](t)(s.KeepHomePage(ctx, platform.ID, "https://platform.example/"))
	assert.Equal(t, "https://platform.example/", page)
	assert.Equal(t, page, must[string](t)(s.KeepHomePage(ctx, platform.ID, "https://other.example/")), "the first stays")
	assert.Equal(t, map[string]string{platform.ID: page}, must[map[string]string](t)(s.HomePages(ctx, []string{platform.ID})))
}

func TestStagePlans(t *testing.T) {
	w, _ := learned(t)
	s, ctx, prop, ada := w.Store, t.Context(), w.Section("PROP-A"), w.Person("stu-001")
	p := store.StagePlan{ID: store.NewID(), Name: "Apprentice", CourseID: prop.CourseID, Version: 1, Stages: []stage.Stage{{ID: "s1", Title: "Sower", Criteria: []stage.Criterion{{Kind: stage.Module, ModuleID: "m"}}}}}
	tx(t, s, func(tx *store.Tx) error { return store.Create(tx, &p, "test") })
	missing[store.StagePlan](t)(s.StagePlan(ctx, store.NewID()))
	assert.Len(t, must[[]store.StagePlan](t)(s.StagePlans(ctx)), 1)
	assert.Empty(t, must[[]store.StagePlan](t)(s.StagePlansOn(ctx)))
	on := must[store.StagePlan](t)(s.StagePlan(ctx, p.ID))
	now := time.Now()
	on.OnSince = &now
	tx(t, s, func(tx *store.Tx) error { return tx.UpdateStagePlan(&on) })
	assert.Len(t, must[[]store.StagePlan](t)(s.StagePlansOn(ctx)), 1)
	assert.Contains(t, must[[]string](t)(s.PeopleOfStagePlan(ctx, p.ID, prop.CourseID, "", 100)), ada.ID)
	tx(t, s, func(tx *store.Tx) error {
		held, ok, err := tx.HoldStagePlan(ctx, p.ID)
		assert.True(t, ok)
		assert.Equal(t, "Apprentice", held.Name)
		if err != nil {
			return err
		}
		progress, err := tx.LockStageProgress(ctx, held, []string{ada.ID})
		require.Len(t, progress, 1)
		if err == nil {
			progress[0].Reached, progress[0].Percent = map[string]time.Time{"s1": now}, 100
			err = tx.KeepStageProgress(ctx, p.ID, progress)
		}
		return err
	})
	progress := must[[]store.StageProgress](t)(s.StageProgressOf(ctx, p.ID, []string{ada.ID}))
	require.Len(t, progress, 1)
	assert.Equal(t, 100, progress[0].Percent)
	assert.Equal(t, 1, must[store.Group](t)(s.GroupOf(ctx, on, prop.ID)).Reached["s1"])
	listed := must[[]store.StagePlanPerson](t)(s.StagePlanPeople(ctx, on, store.StagePlanFilter{Reached: "s1", Limit: 9}))
	require.Len(t, listed, 1)
	assert.Equal(t, "Ada Alder", listed[0].Person)
	studied := must[[]store.Studied](t)(s.Studied(ctx, []string{ada.ID}, []string{prop.CourseID}))
	require.Len(t, studied, 1)
	assert.True(t, studied[0].Now)
	assert.Empty(t, must[[]store.Best](t)(s.Bests(ctx, []string{ada.ID}, []string{one})), "a lesson has no score")
	assert.Empty(t, must[map[string]map[string]bool](t)(s.BadgesHeld(ctx, []string{ada.ID})))
	tx(t, s, func(tx *store.Tx) error {
		inside, err := tx.Studied(ctx, []string{ada.ID}, []string{prop.CourseID})
		assert.Equal(t, studied, inside)
		if err == nil {
			_, err = tx.Bests(ctx, []string{ada.ID}, []string{one})
		}
		if err == nil {
			_, err = tx.BadgesHeld(ctx, []string{ada.ID})
		}
		return err
	})
}
