package store_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
)

func TestPairings(t *testing.T) {
	w, _ := school(t)
	s, ctx, service := w.Store, t.Context(), w.Workspace()
	prop := w.Section("PROP-A")
	p := paired(t, s, prop, service)
	now := func() pairingstore.Pairing {
		t.Helper()
		return must[pairingstore.Pairing](t)(pairingstore.FindPairing(ctx, s, p.ID))
	}
	missing[pairingstore.Pairing](t)(pairingstore.FindPairing(ctx, s, db.NewID()))

	assert.Len(t, must[map[string]pairingstore.Pairing](t)(pairingstore.PairingsByID(ctx, s,
		[]string{p.ID, db.NewID()})), 1)
	assert.Empty(t, must[[]pairingstore.Pairing](t)(pairingstore.PairingsIn(ctx, s, prop.CourseID, service.ID, nil)),
		"none has run")
	assert.Empty(t, must[[]pairingstore.Pairing](t)(pairingstore.PairingsIn(ctx, s, w.Section("SOIL-A").CourseID, "",
		nil)))
	assert.Equal(t, 1, must[int](t)(pairingstore.CountPairings(ctx, s, service.ID)))
	assert.Len(t, must[[]pairingstore.Pairing](t)(linkstore.PairingsOfSections(ctx, s, []string{prop.ID})), 1)
	assert.Len(t, must[[]*pairingstore.Pairing](t)(pairingstore.Listed(ctx, s)), 1)
	of := must[map[string]rosterstore.Section](t)(pairingstore.SectionsOfPairings(ctx, s, []string{p.ID}))
	assert.Equal(t, prop.ID, of[p.ID].ID)

	run := w.Sync(p.ID, false)
	assert.NotEmpty(t, now().TargetRef)
	assert.Len(t, must[[]pairingstore.Pairing](t)(pairingstore.PairingsOf(ctx, s, service.ID, []string{prop.ID})), 1)
	assert.Len(t, must[[]pairingstore.Pairing](t)(pairingstore.PairingsIn(ctx, s, prop.CourseID, service.ID, nil)), 1)
	assert.Len(t, must[[]pairingstore.Pairing](t)(pairingstore.PairingsIn(ctx, s, "", "", []string{p.ID})), 1)
	held := must[[]pairingstore.Held](t)(pairingstore.TargetsAt(ctx, s, service.ID))
	assert.Equal(t, []pairingstore.Held{{Ref: now().TargetRef, Name: p.TargetName, PairingID: p.ID}}, held)
	assert.False(t, must[bool](t)(pairingstore.OnRemovedInterface(ctx, s, p.ID)))
	assert.Equal(t, map[string]string{p.ID: now().TargetRef},
		must[map[string]string](t)(pairingstore.TargetRefs(ctx, s, []string{p.ID, db.NewID()})))
	assert.NotEmpty(t, must[[]pairingstore.Pairing](t)(pairingstore.Noteworthy(ctx, s, time.Now())))
	assert.NotEmpty(t, must[[]pairingstore.Ending](t)(pairingstore.Endings(ctx, s, time.Now(),
		time.Now().AddDate(2, 0, 0))))

	edited := now()
	edited.TargetName = "Propagation, the first"
	tx(t, s, func(tx *db.Tx) error { return pairingstore.UpdatePairing(tx, &edited) })
	assert.Equal(t, "Propagation, the first", now().TargetName)
	assert.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return pairingstore.UpdatePairing(tx, &p) }), db.ErrStale)

	// By a schedule, and by hand.
	due := time.Now().UTC().Add(-time.Minute).Truncate(time.Millisecond)
	next := now()
	next.NextAt = &due
	tx(t, s, func(tx *db.Tx) error { return pairingstore.Reschedule(ctx, tx, []pairingstore.Pairing{next}) })
	tx(t, s, func(tx *db.Tx) error {
		all, err := pairingstore.DuePairings(ctx, tx, time.Now(), 5)
		assert.Len(t, all, 1)
		return err
	})
	tx(t, s, func(tx *db.Tx) error { return pairingstore.AskComparison(ctx, tx, "Maud", true, now()) })
	asked, total, err := pairingstore.AskedPairings(ctx, s, service.ID, 10)
	require.NoError(t, err)
	require.Len(t, asked, 1)
	assert.Equal(t, 1, total)
	assert.Equal(t, "Maud", asked[0].AskedBy)
	tx(t, s, func(tx *db.Tx) error { return pairingstore.EndAsked(ctx, tx, asked, nil) })
	asked, total, err = pairingstore.AskedPairings(ctx, s, service.ID, 10)
	require.NoError(t, err)
	assert.Empty(t, asked)
	assert.Zero(t, total)
	require.NoError(t, pairingstore.KeepAskTrouble(ctx, s, service.ID, "unreachable", "it is not there"))
	assert.Equal(t, "unreachable", must[connectionstore.Interface](t)(connectionstore.FindInterface(ctx, s,
		service.ID)).TroubleCode)
	require.NoError(t, pairingstore.KeepAskTrouble(ctx, s, service.ID, "", ""))

	// What was told about the guard, and who may approve by mail.
	tx(t, s, func(tx *db.Tx) error { return pairingstore.KeepGuardNotified(ctx, tx, p.ID, 7) })
	tx(t, s, func(tx *db.Tx) error {
		return pairingstore.KeepGuardMails(ctx, tx, p.ID,
			pairingstore.GuardMails{For: 7, To: []string{"maud@fernmoor.example"}})
	})
	assert.Equal(t, 7, now().GuardNotified)
	assert.Equal(t, 7, now().GuardMailed.For)
	maud := accessstore.User{ID: db.NewID(), Name: "Maud", Email: "maud@fernmoor.example"}
	approval := accessstore.Approval{TokenHash: []byte("hash"), PairingID: p.ID, UserID: maud.ID}
	tx(t, s, func(tx *db.Tx) error {
		if err := db.Create(tx, &maud, "test"); err != nil {
			return err
		}
		return db.Create(tx, &approval, "test")
	})
	kept := must[accessstore.Approval](t)(accessstore.FindApproval(ctx, s, []byte("hash")))
	tx(t, s, func(tx *db.Tx) error { return accessstore.UseApproval(ctx, tx, kept) })
	assert.Error(t, s.InTx(ctx, func(tx *db.Tx) error { return accessstore.UseApproval(ctx, tx, kept) }),
		"it works once")
	missing[accessstore.Approval](t)(accessstore.FindApproval(ctx, s, []byte("none")))

	// What is kept of a comparison, of a class that is gone, and of one that is let go.
	counts := roster.Counts{roster.OutcomeInStep: 3}
	mend := []pairingstore.Mend{{
		PersonID: w.Person("stu-005").ID, Name: "Elsa", Outcome: roster.OutcomeNeedsPerson,
		Code: finding.AddressMissing,
	}}
	tx(t, s, func(tx *db.Tx) error {
		return pairingstore.KeepStatus(ctx, tx, p.ID, "Propagation", counts, mend, nil, 2, 1)
	})
	assert.Equal(t, []any{counts, 2, 1, "Propagation"},
		[]any{now().Counts, now().Guarded, now().Unminded, now().TargetSeen})
	tx(t, s, func(tx *db.Tx) error { return pairingstore.KeepReleased(ctx, tx, p.ID, roster.Counts{}, nil) })
	assert.Empty(t, now().Counts)
	tx(t, s, func(tx *db.Tx) error { return pairingstore.KeepTargetLost(ctx, tx, p.ID) })
	assert.True(t, now().TargetLost)
	tx(t, s, func(tx *db.Tx) error { return pairingstore.SetTarget(ctx, tx, p.ID, "g-9") })
	assert.Equal(t, "g-9", now().TargetRef)
	tx(t, s, func(tx *db.Tx) error { return pairingstore.PausePairing(ctx, tx, p.ID) })
	assert.NotNil(t, now().PausedAt)
	tx(t, s, func(tx *db.Tx) error { return pairingstore.ForgetTarget(ctx, tx, p.ID) })
	moved := now()
	assert.Empty(t, now().TargetRef)
	tx(t, s, func(tx *db.Tx) error { return pairingstore.SetTarget(ctx, tx, p.ID, "g-9") })
	moved = now()
	tx(t, s, func(tx *db.Tx) error { return pairingstore.MovePairing(ctx, tx, &moved, w.Section("PROP-C").ID, nil) })
	assert.Equal(t, w.Section("PROP-C").ID, now().SectionID)
	tx(t, s, func(tx *db.Tx) error { return pairingstore.InheritPlacements(ctx, tx, now()) })
	tx(t, s, func(tx *db.Tx) error { return pairingstore.EndPairing(ctx, tx, p.ID) })
	assert.NotNil(t, now().EndedAt)
	assert.Equal(t, []string{w.Section("PROP-C").ID}, must[[]string](t)(pairingstore.SectionsOfTarget(ctx, s,
		service.ID, now().TargetRef)))
	assert.Empty(t, must[[]pairingstore.Pairing](t)(linkstore.PairingsOfSections(ctx, s,
		[]string{w.Section("PROP-C").ID})))
	assert.NotEmpty(t, run.ID)
}

// Who is minded by Kanban in a class that was there before.
func TestTakeOvers(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	p := paired(t, s, w.Section("PROP-A"), w.Workspace())
	run := w.Sync(p.ID, false)
	ada := w.Person("stu-001")
	tx(t, s, func(tx *db.Tx) error { return pairingstore.KeepPlacement(ctx, tx, p.ID, "u-1", ada.ID, "Ada Alder") })
	tx(t, s, func(tx *db.Tx) error { return pairingstore.DropPlacement(ctx, tx, p.ID, "u-1") })
	entries := []roster.Entry{{PersonID: ada.ID, AccountID: "u-2", Name: "Ada Alder"}}
	tx(t, s, func(tx *db.Tx) error { return pairingstore.TakeOver(ctx, tx, p.ID, run.ID, entries) })
	tx(t, s, func(tx *db.Tx) error { return pairingstore.GiveOver(ctx, tx, p.ID, run.ID) })
	for _, yes := range []bool{true, false} {
		tx(t, s, func(tx *db.Tx) error { return pairingstore.DecideTakeOver(ctx, tx, p.ID, yes) })
		assert.Equal(t, yes, must[pairingstore.Pairing](t)(pairingstore.FindPairing(ctx, s,
			p.ID)).TakeOver == pairingstore.TakesOverNext)
	}
}

func TestPreviewsRunsAndChanges(t *testing.T) {
	w, _ := school(t)
	s, ctx, service := w.Store, t.Context(), w.Workspace()
	p := paired(t, s, w.Section("PROP-A"), service)
	preview, err := w.Runs.Preview(ctx, p.ID)
	require.NoError(t, err)
	assert.Equal(t, preview.Fingerprint, must[pairingstore.Preview](t)(pairingstore.FindPreview(ctx, s,
		preview.ID)).Fingerprint)
	run, err := w.Runs.Start(ctx, "test", preview.ID, false)
	require.NoError(t, err)
	now := func() runstore.Run { t.Helper(); return must[runstore.Run](t)(runstore.FindRun(ctx, s, run.ID)) }

	assert.Equal(t, run.ID, must[runstore.Run](t)(runstore.ActiveRun(ctx, s, "pairing_id", p.ID)).ID)
	assert.Equal(t, 1, must[int](t)(runstore.CountRunning(ctx, s)))
	behind := runstore.Run{ID: db.NewID(), Kind: runstore.RunSync, CreatedAt: time.Now().Add(time.Minute)}
	place := must[runstore.Queue](t)(runstore.QueueOf(ctx, s, behind))
	assert.Equal(t, 1, place.Ahead)
	assert.Zero(t, place.Pace, "nothing has ended, so nobody knows how long it takes")
	require.NoError(t, runstore.StartRun(ctx, s, run.ID, "changing"))
	require.NoError(t, runstore.KeepRunProgress(ctx, s, run.ID, "changing", 2, 9))
	assert.Equal(t, []any{2, 9, "changing"}, []any{now().Done, now().Total, now().Step})
	assert.True(t, must[map[string]bool](t)(runstore.RunningPairings(ctx, s))[p.ID])
	tx(t, s, func(tx *db.Tx) error {
		ok, err := runstore.AskCancel(ctx, tx, run.ID)
		assert.True(t, ok)
		return err
	})
	assert.True(t, now().CancelAsked)

	again := s.InTx(ctx, func(tx *db.Tx) error {
		return runstore.AddChanges(tx, run.ID, preview.Plan, func(roster.Entry) bool { return true })
	})
	require.ErrorIs(t, again, db.ErrTaken, "they were written when it was asked for")
	changes := must[[]runstore.Change](t)(runstore.Changes(ctx, s, run.ID))
	require.NotEmpty(t, changes)
	require.NoError(t, runstore.MarkStarted(ctx, s, run.ID, changes[0].Position))
	ended := changes[0]
	ended.State, ended.Code, ended.Answer = "refused", string(finding.RefusedByService), "no"
	tx(t, s, func(tx *db.Tx) error { return runstore.MarkEnded(ctx, tx, ended) })
	assert.Equal(t, "refused", must[[]runstore.Change](t)(runstore.Changes(ctx, s, run.ID))[0].State)
	assert.NotEmpty(t, must[map[string]map[string]runstore.Change](t)(runstore.RefusedOf(ctx, s, []string{run.ID})))
	assert.Empty(t, must[[]runstore.Change](t)(runstore.UnendedAdditions(ctx, s, p.ID, run.ID)))
	finished := now()
	finished.State, finished.Counts = runstore.Failed, map[string]int{"added": 1}
	tx(t, s, func(tx *db.Tx) error { return runstore.FinishRun(ctx, tx, &finished) })
	assert.NotNil(t, now().FinishedAt)
	missing[runstore.Run](t)(runstore.ActiveRun(ctx, s, "pairing_id", p.ID))
	tx(t, s, func(tx *db.Tx) error { return runstore.ReopenRun(ctx, tx, run.ID) })
	assert.True(t, now().Active())
	assert.Empty(t, must[string](t)(runstore.RevertedBy(ctx, s, run.ID)))
	all := must[[]runstore.Run](t)(runstore.Runs(ctx, s, runstore.Wanted{Limit: 1}))
	require.Len(t, all, 1)
	assert.Len(t, must[[]runstore.Run](t)(runstore.Runs(ctx, s, runstore.Wanted{Before: all[0].ID, Limit: 10})), 1,
		"what is before it: the read")
	assert.Len(t, must[[]runstore.Run](t)(runstore.Runs(ctx, s, runstore.Wanted{PairingID: p.ID, Limit: 10})), 1)
	require.NoError(t, pairingstore.ForgetPreviews(ctx, s, time.Now().Add(time.Hour)))
}

func TestBatches(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	b := runstore.Batch{
		ID: db.NewID(), Act: "pair", Options: json.RawMessage(`{}`),
		Items: json.RawMessage(`[{"title": "A"}, {"title": "B"}]`), MadeBy: "Maud",
	}
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &b, "test") })
	missing[runstore.Batch](t)(runstore.FindBatch(ctx, s, db.NewID()))
	tx(t, s, func(tx *db.Tx) error { return runstore.ApplyBatch(ctx, tx, b.ID, "Otto", true) })
	assert.Error(t, s.InTx(ctx, func(tx *db.Tx) error { return runstore.ApplyBatch(ctx, tx, b.ID, "Otto", true) }),
		"it is done once")
	tx(t, s, func(tx *db.Tx) error {
		return runstore.KeepResult(ctx, tx, b.ID, 1,
			json.RawMessage(`{"done": true}`))
	})
	results := must[map[int]json.RawMessage](t)(runstore.BatchResults(ctx, s, b.ID))
	require.Len(t, results, 1)
	assert.JSONEq(t, `{"done": true}`, string(results[1]))
	tx(t, s, func(tx *db.Tx) error { return runstore.EndBatch(ctx, tx, b.ID, json.RawMessage(`[]`)) })
	kept := must[runstore.Batch](t)(runstore.FindBatch(ctx, s, b.ID))
	assert.Equal(t, "Otto", kept.DoneBy)
	assert.NotNil(t, kept.EndedAt)
	assert.Empty(t, must[[]runstore.Run](t)(runstore.BatchRuns(ctx, s, b.ID)))
	assert.Len(t, must[[]runstore.ListedBatch](t)(runstore.Batches(ctx, s, "", 10)), 1)
	assert.Empty(t, must[[]runstore.ListedBatch](t)(runstore.Batches(ctx, s, b.ID, 10)))
}

func TestLinkedSets(t *testing.T) {
	w, _ := school(t)
	s, ctx, service := w.Store, t.Context(), w.Workspace()
	a, b, c := w.Section("PROP-A"), w.Section("PROP-B"), w.Section("PROP-C")
	set := linkstore.LinkedSet{
		ID: db.NewID(), Name: "Propagation", LeadID: a.ID, MadeBy: "Maud", Version: 1,
		Sections: []rosterstore.Section{a, b},
	}
	tx(t, s, func(tx *db.Tx) error { return linkstore.LinkSections(ctx, tx, &set) })
	assert.Len(t, must[linkstore.LinkedSet](t)(linkstore.FindLinkedSet(ctx, s, set.ID)).Sections, 2)
	missing[linkstore.LinkedSet](t)(linkstore.FindLinkedSet(ctx, s, db.NewID()))
	assert.Len(t, must[[]linkstore.LinkedSet](t)(linkstore.LinkedSets(ctx, s)), 1)
	edited := must[linkstore.LinkedSet](t)(linkstore.FindLinkedSet(ctx, s, set.ID))
	edited.Sections, edited.LeadID = []rosterstore.Section{b, c}, b.ID
	tx(t, s, func(tx *db.Tx) error { return linkstore.EditSet(ctx, tx, &edited) })
	assert.Equal(t, b.ID, must[linkstore.LinkedSet](t)(linkstore.FindLinkedSet(ctx, s, set.ID)).LeadID)

	p := paired(t, s, b, service)
	tx(t, s, func(tx *db.Tx) error { return linkstore.SetGroup(ctx, tx, p.ID, b.ID, "g-b") })
	tx(t, s, func(tx *db.Tx) error { return linkstore.SetGroup(ctx, tx, p.ID, a.ID, "g-a") })
	assert.Equal(t, map[string]string{b.ID: "g-b", a.ID: "g-a"},
		must[map[string]string](t)(linkstore.Groups(ctx, s, p.ID)))
	assert.Len(t, must[map[string]map[string]string](t)(linkstore.GroupsOf(ctx, s, []string{p.ID}))[p.ID], 2)
	tx(t, s, func(tx *db.Tx) error {
		return pairingstore.KeepPlacement(ctx, tx, p.ID, "u-1", w.Person("stu-001").ID, "Ada")
	})
	tx(t, s, func(tx *db.Tx) error {
		return linkstore.KeepGrouping(ctx, tx, p.ID, "u-1", []string{b.ID}, []string{a.ID})
	})
	left := must[[]linkstore.LeftGroup](t)(linkstore.LeftGroups(ctx, s, service.ID))
	for _, g := range left {
		tx(t, s, func(tx *db.Tx) error { return linkstore.ForgetGroup(ctx, tx, g) })
	}
	assert.Empty(t, must[[]linkstore.LeftGroup](t)(linkstore.LeftGroups(ctx, s, "")))

	kept := linkstore.SafetyCopy{ID: db.NewID(), SetID: set.ID, Content: []byte("PK"), People: 3, Results: 1}
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &kept, "test") })
	assert.Len(t, must[[]linkstore.SafetyCopy](t)(linkstore.SafetyCopies(ctx, s, set.ID)), 1)
	assert.Equal(t, []byte("PK"), must[linkstore.SafetyCopy](t)(linkstore.FindSafetyCopy(ctx, s, kept.ID)).Content)
	missing[linkstore.SafetyCopy](t)(linkstore.FindSafetyCopy(ctx, s, db.NewID()))

	gone := must[linkstore.LinkedSet](t)(linkstore.FindLinkedSet(ctx, s, set.ID))
	tx(t, s, func(tx *db.Tx) error { return linkstore.Unlink(ctx, tx, gone) })
	assert.Empty(t, must[[]linkstore.LinkedSet](t)(linkstore.LinkedSets(ctx, s)))
	assert.Len(t, must[[]linkstore.LinkedSet](t)(linkstore.UnlinkedSets(ctx, s)), 1)
}
