package store_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/store"
)

func TestPairings(t *testing.T) {
	w, _ := school(t)
	s, ctx, service := w.Store, t.Context(), w.Workspace()
	prop := w.Section("PROP-A")
	p := paired(t, s, prop, service)
	now := func() store.Pairing { t.Helper(); return must[store.Pairing](t)(s.Pairing(ctx, p.ID)) }
	missing[store.Pairing](t)(s.Pairing(ctx, store.NewID()))

	assert.Len(t, must[map[string]store.Pairing](t)(s.PairingsByID(ctx, []string{p.ID, store.NewID()})), 1)
	assert.Empty(t, must[[]store.Pairing](t)(s.PairingsIn(ctx, prop.CourseID, service.ID, nil)), "none has run")
	assert.Empty(t, must[[]store.Pairing](t)(s.PairingsIn(ctx, w.Section("SOIL-A").CourseID, "", nil)))
	assert.Equal(t, 1, must[int](t)(s.CountPairings(ctx, service.ID)))
	assert.Len(t, must[[]store.Pairing](t)(s.PairingsOfSections(ctx, []string{prop.ID})), 1)
	assert.Len(t, must[[]*store.Pairing](t)(s.Listed(ctx)), 1)
	of := must[map[string]store.Section](t)(s.SectionsOfPairings(ctx, []string{p.ID}))
	assert.Equal(t, prop.ID, of[p.ID].ID)

	run := w.Sync(p.ID, false)
	assert.NotEmpty(t, now().TargetRef)
	assert.Len(t, must[[]store.Pairing](t)(s.PairingsOf(ctx, service.ID, []string{prop.ID})), 1)
	assert.Len(t, must[[]store.Pairing](t)(s.PairingsIn(ctx, prop.CourseID, service.ID, nil)), 1)
	assert.Len(t, must[[]store.Pairing](t)(s.PairingsIn(ctx, "", "", []string{p.ID})), 1)
	held := must[[]store.Held](t)(s.TargetsAt(ctx, service.ID))
	assert.Equal(t, []store.Held{{Ref: now().TargetRef, Name: p.TargetName, PairingID: p.ID}}, held)
	assert.False(t, must[bool](t)(s.OnRemovedConnection(ctx, p.ID)))
	assert.NotEmpty(t, must[[]store.Pairing](t)(s.Noteworthy(ctx, time.Now())))
	assert.NotEmpty(t, must[[]store.Ending](t)(s.Endings(ctx, time.Now(), time.Now().AddDate(2, 0, 0))))

	edited := now()
	edited.TargetName = "Propagation, the first"
	tx(t, s, func(tx *store.Tx) error { return tx.UpdatePairing(&edited) })
	assert.Equal(t, "Propagation, the first", now().TargetName)
	assert.ErrorIs(t, s.InTx(ctx, func(tx *store.Tx) error { return tx.UpdatePairing(&p) }), store.ErrStale)

	// By a schedule, and by hand.
	due := time.Now().UTC().Add(-time.Minute).Truncate(time.Millisecond)
	next := now()
	next.NextAt = &due
	tx(t, s, func(tx *store.Tx) error { return tx.Reschedule(ctx, []store.Pairing{next}) })
	tx(t, s, func(tx *store.Tx) error {
		all, err := tx.Due(ctx, time.Now(), 5)
		assert.Len(t, all, 1)
		return err
	})
	tx(t, s, func(tx *store.Tx) error { return tx.Ask(ctx, "Maud", true, now()) })
	asked, total, err := s.Asked(ctx, service.ID, 10)
	require.NoError(t, err)
	require.Len(t, asked, 1)
	assert.Equal(t, 1, total)
	assert.Equal(t, "Maud", asked[0].AskedBy)
	tx(t, s, func(tx *store.Tx) error { return tx.Answered(ctx, asked, nil) })
	asked, total, err = s.Asked(ctx, service.ID, 10)
	require.NoError(t, err)
	assert.Empty(t, asked)
	assert.Zero(t, total)
	require.NoError(t, s.Trouble(ctx, service.ID, "unreachable", "it is not there"))
	assert.Equal(t, "unreachable", must[store.Connection](t)(s.Connection(ctx, service.ID)).TroubleCode)
	require.NoError(t, s.Trouble(ctx, service.ID, "", ""))

	// What was told about the guard, and who may approve by mail.
	tx(t, s, func(tx *store.Tx) error { return tx.Told(ctx, p.ID, 7) })
	tx(t, s, func(tx *store.Tx) error {
		return tx.Mailed(ctx, p.ID, store.GuardMails{For: 7, To: []string{"maud@fernmoor.example"}})
	})
	assert.Equal(t, 7, now().GuardTold)
	assert.Equal(t, 7, now().GuardMailed.For)
	maud := store.Administrator{ID: store.NewID(), Name: "Maud", Email: "maud@fernmoor.example", Role: "administrator"}
	approval := store.Approval{TokenHash: []byte("hash"), PairingID: p.ID, AdministratorID: maud.ID}
	tx(t, s, func(tx *store.Tx) error {
		if err := store.Create(tx, &maud, "test"); err != nil {
			return err
		}
		return store.Create(tx, &approval, "test")
	})
	kept := must[store.Approval](t)(s.Approval(ctx, []byte("hash")))
	tx(t, s, func(tx *store.Tx) error { return tx.UseApproval(ctx, kept) })
	assert.Error(t, s.InTx(ctx, func(tx *store.Tx) error { return tx.UseApproval(ctx, kept) }), "it works once")
	missing[store.Approval](t)(s.Approval(ctx, []byte("none")))

	// What is kept of a comparison, of a class that is gone, and of one that is let go.
	counts := roster.Counts{roster.OutcomeInStep: 3}
	mend := []store.Mend{{PersonID: w.Person("stu-005").ID, Name: "Elsa", Outcome: roster.OutcomeNeedsPerson, Code: finding.AddressMissing}}
	tx(t, s, func(tx *store.Tx) error { return tx.KeepStanding(ctx, p.ID, "Propagation", counts, mend, nil, 2, 1) })
	assert.Equal(t, []any{counts, 2, 1, "Propagation"}, []any{now().Counts, now().Guarded, now().Unminded, now().TargetSeen})
	tx(t, s, func(tx *store.Tx) error { return tx.KeepReleased(ctx, p.ID, roster.Counts{}, nil) })
	assert.Empty(t, now().Counts)
	tx(t, s, func(tx *store.Tx) error { return tx.Lost(ctx, p.ID) })
	assert.Equal(t, store.TargetLost, now().TargetSeen)
	tx(t, s, func(tx *store.Tx) error { return tx.SetTarget(ctx, p.ID, "g-9") })
	assert.Equal(t, "g-9", now().TargetRef)
	tx(t, s, func(tx *store.Tx) error { return tx.Pause(ctx, p.ID) })
	assert.NotNil(t, now().PausedAt)
	tx(t, s, func(tx *store.Tx) error { return tx.Forget(ctx, p.ID) })
	moved := now()
	assert.Empty(t, now().TargetRef)
	tx(t, s, func(tx *store.Tx) error { return tx.SetTarget(ctx, p.ID, "g-9") })
	moved = now()
	tx(t, s, func(tx *store.Tx) error { return tx.MovePairing(ctx, &moved, w.Section("PROP-C").ID, nil) })
	assert.Equal(t, w.Section("PROP-C").ID, now().SectionID)
	tx(t, s, func(tx *store.Tx) error { return tx.Remember(ctx, now()) })
	tx(t, s, func(tx *store.Tx) error { return tx.End(ctx, p.ID) })
	assert.NotNil(t, now().EndedAt)
	assert.Equal(t, []string{w.Section("PROP-C").ID}, must[[]string](t)(s.SectionsOfTarget(ctx, service.ID, now().TargetRef)))
	assert.Empty(t, must[[]store.Pairing](t)(s.PairingsOfSections(ctx, []string{w.Section("PROP-C").ID})))
	assert.NotEmpty(t, run.ID)
}

// Who is minded by Kanban in a class that was there before.
func TestTakeOvers(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	p := paired(t, s, w.Section("PROP-A"), w.Workspace())
	run := w.Sync(p.ID, false)
	ada := w.Person("stu-001")
	tx(t, s, func(tx *store.Tx) error { return tx.Place(ctx, p.ID, "u-1", ada.ID, "Ada Alder") })
	tx(t, s, func(tx *store.Tx) error { return tx.Unplace(ctx, p.ID, "u-1") })
	entries := []roster.Entry{{PersonID: ada.ID, AccountID: "u-2", Name: "Ada Alder"}}
	tx(t, s, func(tx *store.Tx) error { return tx.TakeOver(ctx, p.ID, run.ID, entries) })
	tx(t, s, func(tx *store.Tx) error { return tx.GiveOver(ctx, p.ID, run.ID) })
	for _, yes := range []bool{true, false} {
		tx(t, s, func(tx *store.Tx) error { return tx.DecideTakeOver(ctx, p.ID, yes) })
		assert.Equal(t, yes, must[store.Pairing](t)(s.Pairing(ctx, p.ID)).TakeOver == store.TakesOverNext)
	}
}

func TestPreviewsRunsAndChanges(t *testing.T) {
	w, _ := school(t)
	s, ctx, service := w.Store, t.Context(), w.Workspace()
	p := paired(t, s, w.Section("PROP-A"), service)
	preview, err := w.Runs.Preview(ctx, p.ID)
	require.NoError(t, err)
	assert.Equal(t, preview.Fingerprint, must[store.Preview](t)(s.Preview(ctx, preview.ID)).Fingerprint)
	run, err := w.Runs.Start(ctx, "test", preview.ID, false)
	require.NoError(t, err)
	now := func() store.Run { t.Helper(); return must[store.Run](t)(s.Run(ctx, run.ID)) }

	assert.Equal(t, run.ID, must[store.Run](t)(s.ActiveRun(ctx, "pairing_id", p.ID)).ID)
	assert.Equal(t, 1, must[int](t)(s.CountRunning(ctx)))
	require.NoError(t, s.StartRun(ctx, run.ID, "changing"))
	require.NoError(t, s.Progress(ctx, run.ID, "changing", 2, 9))
	assert.Equal(t, []any{2, 9, "changing"}, []any{now().Done, now().Total, now().Step})
	assert.True(t, must[map[string]bool](t)(s.Running(ctx))[p.ID])
	tx(t, s, func(tx *store.Tx) error {
		ok, err := tx.AskCancel(ctx, run.ID)
		assert.True(t, ok)
		return err
	})
	assert.True(t, now().CancelAsked)

	again := s.InTx(ctx, func(tx *store.Tx) error {
		return tx.AddChanges(run.ID, preview.Plan, func(roster.Entry) bool { return true })
	})
	require.ErrorIs(t, again, store.ErrTaken, "they were written when it was asked for")
	changes := must[[]store.Change](t)(s.Changes(ctx, run.ID))
	require.NotEmpty(t, changes)
	require.NoError(t, s.MarkStarted(ctx, run.ID, changes[0].Position))
	ended := changes[0]
	ended.State, ended.Code, ended.Answer = "refused", string(finding.RefusedByService), "no"
	tx(t, s, func(tx *store.Tx) error { return tx.MarkEnded(ctx, ended) })
	assert.Equal(t, "refused", must[[]store.Change](t)(s.Changes(ctx, run.ID))[0].State)
	assert.NotEmpty(t, must[map[string]map[string]store.Change](t)(s.RefusedOf(ctx, []string{run.ID})))
	assert.Empty(t, must[[]store.Change](t)(s.UnendedAdditions(ctx, p.ID, run.ID)))
	finished := now()
	finished.State, finished.Counts = store.Failed, map[string]int{"added": 1}
	tx(t, s, func(tx *store.Tx) error { return tx.FinishRun(ctx, &finished) })
	assert.NotNil(t, now().FinishedAt)
	missing[store.Run](t)(s.ActiveRun(ctx, "pairing_id", p.ID))
	tx(t, s, func(tx *store.Tx) error { return tx.ReopenRun(ctx, run.ID) })
	assert.True(t, now().Active())
	assert.Empty(t, must[string](t)(s.RevertedBy(ctx, run.ID)))
	all := must[[]store.Run](t)(s.Runs(ctx, "", "", "", 1))
	require.Len(t, all, 1)
	assert.Len(t, must[[]store.Run](t)(s.Runs(ctx, "", "", all[0].ID, 10)), 1, "what is before it: the read")
	assert.Len(t, must[[]store.Run](t)(s.Runs(ctx, p.ID, "", "", 10)), 1)
	require.NoError(t, s.ForgetPreviews(ctx, time.Now().Add(time.Hour)))
}

func TestBatches(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	b := store.Batch{ID: store.NewID(), Act: "pair", Options: json.RawMessage(`{}`), Items: json.RawMessage(`[{"title": "A"}, {"title": "B"}]`), MadeBy: "Maud"}
	tx(t, s, func(tx *store.Tx) error { return store.Create(tx, &b, "test") })
	missing[store.Batch](t)(s.Batch(ctx, store.NewID()))
	tx(t, s, func(tx *store.Tx) error { return tx.ApplyBatch(ctx, b.ID, "Otto", true) })
	assert.Error(t, s.InTx(ctx, func(tx *store.Tx) error { return tx.ApplyBatch(ctx, b.ID, "Otto", true) }), "it is done once")
	tx(t, s, func(tx *store.Tx) error { return tx.KeepResult(ctx, b.ID, 1, json.RawMessage(`{"done": true}`)) })
	results := must[map[int]json.RawMessage](t)(s.BatchResults(ctx, b.ID))
	require.Len(t, results, 1)
	assert.JSONEq(t, `{"done": true}`, string(results[1]))
	tx(t, s, func(tx *store.Tx) error { return tx.EndBatch(ctx, b.ID, json.RawMessage(`[]`)) })
	kept := must[store.Batch](t)(s.Batch(ctx, b.ID))
	assert.Equal(t, "Otto", kept.DoneBy)
	assert.NotNil(t, kept.EndedAt)
	assert.Empty(t, must[[]store.Run](t)(s.BatchRuns(ctx, b.ID)))
	assert.Len(t, must[[]store.ListedBatch](t)(s.Batches(ctx, "", 10)), 1)
	assert.Empty(t, must[[]store.ListedBatch](t)(s.Batches(ctx, b.ID, 10)))
}

func TestLinkedSets(t *testing.T) {
	w, _ := school(t)
	s, ctx, service := w.Store, t.Context(), w.Workspace()
	a, b, c := w.Section("PROP-A"), w.Section("PROP-B"), w.Section("PROP-C")
	set := store.LinkedSet{ID: store.NewID(), Name: "Propagation", LeadID: a.ID, MadeBy: "Maud", Version: 1, Sections: []store.Section{a, b}}
	tx(t, s, func(tx *store.Tx) error { return tx.LinkSections(ctx, &set) })
	assert.Len(t, must[store.LinkedSet](t)(s.LinkedSet(ctx, set.ID)).Sections, 2)
	missing[store.LinkedSet](t)(s.LinkedSet(ctx, store.NewID()))
	assert.Len(t, must[[]store.LinkedSet](t)(s.LinkedSets(ctx)), 1)
	edited := must[store.LinkedSet](t)(s.LinkedSet(ctx, set.ID))
	edited.Sections, edited.LeadID = []store.Section{b, c}, b.ID
	tx(t, s, func(tx *store.Tx) error { return tx.EditSet(ctx, &edited) })
	assert.Equal(t, b.ID, must[store.LinkedSet](t)(s.LinkedSet(ctx, set.ID)).LeadID)

	p := paired(t, s, b, service)
	tx(t, s, func(tx *store.Tx) error { return tx.SetGroup(ctx, p.ID, b.ID, "g-b") })
	tx(t, s, func(tx *store.Tx) error { return tx.SetGroup(ctx, p.ID, a.ID, "g-a") })
	assert.Equal(t, map[string]string{b.ID: "g-b", a.ID: "g-a"}, must[map[string]string](t)(s.Groups(ctx, p.ID)))
	assert.Len(t, must[map[string]map[string]string](t)(s.GroupsOf(ctx, []string{p.ID}))[p.ID], 2)
	tx(t, s, func(tx *store.Tx) error { return tx.Place(ctx, p.ID, "u-1", w.Person("stu-001").ID, "Ada") })
	tx(t, s, func(tx *store.Tx) error { return tx.Regroup(ctx, p.ID, "u-1", []string{b.ID}, []string{a.ID}) })
	left := must[[]store.LeftGroup](t)(s.LeftGroups(ctx, service.ID))
	for _, g := range left {
		tx(t, s, func(tx *store.Tx) error { return tx.ForgetGroup(ctx, g) })
	}
	assert.Empty(t, must[[]store.LeftGroup](t)(s.LeftGroups(ctx, "")))

	kept := store.SafetyCopy{ID: store.NewID(), SetID: set.ID, Content: []byte("PK"), People: 3, Results: 1}
	tx(t, s, func(tx *store.Tx) error { return store.Create(tx, &kept, "test") })
	assert.Len(t, must[[]store.SafetyCopy](t)(s.SafetyCopies(ctx, set.ID)), 1)
	assert.Equal(t, []byte("PK"), must[store.SafetyCopy](t)(s.SafetyCopy(ctx, kept.ID)).Content)
	missing[store.SafetyCopy](t)(s.SafetyCopy(ctx, store.NewID()))

	gone := must[store.LinkedSet](t)(s.LinkedSet(ctx, set.ID))
	tx(t, s, func(tx *store.Tx) error { return tx.Unlink(ctx, gone) })
	assert.Empty(t, must[[]store.LinkedSet](t)(s.LinkedSets(ctx)))
	assert.Len(t, must[[]store.LinkedSet](t)(s.UnlinkedSets(ctx)), 1)
}
