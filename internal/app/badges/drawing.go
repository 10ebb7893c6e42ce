package badges

import (
	"context"
	"strings"

	"kanban/internal/core/badge"
	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/wire/drawing"
)

// drawnWidth is how wide the PNG of a picture is that is drawn here, in pixels.
const drawnWidth = 600

// Symbol is one that can stand in the middle of a badge's picture.
type Symbol struct{ Name, Path string } // the path in a square of 256

// Symbols lists those that there are.
func (s *Service) Symbols() (all []Symbol) {
	for _, name := range drawing.Symbols() {
		all = append(all, Symbol{name, drawing.SymbolPath(name)})
	}
	return all
}

// Drawn gives the picture of a badge as it would be drawn, as SVG.
func (s *Service) Drawn(d badge.Design, title string) ([]byte, error) {
	drawn, err := drawing.Emblem(d, title)
	if err != nil {
		return nil, notDrawn(err)
	}
	return drawn.SVG(), nil
}

func notDrawn(err error) error {
	return refusal.Invalid("design", "%s", strings.TrimPrefix(err.Error(), badge.ErrDesign.Error()+": "))
}

// Draw gives a badge a picture that is drawn here. Awards that were given keep theirs.
func (s *Service) Draw(ctx context.Context, who, badgeID string, d badge.Design) (badgestore.Badge, error) {
	b, err := badgestore.FindBadge(ctx, s.Store, badgeID)
	if err != nil {
		return b, err
	}
	drawn, err := drawing.Emblem(d, b.Name)
	if err != nil {
		return b, notDrawn(err)
	}
	p := badgestore.Picture{Kind: badge.SVG, Content: drawn.SVG()}
	p.ID = pictureID(p.Content)
	if p.PNG, err = drawn.PNG(drawnWidth); err != nil {
		return b, err
	}
	return s.givePicture(ctx, who, b, p, &d)
}

// Begin is with what the drawing of a badge's picture begins: as it is drawn, else like another badge of its issuer.
func (s *Service) Begin(ctx context.Context, badgeID string) (badge.Design, error) {
	b, err := badgestore.FindListed(ctx, s.Store, badgeID, nil)
	if err != nil {
		return badge.Design{}, err
	}
	if b.Design != nil {
		return *b.Design, nil
	}
	like, err := badgestore.DesignOfIssuer(ctx, s.Store, b.IssuerID)
	return badge.Begin(like, b.Issuer, b.Name), err
}

// SetIssuerPicture gives an issuer a picture, a PNG or an SVG; with no content, none.
func (s *Service) SetIssuerPicture(ctx context.Context, who, issuerID string, content []byte) (badgestore.Issuer,
	error,
) {
	i, err := badgestore.FindIssuer(ctx, s.Store, issuerID)
	if err != nil {
		return i, err
	}
	p, err := pictureOf(content)
	if err != nil {
		return i, err
	}
	i.Picture = p.ID
	return i, s.keepPicture(ctx, p, func(tx *db.Tx) error {
		if err := badgestore.SetIssuerPicture(ctx, tx, i.ID, p.ID); err != nil {
			return err
		}
		what := map[string]string{"issuer": i.Name, "picture": p.ID}
		if err := tx.Audit(ctx, who, "gave an issuer a picture", "issuer/"+i.ID, what); err != nil {
			return err
		}
		return tx.Announce(ctx, "badge", "")
	})
}
