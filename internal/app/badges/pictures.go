package badges

import (
	"cmp"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"errors"
	"strings"

	"kanban/internal/core/badge"
	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/wire/openbadge"
)

// The picture of badges that have none of their own, drawn for Kanban, as SVG and as PNG of 480 pixels.
var (
	//go:embed emblem/emblem.svg
	emblemSVG []byte
	//go:embed emblem/emblem.png
	emblemPNG []byte
)

// Emblem is the id of the picture that all badges have.
const Emblem = "emblem"

func pictureAddress(base, id string) string { return base + "/pictures/" + cmp.Or(id, Emblem) }

// PicturePath is where a picture is, seen from a page of this service.
func PicturePath(id string) string { return pictureAddress("/open", id) }

// PictureAddress is where the picture of a badge is, "" being the id of the one that all have.
func (s *Service) PictureAddress(id string) string { return pictureAddress(s.Public, id) }

// Picture gives a picture by its id.
func (s *Service) Picture(ctx context.Context, id string) (badgestore.Picture, error) {
	if id == Emblem {
		return badgestore.Picture{ID: Emblem, Kind: badge.SVG, Content: emblemSVG}, nil
	}
	return badgestore.FindPicture(ctx, s.Store, id)
}

// SetPicture gives a badge a picture of its own, a PNG or an SVG; with no content, the one that all have. Awards that
// were given keep theirs.
func (s *Service) SetPicture(ctx context.Context, who, badgeID string, content []byte) (badgestore.Badge, error) {
	b, err := badgestore.FindBadge(ctx, s.Store, badgeID)
	if err != nil {
		return b, err
	}
	p, err := pictureOf(content)
	if err != nil {
		return b, err
	}
	return s.givePicture(ctx, who, b, p, nil)
}

// pictureOf checks an uploaded picture; one without content is none.
func pictureOf(content []byte) (p badgestore.Picture, err error) {
	if len(content) == 0 {
		return p, nil
	}
	kind, clean, err := badge.CheckPicture(content)
	if err != nil {
		return p, refusal.Invalid("picture", "%s", strings.TrimPrefix(err.Error(), badge.ErrPicture.Error()+": "))
	}
	return badgestore.Picture{ID: pictureID(clean), Kind: kind, Content: clean}, nil
}

func pictureID(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

// keepPicture keeps a picture, if it is one, and gives it to whom it is for.
func (s *Service) keepPicture(ctx context.Context, p badgestore.Picture, give func(*db.Tx) error) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if p.ID != "" {
			if err := badgestore.KeepPicture(ctx, tx, p); err != nil {
				return err
			}
		}
		return give(tx)
	})
}

func (s *Service) givePicture(ctx context.Context, who string, b badgestore.Badge, p badgestore.Picture,
	design *badge.Design,
) (badgestore.Badge, error) {
	b.Picture, b.Design = p.ID, design
	return b, s.keepPicture(ctx, p, func(tx *db.Tx) error {
		if err := badgestore.SetPicture(ctx, tx, b.ID, p.ID, design); err != nil {
			return err
		}
		what := map[string]string{"badge": b.Name, "picture": p.ID}
		if err := tx.Audit(ctx, who, "gave a badge a picture", "badge/"+b.ID, what); err != nil {
			return err
		}
		return tx.Announce(ctx, "badge", b.ID)
	})
}

// Forms are the kinds of picture as which an award can be had.
func (s *Service) Forms(ctx context.Context, a badgestore.Award) ([]string, error) {
	if a.Picture == "" {
		return []string{"png", "svg"}, nil
	}
	kind, png, err := badgestore.PictureKind(ctx, s.Store, a.Picture)
	forms := []string{formOf[kind]}
	if png {
		forms = []string{"png", "svg"}
	}
	return forms, err
}

// formOf is what a kind of picture is called.
var formOf = map[string]string{badge.PNG: "png", badge.SVG: "svg"}

// formsOf are the forms of a picture of a badge's own; one that is drawn here has both.
func formsOf(p badgestore.Picture) map[string][]byte {
	all := map[string][]byte{formOf[p.Kind]: p.Content}
	if len(p.PNG) > 0 {
		all["png"] = p.PNG
	}
	return all
}

// Baked gives an award as a picture that carries its credential: "png" or "svg" (Open Badges 3.0, "Baking"). A badge
// with a picture of its own is had as that.
func (s *Service) Baked(ctx context.Context, awardID, form string) ([]byte, error) {
	a, err := badgestore.FindAward(ctx, s.Store, awardID)
	if err != nil {
		return nil, err
	}
	credential := a.Document
	if len(credential) == 0 { // it was signed before there were proofs inside
		credential = []byte(a.Credential)
	}
	pictures := map[string][]byte{"png": emblemPNG, "svg": emblemSVG}
	if a.Picture != "" {
		p, err := badgestore.FindPicture(ctx, s.Store, a.Picture)
		if err != nil {
			return nil, err
		}
		pictures = formsOf(p)
	}
	picture, there := pictures[form]
	switch {
	case !there:
		return nil, refusal.Invalid("form", "this badge has no picture as %q", form)
	case form == "png":
		return openbadge.BakePNG(picture, credential)
	}
	baked, err := openbadge.BakeSVG(picture, credential)
	if errors.Is(err, openbadge.ErrPicture) {
		return nil, refusal.Conflict("", "the picture cannot carry the badge: %v", err)
	}
	return baked, err
}
