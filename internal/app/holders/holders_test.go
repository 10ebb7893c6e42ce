package holders_test

import (
	"bytes"
	"encoding/json"
	"image"
	_ "image/png"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/badges"
	"kanban/internal/app/holders"
	"kanban/internal/apptest"
	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// awarded is a world in which Ada, stu-001, holds a badge.
func awarded(t *testing.T) (*apptest.World, badgestore.Award) {
	t.Helper()
	w := apptest.New(t)
	w.Read(w.Register(), false)
	i, err := w.Badges.AddIssuer(t.Context(), "Maud", badgestore.Issuer{Name: "Fernmoor Garden School"})
	require.NoError(t, err)
	b, err := w.Badges.AddBadge(t.Context(), "Maud", badgestore.Badge{
		IssuerID: i.ID, Name: "Cuttings", Description: "Takes cuttings.", Criteria: "Finish the module.",
	})
	require.NoError(t, err)
	all, err := w.Badges.AwardByHand(t.Context(), badges.Anybody("Maud"), b.ID, []string{w.Person("stu-001").ID},
		badges.Wish{Note: "Helped others"}, true)
	require.NoError(t, err)
	a, err := badgestore.FindAward(t.Context(), w.Store, all[0].AwardID)
	require.NoError(t, err)
	return w, a
}

func token(t *testing.T, w *apptest.World, person string) string {
	t.Helper()
	link, err := w.Holders.LinkFor(t.Context(), person)
	require.NoError(t, err)
	return link[strings.LastIndex(link, "/")+1:]
}

// A link opens the page of whom it is for, together with their address; a forwarded, an old or a cut one does not.
func TestLinksOpenOnePage(t *testing.T) {
	w, a := awarded(t)
	ada := w.Person("stu-001")
	link := token(t, w, ada.ID)
	visit, err := w.Holders.Enter(t.Context(), link, " "+strings.ToUpper(ada.Email))
	require.NoError(t, err)
	who, err := w.Holders.Visitor(t.Context(), visit)
	require.NoError(t, err)
	assert.Equal(t, ada.ID, who)
	_, err = w.Holders.Enter(t.Context(), link, w.Person("stu-002").Email)
	require.ErrorIs(t, err, holders.ErrForwarded)
	_, err = w.Holders.Enter(t.Context(), link, "")
	require.ErrorIs(t, err, holders.ErrForwarded)
	for i := range len(link) - 1 { // the last letter has bits that say nothing
		other := byte('A')
		if link[i] == other {
			other = 'B'
		}
		_, err := w.Holders.Enter(t.Context(), link[:i]+string(rune(other))+link[i+1:], ada.Email)
		require.ErrorIs(t, err, db.ErrNotFound, "letter %d is another one", i)
	}
	for _, cut := range []string{"", link[:20], link + "A", visit} {
		_, err := w.Holders.Enter(t.Context(), cut, ada.Email)
		require.ErrorIs(t, err, db.ErrNotFound, cut)
	}
	_, err = w.Holders.Visitor(t.Context(), link)
	require.ErrorIs(t, err, db.ErrNotFound, "a link is no visit")
	at := time.Now()
	later := *w.Holders
	later.Clock = func() time.Time { return at.AddDate(0, 0, 91) }
	_, err = later.Enter(t.Context(), link, ada.Email)
	require.ErrorIs(t, err, holders.ErrOld)
	_, err = later.Visitor(t.Context(), visit)
	require.ErrorIs(t, err, db.ErrNotFound)
	assert.Equal(t, ada.ID, a.PersonID)
}

// Nothing is shared before the terms are accepted, and nothing more after they changed; taking back always works.
func TestTermsAndSharing(t *testing.T) {
	w, a := awarded(t)
	ctx, ada := t.Context(), w.Person("stu-001").ID
	refused := func(err error, text string) {
		t.Helper()
		x, is := refusal.As(err)
		require.True(t, is, "%v", err)
		assert.Contains(t, x.Detail, text)
	}
	refused(w.Holders.Share(ctx, ada, a.ID, true), "accept the terms first")
	refused(w.Holders.SetName(ctx, ada, "Ada"), "accept the terms first")
	refused(w.Holders.Accept(ctx, ada, 2, "Ada"), "have changed since")
	refused(w.Holders.Accept(ctx, ada, 1, "  "), "is missing")
	refused(w.Holders.Accept(ctx, ada, 1, strings.Repeat("x", 201)), "longer than 200")
	require.NoError(t, w.Holders.Accept(ctx, ada, 1, "Ada  Άλντερ"))
	require.NoError(t, w.Holders.Share(ctx, ada, a.ID, true))
	require.ErrorIs(t, w.Holders.Share(ctx, w.Person("stu-002").ID, a.ID, true), db.ErrNotFound, "it is not theirs")
	shown := func() string {
		t.Helper()
		now, err := badgestore.FindAward(ctx, w.Store, a.ID)
		require.NoError(t, err)
		name, err := w.Holders.Shown(ctx, now)
		require.NoError(t, err)
		return name
	}
	assert.Equal(t, "Ada Άλντερ", shown())

	terms, err := w.Holders.SetTerms(ctx, "Maud", "Other terms.\r\n")
	require.NoError(t, err)
	assert.Equal(t, []any{2, "Other terms."}, []any{terms.Version, terms.Text})
	again, err := w.Holders.SetTerms(ctx, "Maud", "Other terms.")
	require.NoError(t, err)
	assert.Equal(t, 2, again.Version, "nothing changed")
	_, err = w.Holders.SetTerms(ctx, "Maud", " ")
	refused(err, "is missing")
	_, err = w.Holders.SetTerms(ctx, "Maud", strings.Repeat("x", 20_001))
	refused(err, "is longer than")
	assert.Equal(t, "Ada Άλντερ", shown(), "what was shared stays so")
	page, err := w.Holders.Page(ctx, ada)
	require.NoError(t, err)
	assert.False(t, page.Accepted)
	require.NoError(t, w.Holders.Share(ctx, ada, a.ID, false))
	assert.Empty(t, shown())
	refused(w.Holders.Share(ctx, ada, a.ID, true), "accept the terms first")
	require.NoError(t, w.Holders.Accept(ctx, ada, 2, "Ada Alder"))
	require.NoError(t, w.Holders.SetName(ctx, ada, "A. Alder"))
	require.NoError(t, w.Holders.Share(ctx, ada, a.ID, true))
	assert.Equal(t, "A. Alder", shown())
	for range 3 {
		require.NoError(t, w.Holders.Looked(ctx, a.ID, false))
	}
	require.NoError(t, w.Holders.Looked(ctx, a.ID, true))
	page, err = w.Holders.Page(ctx, ada)
	require.NoError(t, err)
	require.Len(t, page.Held, 1)
	assert.Equal(t, []int{3, 1}, []int{page.Held[0].Looks.People, page.Held[0].Looks.Programs})
}

// Whoever asks is sent links to the pages behind their address, and nobody is told whether there are any. It works for
// those who left.
func TestAskingForALink(t *testing.T) {
	w, a := awarded(t)
	ctx, ada := t.Context(), w.Person("stu-001")
	for _, address := range []string{ada.Email, "nobody@fernmoor.example"} {
		x, is := refusal.As(w.Holders.Ask(ctx, address))
		require.True(t, is)
		assert.Contains(t, x.Detail, "no mail server is connected")
	}
	w.Mail()
	mails := func() (all []struct{ To, Text string }) {
		t.Helper()
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, w.Standins.Addresses.Inbox+"/mails", nil)
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		require.NoError(t, json.NewDecoder(resp.Body).Decode(&all))
		return all
	}
	asks := func(address string) {
		t.Helper()
		require.NoError(t, w.Holders.Ask(ctx, address))
		var kept string // for whoever asks, known or not
		require.NoError(t, w.Store.Pool.QueryRow(ctx, `SELECT args->>'address' FROM river_job WHERE kind = 'send-links'
			ORDER BY id DESC LIMIT 1`).Scan(&kept))
		assert.Equal(t, address, kept)
		require.NoError(t, w.Holders.SendLinks(ctx, kept))
	}
	for _, address := range []string{"nobody@fernmoor.example", w.Person("stu-002").Email} {
		asks(address)
	}
	assert.Empty(t, mails(), "they hold no badge")
	_, is := refusal.As(w.Holders.Ask(ctx, "not an address"))
	assert.True(t, is)
	_, err := db.Exec(ctx, w.Store, `UPDATE people SET gone_at = now() WHERE id = $1`, ada.ID)
	require.NoError(t, err)
	asks(strings.ToUpper(ada.Email))
	got := mails()
	require.Len(t, got, 1)
	at := strings.Index(got[0].Text, holders.Path+"/link/")
	require.Positive(t, at, got[0].Text)
	link, _, _ := strings.Cut(got[0].Text[at+len(holders.Path)+6:], "\n")
	visit, err := w.Holders.Enter(ctx, strings.TrimSpace(link), ada.Email)
	require.NoError(t, err)
	who, err := w.Holders.Visitor(t.Context(), visit)
	require.NoError(t, err)
	page, err := w.Holders.Page(ctx, who)
	require.NoError(t, err)
	assert.Equal(t, a.ID, page.Held[0].ID, "it stays usable")
}

// The certificate's code, as somebody else's reader reads it, is the award's own address.
func TestCertificates(t *testing.T) {
	w, a := awarded(t)
	ctx, ada := t.Context(), w.Person("stu-001").ID
	pdf, err := w.Holders.Certificate(ctx, ada, a.ID)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(pdf, []byte("%PDF-")))
	assert.Contains(t, string(pdf), w.Badges.AwardAddress(a.ID))
	require.NoError(t, w.Holders.Accept(ctx, ada, 1, "李小龙 Nguyễn Αθηνά Шевчук إكثار"))
	drawn, err := w.Holders.Drawn(ctx, ada, a.ID)
	require.NoError(t, err)
	content, err := drawn.PNG(1684)
	require.NoError(t, err)
	page, _, err := image.Decode(bytes.NewReader(content))
	require.NoError(t, err)
	bitmap, err := gozxing.NewBinaryBitmapFromImage(page)
	require.NoError(t, err)
	read, err := qrcode.NewQRCodeReader().Decode(bitmap, nil)
	require.NoError(t, err)
	assert.Equal(t, w.Badges.AwardAddress(a.ID), read.GetText())

	_, err = w.Holders.Certificate(ctx, w.Person("stu-002").ID, a.ID)
	require.ErrorIs(t, err, db.ErrNotFound, "it is not theirs")
	_, err = w.Badges.Revoke(ctx, "Maud", a.ID, "a mistake")
	require.NoError(t, err)
	_, err = w.Holders.Certificate(ctx, ada, a.ID)
	refused, is := refusal.As(err)
	require.True(t, is)
	assert.Contains(t, refused.Detail, "does not hold")
}
