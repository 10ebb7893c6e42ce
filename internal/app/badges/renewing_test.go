package badges_test

import (
	"encoding/json"
	"strings"
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

// An award of a renewable badge is renewed near its end, once whatever is repeated; one that is not renewable stays
// what it was.
func TestAwardsAreRenewed(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	ctx, b := t.Context(), badge(t, w)
	person := []string{w.Person("stu-001").ID}
	days := 100
	_, err := w.Badges.EditBadge(ctx, "Maud", b.ID, 0, badges.EditBadge{ValidDays: &days})
	require.NoError(t, err)
	byHand := func(daysAgo int, apply bool) badges.Awarding {
		t.Helper()
		all, err := w.Badges.AwardByHand(ctx, badges.Anybody("Maud"), b.ID, person,
			badges.Wish{At: time.Now().AddDate(0, 0, -daysAgo)}, apply)
		require.NoError(t, err)
		return all[0]
	}
	first := byHand(101, true)
	assert.Equal(t, badges.AwardedNow, first.Outcome)
	again := byHand(0, true)
	assert.Equal(t, badges.HeldAlready, again.Outcome)
	assert.Contains(t, again.Because, "make the badge renewable")

	yes, level := true, "advanced"
	_, err = w.Badges.EditBadge(ctx, "Maud", b.ID, 0, badges.EditBadge{Renewable: &yes, Level: &level})
	require.NoError(t, err)
	shown := byHand(0, false)
	assert.Equal(t, badges.ToAward, shown.Outcome)
	assert.Contains(t, shown.Because, "renews the one until")
	event := w.Record(w.Joined(db.NewID(), "stu-001", "PROP-A"))
	second, err := w.Badges.Award(ctx, b.ID, event, time.Now())
	require.NoError(t, err)
	assert.NotEqual(t, first.AwardID, second.ID)
	for range 2 {
		same, err := w.Badges.Award(ctx, b.ID, event, time.Now())
		require.NoError(t, err)
		assert.Equal(t, second.ID, same.ID)
	}
	other, err := w.Badges.Award(ctx, b.ID, w.Record(w.Joined(db.NewID(), "stu-001", "PROP-A")), time.Now())
	require.NoError(t, err)
	assert.Equal(t, second.ID, other.ID, "it is far from its end")
	assert.Equal(t, "holds it already", byHand(0, true).Because)
	had, err := badgestore.FindAward(ctx, w.Store, first.AwardID)
	require.NoError(t, err)
	assert.NotNil(t, had.RenewedAt)

	var said core.Credential
	require.NoError(t, json.Unmarshal(second.Document, &said))
	require.Len(t, said.Subject.Result, 1)
	assert.Equal(t, []string{level, said.Subject.Achievement.Results[0].ID},
		[]string{said.Subject.Result[0].Value, said.Subject.Result[0].Description})
	checked, err := w.Badges.Check(ctx, second.ID)
	require.NoError(t, err)
	assert.Equal(t, "valid", string(checked.Verdict), "%+v", checked.Checks)
}

func TestLastDays(t *testing.T) {
	at := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		days int
		last string
		want string
	}{
		{0, "", "0001-01-01T00:00:00Z"},
		{30, "", "2026-12-30T12:00:00Z"},
		{0, "2027-07-31", "2027-07-31T23:59:59Z"},
		{30, "2027-07-31", "2026-12-30T12:00:00Z"},
		{365, "2026-12-01", "2026-12-01T23:59:59Z"},
	} {
		assert.Equal(t, c.want, core.HoldsUntil(at, c.days, c.last).Format(time.RFC3339))
	}
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	for _, last := range []string{"31.7.2027", "2027-02-30"} {
		_, err := w.Badges.EditBadge(t.Context(), "Maud", b.ID, 0, badges.EditBadge{LastDay: &last})
		require.ErrorContains(t, err, "is not written as")
	}
	yes := true
	_, err := w.Badges.EditBadge(t.Context(), "Maud", b.ID, 0, badges.EditBadge{Renewable: &yes})
	require.ErrorContains(t, err, "is for badges that end")
	over := "2020-01-31"
	_, err = w.Badges.EditBadge(t.Context(), "Maud", b.ID, 0, badges.EditBadge{LastDay: &over})
	require.NoError(t, err)
	all, err := w.Badges.AwardByHand(t.Context(), badges.Anybody("Maud"), b.ID, []string{w.Person("stu-001").ID},
		badges.Wish{}, true)
	require.NoError(t, err)
	assert.Equal(t, badges.Refused, all[0].Outcome)
	assert.Contains(t, all[0].Because, "the last day of the badge")
}

// A picture that is drawn here is had as PNG and as SVG, each carrying the award; who holds it keeps it.
func TestDrawnPictures(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	ctx, b := t.Context(), badge(t, w)
	design := core.Design{Shape: "shield", Symbol: "plant", Above: "Fernmoor", Colours: core.Colours{
		Edge: "#1f4d2b", Body: "#2f6136", Disc: "#fffdf7", Symbol: "#b4451f", Text: "#fffdf7",
	}}
	begins, err := w.Badges.Begin(ctx, b.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"round", "Fernmoor", "Cuttings"}, []string{begins.Shape, begins.Above, begins.Below})
	b, err = w.Badges.Draw(ctx, "Maud", b.ID, design)
	require.NoError(t, err)
	long, err := w.Badges.AddBadge(ctx, "Maud", badgestore.Badge{
		IssuerID: b.IssuerID, Name: strings.Repeat("ä", 80), Description: "d", Criteria: "c",
	})
	require.NoError(t, err)
	begins, err = w.Badges.Begin(ctx, long.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"shield", "plant", strings.Repeat("ä", 60)},
		[]string{begins.Shape, begins.Symbol, begins.Below}, "like the other one of its issuer")
	_, err = w.Badges.Draw(ctx, "Maud", long.ID, begins)
	require.NoError(t, err)
	a, err := w.Badges.Award(ctx, b.ID, w.Record(w.Joined(db.NewID(), "stu-001", "PROP-A")), time.Now())
	require.NoError(t, err)
	forms, err := w.Badges.Forms(ctx, a)
	require.NoError(t, err)
	assert.Equal(t, []string{"png", "svg"}, forms)
	for _, form := range forms {
		baked, err := w.Badges.Baked(ctx, a.ID, form)
		require.NoError(t, err)
		seen, err := w.Badges.CheckFile(ctx, baked)
		require.NoError(t, err)
		assert.Equal(t, "valid", string(seen.Verdict), form)
	}
	design.Symbol = "unicorn"
	_, err = w.Badges.Draw(ctx, "Maud", b.ID, design)
	require.ErrorContains(t, err, "is not among the symbols")
	design.Symbol = "drop"
	changed, err := w.Badges.Draw(ctx, "Maud", b.ID, design)
	require.NoError(t, err)
	kept, err := badgestore.FindAward(ctx, w.Store, a.ID)
	require.NoError(t, err)
	assert.Equal(t, b.Picture, kept.Picture)
	assert.NotEqual(t, b.Picture, changed.Picture)
	issuer, err := w.Badges.SetIssuerPicture(ctx, "Maud", b.IssuerID,
		[]byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><path d="M1 1h4"/></svg>`))
	require.NoError(t, err)
	document, err := w.Badges.Issuer(ctx, w.Badges.Public, issuer.ID)
	require.NoError(t, err)
	assert.Contains(t, document.Image.ID, issuer.Picture)
}
