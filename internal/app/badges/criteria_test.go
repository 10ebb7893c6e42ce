package badges_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/badges"
	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
)

// What a badge asks for is published for programs, is part of what its credentials say, and is held against those who
// are to be awarded it by hand; a person decides.
func TestCriteriaThatProgramsRead(t *testing.T) {
	w, ctx := apptest.New(t), t.Context()
	w.Read(w.Register(), false)
	course := w.Section("PROP-A").CourseID
	require.NoError(t, w.Outlines.SetOutline(ctx, "Maud", course, learning.Outline{Modules: []learning.Module{{
		ID: "m1", Title: "Cuttings", Activities: []learning.Activity{{ID: "http://p.example/a1", Title: "Cut", Kind: learning.Lesson}},
	}}}))
	i, err := w.Badges.AddIssuer(ctx, "Maud", badgestore.Issuer{Name: "Fernmoor"})
	require.NoError(t, err)
	draft := badgestore.Badge{
		IssuerID: i.ID, Name: "Cuttings", Description: "D.", Criteria: "Finish it.",
		Asks: []stage.Criterion{{Kind: stage.Module, CourseID: course, ModuleID: "m1"}},
	}
	for name, asks := range map[string][]stage.Criterion{
		"no course":      {{Kind: stage.Module, ModuleID: "m1"}},
		"other module":   {{Kind: stage.Module, CourseID: course, ModuleID: "m2"}},
		"other course":   {{Kind: stage.Course, CourseID: db.NewID()}},
		"other badge":    {{Kind: stage.Badge, BadgeID: db.NewID()}},
		"an approval":    {{Kind: stage.Approval, What: "Shows it"}},
		"an empty group": {{Kind: stage.Any}},
	} {
		wrong := draft
		wrong.Asks = asks
		_, err := w.Badges.AddBadge(ctx, "Maud", wrong)
		refused, is := refusal.As(err)
		require.True(t, is, name)
		assert.Equal(t, "asks", refused.Field, name)
	}
	b, err := w.Badges.AddBadge(ctx, "Maud", draft)
	require.NoError(t, err)
	public, err := w.Badges.CriteriaOf(ctx, "https://k.example/open", b.ID)
	require.NoError(t, err)
	assert.Equal(t, "https://k.example/open/badges/"+b.ID+"/criteria", public.ID)
	require.Len(t, public.All, 1)
	assert.Equal(t, "finish the module Cuttings of Propagation", public.All[0].Says)
	text, err := json.Marshal(public)
	require.NoError(t, err)
	assert.Contains(t, string(text), `{"kind":"module","courseId":"`+course+`","moduleId":"m1","says":`)

	ada := w.Person("stu-001").ID
	seen, err := w.Badges.AwardByHand(ctx, badges.Anybody("Maud"), b.ID, []string{ada}, badges.Wish{}, false)
	require.NoError(t, err)
	assert.Equal(t, badges.ToAward, seen[0].Outcome)
	assert.Equal(t, []string{"finish the module Cuttings of Propagation"}, seen[0].Unmet)
	page, err := w.Holders.Page(ctx, ada)
	require.NoError(t, err)
	require.Len(t, page.Wanted, 1)
	assert.False(t, page.Wanted[0].Asks[0].Met)
	done, err := w.Badges.AwardByHand(ctx, badges.Anybody("Maud"), b.ID, []string{ada}, badges.Wish{}, true)
	require.NoError(t, err)
	assert.Equal(t, badges.AwardedNow, done[0].Outcome)
	page, err = w.Holders.Page(ctx, ada)
	require.NoError(t, err)
	assert.Empty(t, page.Wanted, "she holds it")
	a, err := badgestore.FindAward(ctx, w.Store, done[0].AwardID)
	require.NoError(t, err)
	assert.Contains(t, string(a.Document), "/badges/"+b.ID+"/criteria")

	none := []stage.Criterion{}
	changed, err := w.Badges.EditBadge(ctx, "Maud", b.ID, 0, badges.EditBadge{Asks: &none})
	require.NoError(t, err)
	assert.Equal(t, 2, changed.Version, "it says something else now")
	_, err = w.Badges.CriteriaOf(ctx, "https://k.example/open", b.ID)
	require.ErrorIs(t, err, db.ErrNotFound)
	self := []stage.Criterion{{Kind: stage.Badge, BadgeID: b.ID}}
	_, err = w.Badges.EditBadge(ctx, "Maud", b.ID, 0, badges.EditBadge{Asks: &self})
	refused, is := refusal.As(err)
	require.True(t, is)
	assert.Contains(t, refused.Detail, "asks for itself")
}
