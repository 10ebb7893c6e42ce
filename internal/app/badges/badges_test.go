package badges_test

import (
	"encoding/json"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/openbadge"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func badge(t *testing.T, w *apptest.World) badgestore.Badge {
	t.Helper()
	i, err := w.Badges.AddIssuer(t.Context(), "test", badgestore.Issuer{
		Name: "Fernmoor",
		URL:  "https://fernmoor.example",
	})
	require.NoError(t, err)
	b, err := w.Badges.AddBadge(t.Context(), "test", badgestore.Badge{
		IssuerID: i.ID, Name: "Cuttings",
		Description: "Takes cuttings.", Criteria: "Finish the module.",
	})
	require.NoError(t, err)
	return b
}

func TestNobodyIsAwardedTwice_B7(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	person := w.Person("stu-001")
	e := w.Record(eventstore.Event{
		Type: "module.completed", NaturalKey: "k", PersonID: &person.ID,
		OccurredAt: time.Now(),
	})
	ids := make([]string, 8)
	var group sync.WaitGroup
	for i := range ids {
		group.Go(func() {
			a, err := w.Badges.Award(t.Context(), b.ID, e, time.Now().UTC())
			assert.NoError(t, err)
			ids[i] = a.ID
		})
	}
	group.Wait()
	for _, id := range ids {
		assert.Equal(t, ids[0], id)
	}
	checked, err := w.Badges.Check(t.Context(), ids[0])
	require.NoError(t, err)
	assert.Equal(t, openbadge.Valid, checked.Verdict, "%+v", checked.Checks)
	assert.True(t, checked.Seen.BelongsTo(person.Email))
	assert.Equal(t, "http://kanban.example/open/awards/"+ids[0], checked.Seen.ID)

	// Whoever changes the credential in the database is found out.
	others := []string{w.Person("stu-002").ID, w.Person("stu-003").ID}
	for i, change := range []string{
		`credential = overlay(credential placing 'AAAA' from length(credential) - 40 for 4)`,
		`document = convert_to(replace(convert_from(document, 'UTF8'), 'Takes cuttings.', 'Takes all.'), 'UTF8')`,
	} {
		a2, err := w.Badges.Award(t.Context(), b.ID, w.Record(eventstore.Event{
			Type: "module.completed", NaturalKey: change, PersonID: &others[i], OccurredAt: time.Now(),
		}), time.Now().UTC())
		require.NoError(t, err)
		_, err = w.Store.Pool.Exec(t.Context(), `UPDATE awards SET `+change+` WHERE id = $1`, a2.ID)
		require.NoError(t, err)
		checked, err = w.Badges.Check(t.Context(), a2.ID)
		require.NoError(t, err)
		assert.Equal(t, openbadge.Altered, checked.Verdict, change)
	}
}

func TestAwardNeedsAnAddress(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	elsa := w.Person("stu-005")
	e := w.Record(eventstore.Event{
		Type: "module.completed", NaturalKey: "k", PersonID: &elsa.ID,
		OccurredAt: time.Now(),
	})
	_, err := w.Badges.Award(t.Context(), b.ID, e, time.Now())
	r, ok := refusal.As(err)
	require.True(t, ok, "%v", err)
	assert.Equal(t, finding.AddressMissing, r.Code)
	_, err = w.Badges.Award(t.Context(), db.NewID(), e, time.Now())
	assert.ErrorContains(t, err, "there is no badge")
}

func TestIssuerAndBadgeAreChecked(t *testing.T) {
	w := apptest.New(t)
	b := badge(t, w)
	for want, err := range map[string]error{
		"shown on every badge": second(w.Badges.AddIssuer(t.Context(), "test", badgestore.Issuer{})),
		"not a full address": second(w.Badges.AddIssuer(t.Context(), "test",
			badgestore.Issuer{Name: "x", URL: "fernmoor"})),
		"another issuer": second(w.Badges.AddIssuer(t.Context(), "test", badgestore.Issuer{Name: "FERNMOOR"})),
		"verifiers show it": second(w.Badges.AddBadge(t.Context(), "test",
			badgestore.Badge{IssuerID: b.IssuerID, Name: "x", Description: "d"})),
		"there is no issuer": second(w.Badges.AddBadge(t.Context(), "test",
			badgestore.Badge{IssuerID: db.NewID(), Name: "x", Description: "d", Criteria: "c"})),
		"another badge": second(w.Badges.AddBadge(t.Context(), "test",
			badgestore.Badge{IssuerID: b.IssuerID, Name: "cuttings", Description: "d", Criteria: "c"})),
	} {
		assert.ErrorContains(t, err, want)
	}
	set, err := w.Badges.KeySet(t.Context(), w.Badges.Public, b.IssuerID)
	require.NoError(t, err)
	require.Equal(t, 2, set.Len())
	text, err := json.Marshal(set)
	require.NoError(t, err)
	assert.NotContains(t, string(text), `"d":`, "only the public half is served")
}

func second[T any](_ T, err error) error { return err }

// What was made by mistake can be removed, and what anybody has or needs cannot.
func TestUnusedBadgesAndIssuersCanBeRemoved(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	assert.ErrorContains(t, w.Badges.RemoveIssuer(t.Context(), "Maud", b.IssuerID), "it gives out "+b.Name)
	_, err := w.Rules.Save(t.Context(), "test", "", 0,
		rule.Draft{
			Name: "Award it", Trigger: "module.completed",
			Actions: []rule.Action{{Kind: rule.Award, BadgeID: b.ID}},
		})
	require.NoError(t, err)
	assert.ErrorContains(t, w.Badges.RemoveBadge(t.Context(), "Maud", b.ID), `the rule "Award it" awards it`)

	other, err := w.Badges.AddBadge(t.Context(), "Maud",
		badgestore.Badge{IssuerID: b.IssuerID, Name: "Other", Description: "d", Criteria: "c"})
	require.NoError(t, err)
	p, x := w.Person("stu-001"), w.Section("PROP-A")
	e := w.Record(eventstore.Event{
		Type: "module.completed", NaturalKey: "k", PersonID: &p.ID, SectionID: &x.ID,
		CourseID: &x.CourseID, OccurredAt: time.Now(),
	})
	_, err = w.Badges.Award(t.Context(), other.ID, e, time.Now().UTC())
	require.NoError(t, err)
	assert.ErrorContains(t, w.Badges.RemoveBadge(t.Context(), "Maud", other.ID), "it was awarded once")

	mistake, err := w.Badges.AddIssuer(t.Context(), "Maud", badgestore.Issuer{Name: "Fernmor"})
	require.NoError(t, err)
	third, err := w.Badges.AddBadge(t.Context(), "Maud",
		badgestore.Badge{IssuerID: mistake.ID, Name: "Third", Description: "d", Criteria: "c"})
	require.NoError(t, err)
	require.NoError(t, w.Badges.RemoveBadge(t.Context(), "Maud", third.ID))
	require.NoError(t, w.Badges.RemoveIssuer(t.Context(), "Maud", mistake.ID))
	assert.ErrorIs(t, w.Badges.RemoveBadge(t.Context(), "Maud", third.ID), db.ErrNotFound)
}
