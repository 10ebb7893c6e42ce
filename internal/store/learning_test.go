package store_test

import (
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/stagestore"
)

const one, two = apptest.Activities + "one", apptest.Activities + "two"

// learned is a school in which Ada completed the first of two lessons.
func learned(t *testing.T) (w *apptest.World, platform connectionstore.Interface) {
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
	o := must[learning.Outline](t)(learningstore.Outline(ctx, s, course))
	require.Len(t, o.Modules, 1)
	missing[learning.Outline](t)(learningstore.Outline(ctx, s, db.NewID()))
	named := must[[]learningstore.NamedCourse](t)(learningstore.NamedCourses(ctx, s))
	assert.True(t, slices.ContainsFunc(named, func(c learningstore.NamedCourse) bool {
		return c.ID == course && c.Code == "PROP" && c.SourcedID != "" && c.InterfaceID != "" && !c.Gone
	}))
	kept, version, err := learningstore.OutlineNow(ctx, s, course)
	require.NoError(t, err)
	assert.Equal(t, o, kept)
	assert.Equal(t, o, must[learning.Outline](t)(learningstore.OutlineAt(ctx, s, course, version)))
	assert.Equal(t, map[string]int{course: version}, must[map[string]int](t)(learningstore.OutlineVersions(ctx, s,
		[]string{course, db.NewID()})))
	assert.NotEmpty(t, must[[]int](t)(learningstore.Crossings(ctx, s, course, "")))
	placed := must[learningstore.Placed](t)(learningstore.CoursesWith(ctx, s, []string{one, "https://none.example"}))
	assert.Equal(t, map[string][]string{one: {course}}, placed.Courses)
	known := must[learningstore.Recognised](t)(learningstore.Recognise(ctx, s, []string{"stu-001"},
		[]string{key(t, w.Person("stu-002"))}, []string{one}))
	assert.Equal(t, w.Person("stu-001").ID, known.ByIdentifier["stu-001"].ID)
	assert.Len(t, known.ByAddress, 1)
	tx(t, s, func(tx *db.Tx) error {
		locked, err := learningstore.LockOutline(ctx, tx, course)
		assert.Equal(t, o, locked)
		if err == nil {
			locked.Percentages = []int{10}
			err = learningstore.SetOutline(ctx, tx, "Maud", course, locked)
		}
		return err
	})
	assert.Equal(t, []int{10}, must[[]int](t)(learningstore.Crossings(ctx, s, course, "")))
	_, now, err := learningstore.OutlineNow(ctx, s, course)
	require.NoError(t, err)
	assert.Equal(t, version+1, now)
	out := must[[]learningstore.ProgressRow](t)(learningstore.Outdated(ctx, s, course, now,
		learningstore.ProgressRow{}, 9))
	assert.NotEmpty(t, out, "what was worked out by the outline before")
	places := must[[]rulestore.ScopeTitles](t)(rulestore.TitlesOfScopes(ctx, s, []rule.Scope{{Course: course}}))
	assert.Equal(t, "Propagation", places[0].Course)
}

func TestProgress(t *testing.T) {
	w, platform := learned(t)
	s, ctx, prop, ada := w.Store, t.Context(), w.Section("PROP-A"), w.Person("stu-001")
	state := must[learning.State](t)(learningstore.ProgressOf(ctx, s, ada.ID, prop.ID))
	assert.True(t, state.Activities[one].Completed)
	at := []learningstore.ProgressRow{{PersonID: ada.ID, SectionID: prop.ID}}
	assert.Len(t, must[map[learningstore.SectionKey]learning.State](t)(learningstore.States(ctx, s, at)), 1)
	tx(t, s, func(tx *db.Tx) error {
		states, err := learningstore.States(ctx, tx, at)
		assert.Len(t, states, 1)
		if err == nil {
			states, err = learningstore.StatesInCourse(ctx, tx, prop.CourseID, []string{ada.ID})
			assert.Len(t, states, 1)
		}
		return err
	})
	tx(t, s, func(tx *db.Tx) error {
		kept, reached, err := learningstore.LockProgress(ctx, tx, at,
			[]learningstore.Reached{{PersonID: ada.ID, SectionID: prop.ID, ActivityID: one}})
		require.Len(t, kept, 1)
		require.Len(t, reached, 1)
		assert.Positive(t, kept[0].Percent)
		if err == nil {
			kept[0].Percent = 75
			_, _, err = learningstore.KeepProgress(ctx, tx, kept, nil, nil)
		}
		return err
	})
	results := must[[]linkstore.Result](t)(linkstore.ResultsOf(ctx, s, []string{prop.ID}))
	require.Len(t, results, 1)
	assert.Equal(t, []any{"Ada Alder", one, true, 75},
		[]any{results[0].Person, results[0].ActivityID, results[0].Completed, results[0].Percent})
	known, there, err := linkstore.KnownResults(ctx, s,
		[]linkstore.ResultKey{
			{PersonID: ada.ID, SectionID: prop.ID, ActivityID: one},
			{PersonID: ada.ID, SectionID: prop.ID, ActivityID: two},
		})
	require.NoError(t, err)
	assert.True(t, known[ada.ID])
	assert.Len(t, there, 1)
	tx(t, s, func(tx *db.Tx) error { return learningstore.ForgetActivity(ctx, tx, ada.ID, prop.ID, one) })
	assert.Empty(t, must[[]linkstore.Result](t)(linkstore.ResultsOf(ctx, s, []string{prop.ID})))
	tx(t, s, func(tx *db.Tx) error {
		back := learningstore.Reached{PersonID: ada.ID, SectionID: prop.ID, ActivityID: one}
		back.Completed = true
		courses, err := linkstore.RestoreResults(ctx, tx, []learningstore.Reached{back})
		assert.Equal(t, []string{prop.CourseID}, courses)
		return err
	})
	assert.Len(t, must[[]linkstore.Result](t)(linkstore.ResultsOf(ctx, s, []string{prop.ID})), 1)
	assert.Empty(t, must[[]string](t)(learningstore.LearnedElsewhere(ctx, s, prop.CourseID)))
	assert.Empty(t, must[[]learningstore.Left](t)(learningstore.LeftSections(ctx, s, []string{ada.ID},
		[]string{prop.CourseID})))
	_ = must[[]learningstore.Idle](t)(learningstore.IdleSince(ctx, s, rule.PersonInactive, time.Now(), 3, 9))
	require.NoError(t, rulestore.SumUpFirings(ctx, s))

	assert.Equal(t, 1, must[int](t)(connectionstore.StatementsFrom(ctx, s, platform.ID)))
	list, through, err := eventstore.Statements(ctx, s,
		eventstore.StatementQuery{InterfaceID: platform.ID, Limit: 9})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.False(t, through.IsZero())
	tx(t, s, func(tx *db.Tx) error {
		about, err := eventstore.StatementsAbout(ctx, tx, ada.ID, []string{one})
		assert.Len(t, about, 1)
		return err
	})
}

func TestStatements(t *testing.T) {
	w, platform := learned(t)
	s, ctx, ada := w.Store, t.Context(), w.Person("stu-001")
	st := eventstore.Statement{
		ID: db.NewID(), InterfaceID: platform.ID, Body: json.RawMessage(`{"id": "x"}`),
		Note: "unknown-person", Verb: "v", Object: two, Actor: "a",
	}
	add := func() (existing map[string]json.RawMessage) {
		tx(t, s, func(tx *db.Tx) (err error) {
			existing, _, err = eventstore.AddStatements(ctx, tx, platform.ID, []eventstore.Statement{st}, "voided")
			return err
		})
		return existing
	}
	assert.Empty(t, add())
	assert.Len(t, add(), 1, "once")
	waiting := must[[]eventstore.Waiting](t)(eventstore.WaitingStatements(ctx, s, "", 0, 9))
	require.Len(t, waiting, 1)
	assert.Equal(t, "unknown-person", waiting[0].Note)
	assert.Len(t, must[[]eventstore.Unresolved](t)(eventstore.UnresolvedStatements(ctx, s, "",
		time.Now().Add(time.Hour))), 1)
	tx(t, s, func(tx *db.Tx) error {
		return eventstore.ReconsiderStatements(ctx, tx, "unknown-person", []string{"v"})
	})
	waiting = must[[]eventstore.Waiting](t)(eventstore.WaitingStatements(ctx, s, "", 0, 9))
	require.Len(t, waiting, 1)
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *db.Tx) error {
			ok, err := eventstore.ResolveStatement(ctx, tx, waiting[0], &ada.ID, "")
			assert.Equal(t, want, ok)
			return err
		})
	}
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *db.Tx) error {
			_, ok, err := eventstore.VoidStatement(ctx, tx, platform.ID, st.ID, "voided")
			assert.Equal(t, want, ok)
			return err
		})
	}
	page := must[string](t)(connectionstore.KeepHomePage(ctx, s, platform.ID, "https://platform.example/"))
	assert.Equal(t, "https://platform.example/", page)
	assert.Equal(t, page, must[string](t)(connectionstore.KeepHomePage(ctx, s, platform.ID,
		"https://other.example/")), "the first stays")
	assert.Equal(t, map[string]string{platform.ID: page},
		must[map[string]string](t)(connectionstore.HomePages(ctx, s, []string{platform.ID})))
}

func TestStagePlans(t *testing.T) {
	w, _ := learned(t)
	s, ctx, prop, ada := w.Store, t.Context(), w.Section("PROP-A"), w.Person("stu-001")
	p := stagestore.StagePlan{
		ID: db.NewID(), Name: "Apprentice", CourseID: prop.CourseID, Version: 1,
		Stages: []stage.Stage{{
			ID: "s1", Title: "Sower",
			Criteria: []stage.Criterion{{Kind: stage.Module, ModuleID: "m"}},
		}},
	}
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &p, "test") })
	missing[stagestore.StagePlan](t)(stagestore.FindStagePlan(ctx, s, db.NewID()))
	assert.Len(t, must[[]stagestore.StagePlan](t)(stagestore.StagePlans(ctx, s)), 1)
	assert.Empty(t, must[[]stagestore.StagePlan](t)(stagestore.StagePlansOn(ctx, s)))
	on := must[stagestore.StagePlan](t)(stagestore.FindStagePlan(ctx, s, p.ID))
	now := time.Now()
	on.OnSince = &now
	tx(t, s, func(tx *db.Tx) error { return stagestore.UpdateStagePlan(tx, &on) })
	assert.Len(t, must[[]stagestore.StagePlan](t)(stagestore.StagePlansOn(ctx, s)), 1)
	assert.Contains(t, must[[]string](t)(stagestore.PeopleOfStagePlan(ctx, s, p.ID, prop.CourseID, "", 100)), ada.ID)
	tx(t, s, func(tx *db.Tx) error {
		held, ok, err := stagestore.HoldStagePlan(ctx, tx, p.ID)
		assert.True(t, ok)
		assert.Equal(t, "Apprentice", held.Name)
		if err != nil {
			return err
		}
		progress, err := stagestore.LockStageProgress(ctx, tx, held, []string{ada.ID})
		require.Len(t, progress, 1)
		if err == nil {
			progress[0].Reached, progress[0].Percent = map[string]time.Time{"s1": now}, 100
			err = stagestore.KeepStageProgress(ctx, tx, p.ID, progress)
		}
		return err
	})
	progress := must[[]stagestore.StageProgress](t)(stagestore.StageProgressOf(ctx, s, p.ID, []string{ada.ID}))
	require.Len(t, progress, 1)
	assert.Equal(t, 100, progress[0].Percent)
	assert.Equal(t, 1, must[stagestore.Group](t)(stagestore.GroupOf(ctx, s, on, prop.ID)).Reached["s1"])
	listed := must[[]stagestore.StagePlanPerson](t)(stagestore.StagePlanPeople(ctx, s, on,
		stagestore.StagePlanFilter{Reached: "s1", Limit: 9}))
	require.Len(t, listed, 1)
	assert.Equal(t, "Ada Alder", listed[0].Person)
	reaching := must[[]stage.Reaching](t)(stagestore.Reachings(ctx, s, on, prop.ID))
	require.Len(t, reaching, 1)
	assert.WithinDuration(t, now, reaching[0].Reached["s1"], time.Second)
	assert.True(t, reaching[0].Found.IsZero())
	assert.Empty(t, must[[]stage.Reaching](t)(stagestore.Reachings(ctx, s, on, w.Section("PROP-B").ID)))
	late := stagestore.StagePlanFilter{Before: now.Add(time.Hour), Limit: 99}
	for _, x := range must[[]stagestore.StagePlanPerson](t)(stagestore.StagePlanPeople(ctx, s, on, late)) {
		assert.NotEqual(t, "Ada Alder", x.Person, "she is at nothing any more")
	}
	given := stagestore.Approval{ApprovalID: "a1", PersonID: ada.ID, ByName: "Maud", GivenAt: now}
	for _, by := range []string{"Maud", "Bert"} {
		given.ByName = by
		tx(t, s, func(tx *db.Tx) error { return stagestore.Approve(ctx, tx, []stagestore.Approval{given}) })
	}
	people, wanted := []string{ada.ID, db.NewID()}, []string{"a1", "a2"}
	kept := must[[]stagestore.Approval](t)(stagestore.ApprovalsOf(ctx, s, people, wanted))
	require.Len(t, kept, 1)
	assert.Equal(t, "Maud", kept[0].ByName, "the first stays")
	tx(t, s, func(tx *db.Tx) error { return stagestore.Unapprove(ctx, tx, "a1", people) })
	assert.Empty(t, must[[]stagestore.Approval](t)(stagestore.ApprovalsOf(ctx, s, people, wanted)))
	studied := must[[]stagestore.Studied](t)(stagestore.FindStudied(ctx, s, []string{ada.ID},
		[]string{prop.CourseID}))
	require.Len(t, studied, 1)
	assert.True(t, studied[0].Now)
	assert.Empty(t, must[[]stagestore.Best](t)(stagestore.Bests(ctx, s, []string{ada.ID}, []string{one})),
		"a lesson has no score")
	assert.Empty(t, must[map[string]map[string]bool](t)(stagestore.BadgesHeld(ctx, s, []string{ada.ID}, time.Now())))
	tx(t, s, func(tx *db.Tx) error {
		inside, err := stagestore.FindStudied(ctx, tx, []string{ada.ID}, []string{prop.CourseID})
		assert.Equal(t, studied, inside)
		if err == nil {
			_, err = stagestore.Bests(ctx, tx, []string{ada.ID}, []string{one})
		}
		if err == nil {
			_, err = stagestore.BadgesHeld(ctx, tx, []string{ada.ID}, time.Now())
		}
		return err
	})
}
