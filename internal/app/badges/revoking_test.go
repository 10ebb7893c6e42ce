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
	"kanban/internal/wire/openbadge"
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
	check := func(id string, want openbadge.Verdict) badges.Checked {
		c, err := w.Badges.Check(t.Context(), id)
		require.NoError(t, err)
		assert.Equal(t, want, c.Verdict, "%+v", c.Checks)
		return c
	}
	entries := check(a.ID, openbadge.Valid).Seen.Status
	require.Len(t, entries, 2)
	assert.Equal(t, "http://kanban.example/open/issuers/"+b.IssuerID+"/status/0", entries[0].List)
	assert.Equal(t, "http://kanban.example/open/issuers/"+b.IssuerID+"/suspensions/0", entries[1].List)
	assert.NotEqual(t, entries[0].Index, check(kept.ID, openbadge.Valid).Seen.Status[0].Index)

	for want, reason := range map[string]string{"is missing": " ", "more than 500": strings.Repeat("x", 501)} {
		_, err := w.Badges.Revoke(t.Context(), "Maud", a.ID, reason)
		assert.ErrorContains(t, err, want)
	}
	_, err := w.Badges.Revoke(t.Context(), "Maud", a.ID, "Awarded by mistake")
	require.NoError(t, err)
	_, err = w.Badges.Revoke(t.Context(), "Maud", a.ID, "Again")
	assert.ErrorContains(t, err, "revoked already")

	now := check(a.ID, openbadge.Revoked).Award
	require.NotNil(t, now.RevokedAt)
	assert.Equal(t, "Awarded by mistake Maud", now.Reason+" "+now.RevokedBy)
	assert.Nil(t, check(kept.ID, openbadge.Valid).Award.RevokedAt)
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
	assert.Nil(t, check(a.ID, openbadge.Valid).Award.RevokedAt, "and the status list agrees")
	assert.NotNil(t, check(anew.ID, openbadge.Revoked).Award.RevokedAt)
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
	assert.Contains(t, c.Why, "does not say")

	for _, list := range []string{"-1", "00", "x", "+1", "1"} {
		_, err := w.Badges.StatusList(t.Context(), w.Badges.Public, corebadge.Revocation, b.IssuerID, list, false)
		assert.ErrorIs(t, err, db.ErrNotFound, list)
	}
	_, err = w.Badges.StatusList(t.Context(), w.Badges.Public, corebadge.Revocation, db.NewID(), "0", true)
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
	assert.Equal(t, openbadge.Revoked, c.Verdict)
	assert.Equal(t, "7", c.Seen.Status[0].Index)
	assert.True(t, strings.HasSuffix(c.Seen.Status[0].List, "/status/2"))
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
		tasks, err := taskstore.Tasks(t.Context(), w.Store, false, 10, nil)
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

// A suspension ends; until then whoever checks it is told.
func TestSuspendedIsSeenByAnyone(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	person := w.Person("stu-001")
	a, err := w.Badges.Award(t.Context(), b.ID, w.Record(eventstore.Event{
		Type: "module.completed", NaturalKey: "k", PersonID: &person.ID, OccurredAt: time.Now(),
	}), time.Now().UTC())
	require.NoError(t, err)
	check := func(want openbadge.Verdict) {
		t.Helper()
		c, err := w.Badges.Check(t.Context(), a.ID)
		require.NoError(t, err)
		assert.Equal(t, want, c.Verdict, "%+v", c.Checks)
	}
	_, err = w.Badges.Suspend(t.Context(), "Maud", a.ID, " ")
	require.ErrorContains(t, err, "is missing")
	_, err = w.Badges.Suspend(t.Context(), "Maud", a.ID, "Being looked into")
	require.NoError(t, err)
	check(openbadge.Suspended)
	_, err = w.Badges.Suspend(t.Context(), "Maud", a.ID, "Again")
	require.ErrorContains(t, err, "already")
	_, err = w.Badges.Revoke(t.Context(), "Maud", a.ID, "It was not hers")
	require.NoError(t, err)
	check(openbadge.Revoked)
	for range 2 { // the revocation is cancelled first, then the suspension ends
		_, err = w.Badges.Restore(t.Context(), "Maud", a.ID)
		require.NoError(t, err)
	}
	check(openbadge.Valid)
	_, err = w.Badges.Restore(t.Context(), "Maud", a.ID)
	require.ErrorContains(t, err, "not revoked and not suspended")
}

// New keys sign what comes; what the old ones signed keeps verifying, byte for byte, and so does what was signed
// under a former address of the installation.
func TestOldAwardsVerifyAfterRotationAndMove(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	require.NoError(t, w.Badges.NoteAddress(t.Context()))
	award := func(key, student string) badgestore.Award {
		person := w.Person(student)
		a, err := w.Badges.Award(t.Context(), b.ID, w.Record(eventstore.Event{
			Type: "module.completed", NaturalKey: key, PersonID: &person.ID, OccurredAt: time.Now(),
		}), time.Now().UTC())
		require.NoError(t, err)
		return a
	}
	old := award("k1", "stu-001")
	before, err := w.Badges.Keys(t.Context(), b.IssuerID)
	require.NoError(t, err)
	after, err := w.Badges.RotateKeys(t.Context(), "Maud", b.IssuerID)
	require.NoError(t, err)
	require.Len(t, after, 4)
	assert.Nil(t, after[0].RetiredAt)
	assert.NotNil(t, after[3].RetiredAt)
	fresh := award("k2", "stu-002")
	for _, k := range before {
		assert.NotContains(t, string(fresh.Document)+fresh.Credential, k.ID)
	}
	moved := &badges.Service{Store: w.Store, Public: "https://new.example/open"}
	require.NoError(t, moved.NoteAddress(t.Context()))
	for _, s := range []*badges.Service{w.Badges, moved} {
		for _, a := range []badgestore.Award{old, fresh} {
			c, err := s.Check(t.Context(), a.ID)
			require.NoError(t, err)
			assert.Equal(t, openbadge.Valid, c.Verdict, "%+v", c.Checks)
			assert.Equal(t, a.Document, c.Award.Document)
			assert.Equal(t, a.Credential, c.Award.Credential)
		}
	}
	assert.Equal(t, "http://kanban.example/open", moved.Base("", "kanban.example"))
	assert.Equal(t, "https://new.example/open", moved.Base("http", "else.example"))
	// From http to https under the same name: each scheme has its own.
	safe := &badges.Service{Store: w.Store, Public: "https://kanban.example/open"}
	require.NoError(t, safe.NoteAddress(t.Context()))
	for scheme, want := range map[string]string{"http": "http", "https": "https", "": "https", "gopher": "https"} {
		assert.Equal(t, want+"://kanban.example/open", safe.Base(scheme, "kanban.example"), scheme)
	}
	for _, a := range []badgestore.Award{old, fresh} {
		c, err := safe.Check(t.Context(), a.ID)
		require.NoError(t, err)
		assert.Equal(t, openbadge.Valid, c.Verdict, "%+v", c.Checks)
	}
	_, err = moved.DID(t.Context(), w.Badges.Public, b.IssuerID)
	require.ErrorIs(t, err, db.ErrNotFound, "did:web needs https")
	did, err := moved.DID(t.Context(), moved.Public, b.IssuerID)
	require.NoError(t, err)
	assert.Equal(t, "did:web:new.example:open:issuers:"+b.IssuerID, did.ID)
	assert.Len(t, did.Assertion, 4)
	_, err = moved.Revoke(t.Context(), "Maud", old.ID, "r")
	require.NoError(t, err)
	c, err := moved.Check(t.Context(), old.ID)
	require.NoError(t, err)
	assert.Equal(t, openbadge.Revoked, c.Verdict)
}
