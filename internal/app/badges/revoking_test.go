package badges_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/badges"
	"kanban/internal/apptest"
	corebadge "kanban/internal/core/badge"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/taskstore"
)

// Whoever checks a revoked badge is told; the same fact does not bring it back, another
// one does.
func TestRevokedIsSeenByAnyone_B3(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	person, other, section := w.Person("stu-001"), w.Person("stu-002"), w.Section("PROP-A")
	event := func(key string, p rosterstore.Person) eventstore.Event {
		return w.Record(eventstore.Event{
			Type: "module.completed", NaturalKey: key, PersonID: &p.ID,
			SectionID: &section.ID, CourseID: &section.CourseID, OccurredAt: time.Now(),
		})
	}
	give := func(e eventstore.Event) badgestore.Award {
		a, err := w.Badges.Award(t.Context(), b.ID, e, time.Now().UTC())
		require.NoError(t, err)
		return a
	}
	because := event("k1", person)
	a, kept := give(because), give(event("k2", other))
	check := func(id string) badges.Checked {
		c, err := w.Badges.Check(t.Context(), id)
		require.NoError(t, err)
		assert.Empty(t, c.Problem)
		return c
	}
	entry := check(a.ID).Credential.Status
	require.NotNil(t, entry)
	assert.Equal(t, "http://kanban.example/open/issuers/"+b.IssuerID+"/status/0", entry.Credential)
	assert.NotEqual(t, entry.Index, check(kept.ID).Credential.Status.Index)

	for want, reason := range map[string]string{"is missing": " ", "more than 500": strings.Repeat("x", 501)} {
		_, err := w.Badges.Revoke(t.Context(), "Maud", a.ID, reason)
		assert.ErrorContains(t, err, want)
	}
	_, err := w.Badges.Revoke(t.Context(), "Maud", a.ID, "Awarded by mistake")
	require.NoError(t, err)
	_, err = w.Badges.Revoke(t.Context(), "Maud", a.ID, "Again")
	assert.ErrorContains(t, err, "revoked already")

	now := check(a.ID).Award
	require.NotNil(t, now.RevokedAt)
	assert.Equal(t, "Awarded by mistake Maud", now.Reason+" "+now.RevokedBy)
	assert.Nil(t, check(kept.ID).Award.RevokedAt)
	events, err := eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Type: "badge.revoked", Limit: 5})
	require.NoError(t, err)
	require.Len(t, events, 1)
	assert.Equal(t, "Awarded by mistake", events[0].Data["reason"])
	assert.Equal(t, section.ID, *events[0].SectionID)

	assert.Equal(t, a.ID, give(because).ID, "the same event again")
	anew := give(event("k3", person))
	assert.NotEqual(t, a.ID, anew.ID)
	assert.Equal(t, anew.ID, give(event("k4", person)).ID, "nobody holds it twice")

	// A revocation made by mistake is cancelled; not while the badge is held anew.
	_, err = w.Badges.Restore(t.Context(), "Maud", a.ID)
	require.ErrorContains(t, err, "awarded anew since")
	_, err = w.Badges.Revoke(t.Context(), "Maud", anew.ID, "Twice")
	require.NoError(t, err)
	_, err = w.Badges.Restore(t.Context(), "Maud", a.ID)
	require.NoError(t, err)
	assert.Nil(t, check(a.ID).Award.RevokedAt, "and the status list agrees")
	assert.NotNil(t, check(anew.ID).Award.RevokedAt)
	_, err = w.Badges.Restore(t.Context(), "Maud", a.ID)
	require.ErrorContains(t, err, "not revoked")
	given, err := eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Type: "badge.awarded", Limit: 10})
	require.NoError(t, err)
	assert.Len(t, given, 4, "three awards, and one that holds again")
	_, err = w.Badges.Revoke(t.Context(), "Maud", a.ID, "Awarded by mistake")
	require.NoError(t, err)
	events, err = eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Type: "badge.revoked", Limit: 5})
	require.NoError(t, err)
	assert.Len(t, events, 3, "each time is an event")

	// Should the records and the list disagree, that is said.
	_, err = w.Store.Pool.Exec(t.Context(), `UPDATE awards SET number = number + 10 WHERE id = $1`, a.ID)
	require.NoError(t, err)
	c, err := w.Badges.Check(t.Context(), a.ID)
	require.NoError(t, err)
	assert.Contains(t, c.Problem, "does not say")

	for _, list := range []string{"-1", "00", "x", "+1", "1"} {
		_, err := w.Badges.StatusList(t.Context(), b.IssuerID, list)
		assert.ErrorIs(t, err, db.ErrNotFound, list)
	}
	_, err = w.Badges.StatusList(t.Context(), db.NewID(), "0")
	assert.ErrorIs(t, err, db.ErrNotFound)
}

// Awards fill one list after the other.
func TestStatusListsFollowEachOther(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	_, err := w.Store.Pool.Exec(t.Context(), `SELECT setval('award_numbers', $1)`, 2*corebadge.Entries+6)
	require.NoError(t, err)
	person := w.Person("stu-001")
	a, err := w.Badges.Award(t.Context(), b.ID, w.Record(eventstore.Event{
		Type: "module.completed", NaturalKey: "k",
		PersonID: &person.ID, OccurredAt: time.Now(),
	}), time.Now().UTC())
	require.NoError(t, err)
	_, err = w.Badges.Revoke(t.Context(), "Maud", a.ID, "r")
	require.NoError(t, err)
	c, err := w.Badges.Check(t.Context(), a.ID)
	require.NoError(t, err)
	assert.Empty(t, c.Problem)
	assert.Equal(t, "7", c.Credential.Status.Index)
	assert.True(t, strings.HasSuffix(c.Credential.Status.Credential, "/status/2"))
}

// A rule that does something once does it for each badge, and what reverts it takes
// back what belongs to that badge.
func TestEachBadgeIsItsOwn_E8(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	first := badge(t, w)
	second, err := w.Badges.AddBadge(t.Context(), "test",
		badgestore.Badge{IssuerID: first.IssuerID, Name: "Soil", Description: "d", Criteria: "c"})
	require.NoError(t, err)
	person, section := w.Person("stu-001"), w.Section("PROP-A")
	w.Rule(rule.Draft{
		Name: "Label", Trigger: "badge.awarded", OncePerPerson: true,
		UndoneBy: []string{"badge.revoked"}, Actions: []rule.Action{{
			Kind: rule.OpenTask, Subject: "Print {{.event.badge}}", Owner: "maud@fernmoor.example",
		}},
	})
	var awards []badgestore.Award
	for _, b := range []badgestore.Badge{first, second} {
		e := w.Record(eventstore.Event{
			Type: "module.completed", NaturalKey: b.ID, PersonID: &person.ID,
			SectionID: &section.ID, CourseID: &section.CourseID, OccurredAt: time.Now(),
		})
		a, err := w.Badges.Award(t.Context(), b.ID, e, time.Now().UTC())
		require.NoError(t, err)
		awards = append(awards, a)
	}
	react := func() {
		ids := []string{}
		events, err := eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Limit: 100})
		require.NoError(t, err)
		for _, e := range events {
			if strings.HasPrefix(e.Type, "badge.") {
				ids = append(ids, e.ID)
			}
		}
		require.NoError(t, w.Deliveries.React(t.Context(), ids, ""))
		w.Deliver()
	}
	open := func() (titles []string) {
		tasks, err := taskstore.Tasks(t.Context(), w.Store, false, 10)
		require.NoError(t, err)
		for _, task := range tasks {
			titles = append(titles, task.Title)
		}
		return titles
	}
	react()
	assert.ElementsMatch(t, []string{"Print Cuttings", "Print Soil"}, open())
	_, err = w.Badges.Revoke(t.Context(), "Maud", awards[0].ID, "r")
	require.NoError(t, err)
	react()
	assert.Equal(t, []string{"Print Soil"}, open())
}
