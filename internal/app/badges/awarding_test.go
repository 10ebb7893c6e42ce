package badges_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
	"pgregory.net/rapid"

	"kanban/internal/app/badges"
	"kanban/internal/apptest"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/openbadge"
)

func outcomes(all []badges.Awarding) (out []string) {
	for _, a := range all {
		out = append(out, a.Outcome)
	}
	return out
}

// A badge is awarded by hand once to each, whatever is repeated or done by two at once; what was said beforehand
// is what happens.
func TestAwardByHand(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b, section := badge(t, w), w.Section("PROP-A")
	people := []string{w.Person("stu-001").ID, w.Person("stu-005").ID, w.Person("stu-002").ID, w.Person("stu-001").ID}
	wish := badges.Wish{
		Note: "Well done", SectionID: section.ID, Evidence: []badgestore.Evidence{{Address: "https://x.example/photo", Text: "A photo"}},
		At: time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC),
	}
	said, err := w.Badges.AwardByHand(t.Context(), badges.Anybody("Maud"), b.ID, people, wish, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"to-award", "refused", "to-award", "refused"}, outcomes(said))
	assert.Contains(t, said[1].Because, "no e-mail address")
	assert.Contains(t, said[3].Because, "twice")
	none, err := badgestore.Awards(t.Context(), w.Store, badgestore.AwardFilter{BadgeID: b.ID, Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, none)

	var both errgroup.Group
	done := make([][]badges.Awarding, 3)
	for i := range done {
		both.Go(func() (err error) {
			done[i], err = w.Badges.AwardByHand(t.Context(), badges.Anybody("Maud"), b.ID, people, wish, true)
			return err
		})
	}
	require.NoError(t, both.Wait())
	var awarded int
	for _, d := range done {
		awarded += strings.Count(strings.Join(outcomes(d), " "), "awarded")
	}
	assert.Equal(t, 2, awarded)
	list, err := badgestore.Awards(t.Context(), w.Store, badgestore.AwardFilter{
		BadgeID: b.ID, PersonID: people[0], Limit: 10,
	})
	require.NoError(t, err)
	require.Len(t, list, 1)
	c, err := w.Badges.Check(t.Context(), list[0].ID)
	require.NoError(t, err)
	assert.Equal(t, openbadge.Valid, c.Verdict, "%+v", c.Checks)
	assert.Equal(t, []string{"Well done", "https://x.example/photo", "A photo"},
		[]string{c.Seen.Narrative, c.Seen.Evidence[0].ID, c.Seen.Evidence[0].Narrative})
	assert.Equal(t, wish.At, c.Seen.ValidFrom)
	assert.Equal(t, []any{"Maud", section.ID}, []any{list[0].AwardedBy, *list[0].SectionID})
	events, err := eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Type: "badge.awarded", Limit: 10})
	require.NoError(t, err)
	assert.Len(t, events, 2)

	for want, change := range map[string]func(*badges.Wish){
		"in the future":      func(w *badges.Wish) { w.At = time.Now().Add(48 * time.Hour) },
		"longer than":        func(w *badges.Wish) { w.Note = strings.Repeat("x", 3000) },
		"not a full address": func(w *badges.Wish) { w.Evidence = []badgestore.Evidence{{Address: "photo"}} },
		"is empty":           func(w *badges.Wish) { w.Evidence = []badgestore.Evidence{{}} },
	} {
		bad := wish
		change(&bad)
		_, err := w.Badges.AwardByHand(t.Context(), badges.Anybody("Maud"), b.ID, people, bad, true)
		assert.ErrorContains(t, err, want)
	}
	nowhere := wish
	nowhere.SectionID = db.NewID()
	_, err = w.Badges.AwardByHand(t.Context(), badges.Anybody("Maud"), b.ID, people, nowhere, true)
	require.ErrorContains(t, err, "there is no section")
	_, err = w.Badges.AwardByHand(t.Context(), badges.Anybody("Maud"), b.ID, nil, wish, true)
	assert.ErrorContains(t, err, "choose who")
	_, err = w.Badges.AwardByHand(t.Context(), badges.Anybody("Maud"), b.ID, []string{db.NewID()}, wish, true)
	assert.ErrorContains(t, err, "nobody with the id")
}

// Each row of a file has its outcome and its reason, and what is wrong with one row does not keep the others.
func TestAwardFromFile(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	ada, twins := w.Person("stu-001"), w.Person("stu-003")
	_, err := w.Store.Pool.Exec(t.Context(), `UPDATE people SET gone_at = now() WHERE identifier = 'stu-050'`)
	require.NoError(t, err)
	file := "\ufeffPerson;Badge;Date;Note;Evidence\r\n" +
		"stu-001;cuttings;2026-03-01;\"Well; done\";https://x.example/1\r\n" +
		ada.Email + ";;;;\r\n" +
		"nobody@fernmoor.example;;;;\r\n" +
		"stu-005;;;;\r\n" +
		twins.Email + ";;;;\r\n" +
		"stu-002;Nonsense;;;\r\n" +
		"stu-002;;01.03.2026;;\r\n" +
		"stu-002;;2999-01-01;;\r\n" +
		"stu-002;;;;photo\r\n" +
		"stu-002;;;;;x\r\n" +
		";;;;\r\n" +
		"stu-006;;;;\r\n" +
		"stu-050;;;;\r\n"
	want := []string{
		"to-award ", "refused stands in line 2 already", "refused nobody has the identifier", "refused has no e-mail address",
		"refused fits", "refused there is no badge", "refused the date", "refused the date is in the future", "refused the evidence",
		"refused has 6 cells", "refused no person", "to-award ", "refused is not in the register any more",
	}
	for _, apply := range []bool{false, true, true} {
		rows, err := w.Badges.AwardFromFile(t.Context(), badges.Anybody("Maud"), b.ID, []byte(file), apply)
		require.NoError(t, err)
		require.Len(t, rows, len(want))
		for i, r := range rows {
			outcome, because, _ := strings.Cut(want[i], " ")
			if outcome == "to-award" && apply {
				outcome = r.Outcome
				assert.Contains(t, []string{"awarded", "held"}, outcome)
			}
			assert.Equal(t, outcome, r.Outcome, "%d %+v", i, r)
			assert.Contains(t, r.Because, because, "%d", i)
			assert.Equal(t, i+2, r.Line)
		}
	}
	list, err := badgestore.Awards(t.Context(), w.Store, badgestore.AwardFilter{BadgeID: b.ID, Limit: 100})
	require.NoError(t, err)
	assert.Len(t, list, 2)
	for text, want := range map[string]string{
		"": "no header", "learner\nx": "column \"learner\"", "badge\nx": "no column \"person\"", "person,person\nx,y": "twice",
		"person": "no row", "person\n\xff": "UTF-8", "person\n\"x": "cannot be read",
	} {
		_, err := w.Badges.AwardFromFile(t.Context(), badges.Anybody("Maud"), b.ID, []byte(text), true)
		assert.ErrorContains(t, err, want)
	}
}

// Whatever is in a file, it awards nobody who is not named in it, and nobody twice.
func TestDamagedFilesAwardNobodyElse(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	ctx := t.Context()
	good := "person,badge,note\nstu-001,Cuttings,x\nstu-002,Cuttings,\"y, z\"\n"
	rapid.Check(t, func(t *rapid.T) {
		file := []byte(good)
		for range rapid.IntRange(0, 3).Draw(t, "times") {
			file[rapid.IntRange(0, len(file)-1).Draw(t, "at")] = rapid.SampledFrom([]byte("\"',;\n\t\x00\xffs0 ")).
				Draw(t, "byte")
		}
		file = file[:rapid.IntRange(0, len(file)).Draw(t, "cut")]
		rows, err := w.Badges.AwardFromFile(ctx, badges.Anybody("Maud"), b.ID, file, false)
		if err != nil {
			return
		}
		for _, r := range rows {
			if r.Outcome == badges.ToAward {
				assert.Contains(t, string(file), r.Person)
				assert.NotEmpty(t, r.PersonID)
			}
		}
	})
}
