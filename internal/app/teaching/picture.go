package teaching

import (
	"bytes"
	"context"
	"image"
	"image/png"

	"golang.org/x/image/draw"

	_ "image/gif"  // a form in which pictures come
	_ "image/jpeg" // another one

	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/teachingstore"
)

// Bounds of a picture: in bytes and pixels as it comes, and in pixels as it is kept.
const (
	MostPicture = 4 << 20
	widest      = 6000
	kept        = 192
)

// SetPicture gives a section a picture that only this user sees: a PNG, JPEG or GIF, which is made small, and of which
// nothing but what is to be seen is kept. Without content it is taken away.
func (s *Service) SetPicture(ctx context.Context, userID, sectionID string, content []byte) error {
	var small []byte
	if len(content) > 0 {
		var err error
		if small, err = shrunk(content); err != nil {
			return err
		}
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		return teachingstore.SetPicture(ctx, tx, userID, sectionID, small)
	})
}

// Picture gives a user's picture of a section, a PNG.
func (s *Service) Picture(ctx context.Context, userID, sectionID string) ([]byte, error) {
	return teachingstore.PictureOf(ctx, s.Store, userID, sectionID)
}

// shrunk makes a picture a small square, its middle where it is none.
func shrunk(content []byte) ([]byte, error) {
	const what = "is no picture that can be read: give a PNG, JPEG or GIF"
	size, _, err := image.DecodeConfig(bytes.NewReader(content))
	switch {
	case err != nil || size.Width < 1 || size.Height < 1:
		return nil, refusal.Invalid("picture", what)
	case size.Width > widest || size.Height > widest:
		return nil, refusal.Invalid("picture", "is larger than %d by %d pixels", widest, widest)
	}
	from, _, err := image.Decode(bytes.NewReader(content))
	if err != nil {
		return nil, refusal.Invalid("picture", what)
	}
	b := from.Bounds()
	side := min(b.Dx(), b.Dy())
	at := b.Min.Add(image.Pt((b.Dx()-side)/2, (b.Dy()-side)/2))
	to := image.NewRGBA(image.Rect(0, 0, kept, kept))
	draw.CatmullRom.Scale(to, to.Bounds(), from, image.Rectangle{Min: at, Max: at.Add(image.Pt(side, side))},
		draw.Src, nil)
	var out bytes.Buffer
	err = png.Encode(&out, to)
	return out.Bytes(), err
}
