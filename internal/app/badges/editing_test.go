package badges_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/badges"
	"kanban/internal/apptest"
	core "kanban/internal/core/badge"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
)

// A badge that was awarded changes into a new version; whoever holds it keeps theirs, byte for byte, and it verifies.
func TestBadgesChangeInVersions(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	ctx := t.Context()
	issuer, err := w.Badges.AddIssuer(ctx, "Maud", badgestore.Issuer{Name: "Fernmoor Garden School"})
	require.NoError(t, err)
	b, err := w.Badges.AddBadge(ctx, "Maud", badgestore.Badge{
		IssuerID: issuer.ID, Name: "Cuttings", Description: "Takes cuttings.", Criteria: "Finish the module.",
		State: badgestore.Draft, Tags: []string{" propagation ", "Propagation", ""},
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"propagation"}, b.Tags)
	award := func(who string) (badgestore.Award, error) {
		return w.Badges.Award(ctx, b.ID, w.Record(w.Joined(db.NewID(), who, "PROP-A")), time.Now())
	}
	_, err = award("stu-001")
	require.ErrorContains(t, err, "is a draft; publish it first")
	_, err = w.Badges.AwardByHand(ctx, badges.Anybody("Maud"), b.ID, []string{w.Person("stu-001").ID},
		badges.Wish{}, false)
	require.ErrorContains(t, err, "is a draft")
	edit := func(e badges.EditBadge) badgestore.Badge {
		t.Helper()
		now, err := w.Badges.EditBadge(ctx, "Maud", b.ID, 0, e)
		require.NoError(t, err)
		return now
	}
	text, published := "Finish the module Cuttings.", badgestore.Published
	now := edit(badges.EditBadge{Criteria: &text, State: &published})
	assert.Equal(t, 1, now.Version, "nobody holds it yet")
	first, err := award("stu-001")
	require.NoError(t, err)

	days := 365
	goals := []badgestore.Alignment{{Name: "Plant care 3", Address: "https://frameworks.example/plants/3", Code: "PC3"}}
	now = edit(badges.EditBadge{ValidDays: &days, Alignments: &goals})
	assert.Equal(t, 2, now.Version)
	assert.Equal(t, 2, edit(badges.EditBadge{ValidDays: &days}).Version, "nothing else is said")
	second, err := award("stu-002")
	require.NoError(t, err)
	require.NotNil(t, second.ValidUntil)
	assert.Equal(t, second.AwardedAt.AddDate(0, 0, days).Unix(), second.ValidUntil.Unix())
	var said core.Credential
	require.NoError(t, json.Unmarshal(second.Document, &said))
	assert.Equal(t, "2", said.Subject.Achievement.Version)
	assert.Equal(t, "https://frameworks.example/plants/3", said.Subject.Achievement.Alignment[0].URL)
	require.NotNil(t, said.ValidUntil)

	kept, err := badgestore.FindAward(ctx, w.Store, first.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{first.Credential, string(first.Document), 1},
		[]any{kept.Credential, string(kept.Document), kept.Version})
	former, err := w.Badges.Versions(ctx, b.ID)
	require.NoError(t, err)
	require.Len(t, former, 1)
	assert.Equal(t, []any{1, text, 1}, []any{former[0].Version, former[0].Badge.Criteria, former[0].Awards})

	draft, withdrawn := badgestore.Draft, badgestore.Withdrawn
	_, err = w.Badges.EditBadge(ctx, "Maud", b.ID, 0, badges.EditBadge{State: &draft})
	require.ErrorContains(t, err, "was awarded, so it is no draft any more")
	assert.Equal(t, 2, edit(badges.EditBadge{State: &withdrawn}).Version, "its state alone makes no version")
	_, err = award("stu-003")
	require.ErrorContains(t, err, "is withdrawn")
	_, err = w.Badges.EditBadge(ctx, "Otto", b.ID, 1, badges.EditBadge{State: &published})
	require.ErrorIs(t, err, db.ErrStale)
}

func TestBadgesThatCannotBe(t *testing.T) {
	w := apptest.New(t)
	issuer, err := w.Badges.AddIssuer(t.Context(), "Maud", badgestore.Issuer{Name: "School"})
	require.NoError(t, err)
	for name, change := range map[string]func(*badgestore.Badge){
		"no criteria": func(b *badgestore.Badge) { b.Criteria = " " },
		"state":       func(b *badgestore.Badge) { b.State = "gone" },
		"days":        func(b *badgestore.Badge) { b.ValidDays = -1 },
		"goal without name": func(b *badgestore.Badge) {
			b.Alignments = []badgestore.Alignment{{Address: "https://a.example"}}
		},
		"goal nowhere": func(b *badgestore.Badge) {
			b.Alignments = []badgestore.Alignment{{Name: "A", Address: "plants/3"}}
		},
		"too many tags": func(b *badgestore.Badge) { b.Tags = make([]string, 0); addTags(b) },
	} {
		b := badgestore.Badge{IssuerID: issuer.ID, Name: "B", Description: "D", Criteria: "C"}
		change(&b)
		_, err := w.Badges.AddBadge(t.Context(), "Maud", b)
		require.Error(t, err, name)
	}
	_, err = w.Badges.EditIssuer(t.Context(), "Maud", badgestore.Issuer{ID: issuer.ID, Name: "School", URL: "nowhere"})
	require.Error(t, err)
	changed, err := w.Badges.EditIssuer(t.Context(), "Maud",
		badgestore.Issuer{ID: issuer.ID, Name: "Garden School", Email: "badges@fernmoor.example"})
	require.NoError(t, err)
	found, err := badgestore.FindIssuer(t.Context(), w.Store, issuer.ID)
	require.NoError(t, err)
	assert.Equal(t, changed.Email, found.Email)
}

func addTags(b *badgestore.Badge) {
	for i := range 21 {
		b.Tags = append(b.Tags, string(rune('a'+i)))
	}
}
