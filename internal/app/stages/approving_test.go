package stages_test

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/stages"
	"kanban/internal/core/refusal"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/stagestore"
)

// shower asks somebody to say that a graft was shown, or a module.
func (w *world) shower() stagestore.StagePlan {
	return stagestore.StagePlan{Name: "Shower", CourseID: w.course, AnyOrder: true, Stages: []stage.Stage{
		{Title: "Shown", BadgeID: w.seeds.ID, Criteria: []stage.Criterion{{
			Kind: stage.Approval,
			What: "Shows a graft",
		}}},
		{Title: "Both ways", Criteria: []stage.Criterion{{Kind: stage.Any, Of: []stage.Criterion{
			{Kind: stage.Module, ModuleID: "m2"}, {Kind: stage.Approval, What: "Shows a cutting"},
		}}}},
		{Title: "Sower", Criteria: []stage.Criterion{{Kind: stage.Module, ModuleID: "m1"}}},
	}}
}

// What somebody approves counts at once, however often and by however many at a time; taken back, the stage is open
// again. In a plan in any order nothing before is in the way.
func TestApprovals_B5(t *testing.T) {
	w, ctx := newWorld(t), t.Context()
	p := w.on(w.shower())
	ada, bram := w.Person("stu-001").ID, w.Person("stu-002").ID
	w.told("stu-001 a1 completed", "stu-001 a2 passed 0.9")
	assert.Equal(t, []string{"reached Sower Ada Alder"}, w.stages(), "it is the last, and the others are not reached")
	shown := p.Stages[0].Criteria[0].ApprovalID
	cutting := p.Stages[1].Criteria[0].Of[1].ApprovalID
	require.NotEmpty(t, shown)
	require.NotEmpty(t, cutting)

	of, err := w.Stages.Of(ctx, ada)
	require.NoError(t, err)
	assert.Equal(t, []stages.ApprovalProgress{{ID: cutting, What: "Shows a cutting"}},
		of[0].Stages[1].Asks[0].Approvals)
	assert.Equal(t, "any of: finish the module Grafts; approved by somebody: Shows a cutting", of[0].Stages[1].Asks[0].Text)
	assert.True(t, of[0].Stages[1].Open)

	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			assert.NoError(t, w.Stages.Approve(ctx, "Maud", p.ID,
				stages.Approving{
					ApprovalID: shown, People: []string{ada, bram}, Note: "Seen on Monday",
				}))
		})
	}
	all.Wait()
	w.Follow()
	assert.ElementsMatch(t, []string{
		"reached Sower Ada Alder", "reached Shown Ada Alder", "reached Shown Bram Birch",
	}, w.stages())
	assert.Equal(t, []string{"Seeds"}, w.held("stu-001"))

	of, err = w.Stages.Of(ctx, bram)
	require.NoError(t, err)
	given := of[0].Stages[0].Asks[0].Approvals[0]
	require.True(t, given.Given)
	assert.Equal(t, "Maud: Seen on Monday", given.By+": "+given.Note)
	assert.WithinDuration(t, time.Now(), *given.At, time.Minute)

	// Editing keeps what was approved.
	p.Name, p.Stages[0].Criteria[0].What = "Showers", "Shows any graft"
	p, err = w.Stages.Save(ctx, "Maud", p.ID, p.Version, p)
	require.NoError(t, err)
	w.Follow()
	assert.Len(t, w.stages(), 3)

	require.NoError(t, w.Stages.Approve(ctx, "Maud", p.ID, stages.Approving{
		ApprovalID: shown, People: []string{bram}, Withdraw: true,
	}))
	w.Follow()
	assert.Contains(t, w.stages(), "reopened Shown Bram Birch")
	assert.Equal(t, []string{"Seeds"}, w.held("stu-002"), "a person decides about the badge")

	for _, wrong := range []stages.Approving{
		{ApprovalID: "none", People: []string{ada}},
		{ApprovalID: shown},
		{ApprovalID: shown, People: []string{ada, w.Person("tea-001").ID}},
		{ApprovalID: shown, People: make([]string, 1001)},
	} {
		_, is := refusal.As(w.Stages.Approve(ctx, "Maud", p.ID, wrong))
		assert.True(t, is, "%+v", wrong)
	}
	off, err := w.Stages.Switch(ctx, "Maud", p.ID, false)
	require.NoError(t, err)
	require.NoError(t, w.Stages.Approve(ctx, "Maud", off.ID,
		stages.Approving{ApprovalID: cutting, People: []string{ada}}))
	assert.Len(t, w.stages(), 4, "it is off")
	_, err = w.Stages.Switch(ctx, "Maud", p.ID, true)
	require.NoError(t, err)
	w.Follow()
	assert.Contains(t, w.stages(), "reached Both ways Ada Alder")
	awards, err := badgestore.Awards(ctx, w.Store, badgestore.AwardFilter{
		BadgeID: w.seeds.ID, PersonID: ada, Limit: 9,
	})
	require.NoError(t, err)
	assert.Len(t, awards, 1)
}

// Times are those between one stage and the next, as they were seen; what was found when the plan was switched on
// counts for nobody's time.
func TestTimesAreThoseThatWereSeen_B5(t *testing.T) {
	w, ctx := newWorld(t), t.Context()
	w.told("stu-001 a1 completed", "stu-001 a2 passed 0.9")
	p := w.on(w.gardener())
	w.told("stu-002 a1 completed", "stu-002 a2 passed 0.9")
	times, err := w.Stages.Times(ctx, p, "", time.Hour)
	require.NoError(t, err)
	assert.Equal(t, 1, times[0].Took, "Ada was found there")
	assert.Less(t, times[0].Median, time.Hour)
	later := *w.Stages
	later.Clock = func() time.Time { return time.Now().Add(48 * time.Hour) }
	times, err = later.Times(ctx, p, "", 24*time.Hour)
	require.NoError(t, err)
	group, err := w.Stages.GroupOf(ctx, p, "")
	require.NoError(t, err)
	assert.Equal(t, group.People-2, times[0].Stuck)
	assert.Equal(t, 2, times[2].Stuck)
	assert.InDelta(t, 48, times[2].Longest.Hours(), 1)
	list, err := w.Stages.StagePlanPeople(ctx, p, stagestore.StagePlanFilter{
		At: p.Stages[2].ID, Before: time.Now(), Limit: 9,
	})
	require.NoError(t, err)
	require.Len(t, list, 2)
	for _, x := range list {
		assert.WithinDuration(t, time.Now(), *x.Since, time.Minute)
	}
	times, err = w.Stages.Times(ctx, p, w.Section("SOIL-A").ID, time.Hour)
	require.NoError(t, err)
	assert.Equal(t, make([]stage.Times, 3), times, "of another course")
}
