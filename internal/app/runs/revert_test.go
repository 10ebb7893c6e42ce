package runs_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
)

// What a run did is undone, shown beforehand, once; the pairing then rests.
func TestRunIsReverted_R11(t *testing.T) {
	policy := roster.DefaultPolicy()
	policy.Leavers = roster.LeaversDeactivate
	w, register, p := paired(t, policy)
	first := w.Sync(p.ID, false)
	assert.Equal(t, 13, first.Counts["added"])
	require.NoError(t, w.Standins.School.Withdraw("stu-025", "sec-prop-c"))
	require.NoError(t, w.Standins.School.SetName("stu-026", "Zo", "Zinnia"))
	w.Read(register, false)
	second := w.Sync(p.ID, false)
	assert.Equal(t, 1, second.Counts["removed"])
	assert.Equal(t, 1, second.Counts["updated"])

	undo := func(runID string) runstore.Run {
		preview, err := w.Runs.Revert(t.Context(), runID)
		require.NoError(t, err)
		r, err := w.Runs.Start(t.Context(), "test", preview.ID, false)
		require.NoError(t, err)
		require.NoError(t, w.Runs.Work(t.Context(), r.ID, true))
		r, err = runstore.FindRun(t.Context(), w.Store, r.ID)
		require.NoError(t, err)
		require.Contains(t, []string{runstore.Finished, runstore.NeedsPerson}, r.State, r.Error)
		return r
	}
	r := undo(second.ID)
	assert.Equal(t, 1, r.Counts["added"])
	assert.Equal(t, 1, r.Counts["updated"])
	lines, err := w.Runs.Lines(t.Context(), p.ID)
	require.NoError(t, err)
	for _, l := range lines {
		if l.Account != nil && l.Account.GivenName == "Emil" {
			assert.True(t, l.Account.Active && l.Account.InTarget, "back in, and switched on")
		}
		if l.Member != nil && l.Member.Identifier == "stu-026" {
			assert.Equal(t, "Zora", l.Account.GivenName, "called what they were called")
			assert.Equal(t, roster.OutcomeUpdate, l.Outcome)
		}
	}
	kept, err := pairingstore.FindPairing(t.Context(), w.Store, p.ID)
	require.NoError(t, err)
	assert.NotNil(t, kept.PausedAt, "or the next run would do it all again")
	by, err := runstore.RevertedBy(t.Context(), w.Store, second.ID)
	require.NoError(t, err)
	assert.Equal(t, r.ID, by)

	again, err := w.Runs.Revert(t.Context(), second.ID)
	require.NoError(t, err)
	assert.Zero(t, again.Plan.Counts().Changes(), "twice does nothing")
	r = undo(first.ID)
	assert.Equal(t, 13, r.Counts["removed"])
	_, err = w.Runs.Revert(t.Context(), r.ID)
	assert.ErrorContains(t, err, "reverted another one")
	runs, err := runstore.Runs(t.Context(), w.Store, runstore.Wanted{InterfaceID: register.ID, Limit: 1})
	require.NoError(t, err)
	_, err = w.Runs.Revert(t.Context(), runs[0].ID)
	assert.ErrorContains(t, err, "a read cannot be reverted")
}

// Findings: who needs a person, who waits and who is left out are kept apart;
// what was acknowledged is quiet until it changes.
func TestFindingsAreAcknowledgedUntilTheyChange_P3(t *testing.T) {
	w, register, p := pairedWith(t, "PROP-A", roster.DefaultPolicy())
	w.Sync(p.ID, false)
	reported := &findings.Service{Store: w.Store}
	count := func(f findings.Filter) map[finding.Code]int {
		list, err := reported.Findings(t.Context(), f)
		require.NoError(t, err)
		out := map[finding.Code]int{}
		for _, x := range list {
			out[x.Code]++
		}
		return out
	}
	assert.Equal(t, map[finding.Code]int{
		finding.AddressShared: 2, finding.AddressMissing: 1,
		finding.RefusedByService: 1,
	}, count(findings.Filter{Group: findings.Mend}))
	assert.Equal(t, map[finding.Code]int{finding.AccountInactive: 1}, count(findings.Filter{Group: findings.Waiting}))
	assert.Equal(t, map[finding.Code]int{finding.TestLearner: 1, finding.SecondAccount: 1},
		count(findings.Filter{Group: findings.LeftOut}))
	assert.Len(t, count(findings.Filter{Owner: string(finding.OwnerLearner)}), 1)

	today, err := reported.Today(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, today, 4)
	require.NoError(t, reported.Acknowledge(t.Context(), "test", today[0].Key, "the office knows", nil))
	assert.ErrorContains(t, reported.Acknowledge(t.Context(), "test", today[1].Key, " ", nil), "say why")
	assert.ErrorContains(t, reported.Acknowledge(t.Context(), "test", "nothing", "x", nil), "there is no finding")
	seen, err := reported.Findings(t.Context(), findings.Filter{Seen: true})
	require.NoError(t, err)
	require.Len(t, seen, 1)
	assert.Equal(t, "the office knows", seen[0].Seen.Note)
	today, err = reported.Today(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, today, 3)

	// Cleo and Dario share an address; when Dario shares one with another person
	// instead, that is another finding.
	require.NoError(t, w.Standins.School.SetEmail("stu-003", "bram.birch@fernmoor.example"))
	require.NoError(t, w.Standins.School.SetEmail("stu-004", "bram.birch@fernmoor.example"))
	w.Read(register, false)
	_, err = w.Runs.Compare(t.Context(), p.ID)
	require.NoError(t, err)
	assert.NotZero(t, count(findings.Filter{Group: findings.Mend})[finding.AddressShared])
	if seen[0].Code == finding.AddressShared {
		assert.Empty(t, count(findings.Filter{Seen: true}), "what changed shows again")
	}

	list, err := reported.Pairing(t.Context(), mustPairing(t, w.Store, p.ID))
	require.NoError(t, err)
	assert.False(t, list.Live())
	fresh, err := reported.Freshness(t.Context(), mustPairing(t, w.Store, p.ID), 0)
	require.NoError(t, err)
	assert.NotNil(t, fresh.ReadAt)
	assert.Contains(t, fresh.StoppedBy, "by hand only")
}

func mustPairing(t *testing.T, s *db.Database, id string) pairingstore.Pairing {
	t.Helper()
	p, err := pairingstore.FindPairing(t.Context(), s, id)
	require.NoError(t, err)
	return p
}
