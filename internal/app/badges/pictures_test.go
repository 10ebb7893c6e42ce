package badges_test

import (
	"bytes"
	"image"
	"image/png"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/openbadge"
)

// A badge may have a picture of its own; an award keeps the one with which it was given, and is had as that.
func TestAwardsKeepTheirPicture(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	b := badge(t, w)
	award := func(student string) badgestore.Award {
		t.Helper()
		person := w.Person(student)
		a, err := w.Badges.Award(t.Context(), b.ID, w.Record(eventstore.Event{
			Type: "module.completed", NaturalKey: student, PersonID: &person.ID, OccurredAt: time.Now(),
		}), time.Now().UTC())
		require.NoError(t, err)
		return a
	}
	var drawn bytes.Buffer
	require.NoError(t, png.Encode(&drawn, image.NewGray(image.Rect(0, 0, 120, 120))))
	plain := award("stu-001")
	_, err := w.Badges.SetPicture(t.Context(), "Maud", b.ID, []byte("GIF89a"))
	require.ErrorContains(t, err, "neither a PNG nor an SVG")
	set, err := w.Badges.SetPicture(t.Context(), "Maud", b.ID, drawn.Bytes())
	require.NoError(t, err)
	pictured := award("stu-002")
	_, err = w.Badges.SetPicture(t.Context(), "Maud", b.ID,
		[]byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><path d="M1 1h4"/></svg>`))
	require.NoError(t, err)
	vector := award("stu-003")
	_, err = w.Badges.SetPicture(t.Context(), "Maud", b.ID, nil)
	require.NoError(t, err)

	for id, forms := range map[string][]string{plain.ID: {"png", "svg"}, pictured.ID: {"png"}, vector.ID: {"svg"}} {
		a, err := badgestore.FindAward(t.Context(), w.Store, id)
		require.NoError(t, err)
		has, err := w.Badges.Forms(t.Context(), a)
		require.NoError(t, err)
		assert.Equal(t, forms, has)
		for _, form := range []string{"png", "svg", "gif"} {
			baked, err := w.Badges.Baked(t.Context(), id, form)
			if slices.Contains(forms, form) {
				require.NoError(t, err)
				seen, err := w.Badges.CheckFile(t.Context(), baked)
				require.NoError(t, err)
				assert.Equal(t, openbadge.Valid, seen.Verdict)
			} else {
				assert.ErrorContains(t, err, "no picture as")
			}
		}
	}
	assert.Contains(t, string(pictured.Document), `"id":"`+w.Badges.PictureAddress(set.Picture)+`"`)
	p, err := w.Badges.Picture(t.Context(), set.Picture)
	require.NoError(t, err)
	_, err = png.Decode(bytes.NewReader(p.Content))
	require.NoError(t, err)
	_, err = w.Badges.Picture(t.Context(), "none")
	require.ErrorIs(t, err, db.ErrNotFound)
}
