package badges

import (
	"context"
	_ "embed"

	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/wire/openbadge"
)

// The picture of badges that have none of their own, drawn for Kanban, as SVG and as PNG of 480 pixels.
var (
	//go:embed emblem/emblem.svg
	emblemSVG []byte
	//go:embed emblem/emblem.png
	emblemPNG []byte
)

// Baked gives an award as a picture that carries its credential: "png" or "svg" (Open Badges 3.0, "Baking").
func (s *Service) Baked(ctx context.Context, awardID, form string) ([]byte, error) {
	a, err := badgestore.FindAward(ctx, s.Store, awardID)
	if err != nil {
		return nil, err
	}
	credential := a.Document
	if len(credential) == 0 { // it was signed before there were proofs inside
		credential = []byte(a.Credential)
	}
	switch form {
	case "png":
		return openbadge.BakePNG(emblemPNG, credential)
	case "svg":
		return openbadge.BakeSVG(emblemSVG, credential)
	}
	return nil, refusal.Invalid("form", "%q is neither png nor svg", form)
}
