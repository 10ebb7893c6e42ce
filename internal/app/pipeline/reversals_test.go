package pipeline_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/store/learningstore"
)

// What was done for a completion that holds no longer is named, until the completion holds
// again, the badge is revoked, or the rule reverts what it did.
func TestReversedCompletionsNameWhatHangsOnThem_P3(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	course := w.Section("PROP-A").CourseID
	platform := w.Connect("xapi", "Platform", nil).ID
	issuer, err := w.Badges.AddIssuer(t.Context(), "test", badgestore.Issuer{Name: "Fernmoor Garden School"})
	require.NoError(t, err)
	badge, err := w.Badges.AddBadge(t.Context(), "test",
		badgestore.Badge{IssuerID: issuer.ID, Name: "Cuttings", Description: "d", Criteria: "c"})
	require.NoError(t, err)
	w.Rule(rule.Draft{
		Name: "Give", Trigger: "module.completed", OncePerPerson: true,
		Actions: []rule.Action{{Kind: rule.Award, BadgeID: badge.ID}},
	})
	send := rule.Action{
		Kind: rule.SendEvent, InterfaceID: w.Contacts().ID,
		Fields: map[string]string{
			"email": "person.email",
			"label": `"done"`,
		}, UndoFields: map[string]string{"email": "person.email", "label": `""`},
	}
	w.Rule(rule.Draft{Name: "Label", Trigger: "course.completed", Actions: []rule.Action{send}})
	w.Rule(rule.Draft{
		Name: "Label for a while", Trigger: "course.completed", UndoneBy: []string{"course.reopened"},
		Actions: []rule.Action{send},
	})
	for _, who := range []string{"stu-002", "stu-003"} {
		w.Completes(platform, who, "one", *now)
		w.Completes(platform, who, "two", *now)
	}
	w.Deliver()
	hanging := func() (out []string) {
		t.Helper()
		all, err := w.Facts.Reversals(t.Context())
		require.NoError(t, err)
		for _, r := range all {
			out = append(out, r.What+" "+r.Kind+" "+r.Badge+" "+r.Origin)
		}
		return out
	}
	assert.Empty(t, hanging())

	o, err := learningstore.Outline(t.Context(), w.Store, course)
	require.NoError(t, err)
	longer := o
	longer.Modules = []learning.Module{{
		ID: "m", Title: "M",
		Activities: append(longer.Modules[0].Activities[:2:2],
			learning.Activity{ID: apptest.Activities + "three", Title: "Three", Kind: learning.Lesson}),
	}}
	require.NoError(t, w.Outlines.SetOutline(t.Context(), "test", course, longer))
	require.NoError(t, w.Facts.Recount(t.Context(), jobs.RecountCourse{CourseID: course}))
	reopened, err := eventstore.Events(t.Context(), w.Store,
		eventstore.EventFilter{Type: "course.reopened", Limit: 10})
	require.NoError(t, err)
	require.Len(t, reopened, 2)
	require.NoError(t, w.Deliveries.React(t.Context(), []string{reopened[0].ID, reopened[1].ID}, ""))
	w.Deliver()
	assert.ElementsMatch(t, []string{
		"M award Cuttings Give", "the course send-event  Label", "M award Cuttings Give",
		"the course send-event  Label",
	}, hanging(), "what the third rule did is reverted")

	awards, err := badgestore.Awards(t.Context(), w.Store, badgestore.AwardFilter{
		BadgeID: badge.ID, PersonID: w.Person("stu-002").ID, Limit: 5,
	})
	require.NoError(t, err)
	require.Len(t, awards, 1)
	_, err = w.Badges.Revoke(t.Context(), "Maud", awards[0].ID, "Not finished after all")
	require.NoError(t, err)
	assert.Len(t, hanging(), 3)
	w.Completes(platform, "stu-003", "three", *now)
	assert.Equal(t, []string{"the course send-event  Label"}, hanging())
	require.NoError(t, w.Outlines.SetOutline(t.Context(), "test", course, o))
	require.NoError(t, w.Facts.Recount(t.Context(), jobs.RecountCourse{CourseID: course}))
	assert.Empty(t, hanging())
}
