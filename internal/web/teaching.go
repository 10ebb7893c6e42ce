package web

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/pairings"
	"kanban/internal/app/teaching"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/teachingstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	listTaughtOp = operation{
		ID: "list-own-sections", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/teaching", Status: http.StatusOK, Tag: "teaching",
		Summary: "The sections that you teach, as you have arranged them, those that have not ended first",
	}
	getTaughtOp = operation{
		ID: "get-own-section", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodGet, Path: "/teaching/{id}", Status: http.StatusOK, Tag: "teaching",
		Summary: "A section that you teach: who is missing and why, in words for teachers, and whom to ask",
	}
	nameTaughtOp = operation{
		ID: "name-own-section", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodPut, Path: "/teaching/{id}/name", Status: http.StatusNoContent, Tag: "teaching",
		Summary: "Give a section that you teach a short name, which only you see",
	}
	orderTaughtOp = operation{
		ID: "order-own-sections", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodPut, Path: "/teaching/order", Status: http.StatusNoContent, Tag: "teaching",
		Summary: "Put the sections that you teach into an order, which only you see",
	}
	pictureTaughtOp = operation{
		ID: "picture-own-section", Act: permission.Look, Of: permission.OfSection, Most: teaching.MostPicture,
		Method: http.MethodPut, Path: "/teaching/{id}/picture", Status: http.StatusNoContent, Tag: "teaching",
		Summary: "Give a section that you teach a picture, which only you see: a PNG, JPEG or GIF",
	}
	dropOwnPictureOp = operation{
		ID: "remove-own-picture", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodDelete, Path: "/teaching/{id}/picture", Status: http.StatusNoContent, Tag: "teaching",
		Summary: "Take your picture of a section away",
	}
	ownPictureOp = operation{
		ID: "get-own-picture", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodGet, Path: "/teaching/{id}/picture", Status: http.StatusOK, Tag: "teaching",
		Summary: "Your picture of a section, a PNG",
	}
	handOnOp = operation{
		ID: "hand-on", Act: permission.Sync, Of: permission.OfSection, Any: true,
		Method: http.MethodPost, Path: "/teaching/{id}/handed", Status: http.StatusCreated, Tag: "teaching",
		Summary: "Hand to whoever can mend it that somebody is not in the class: a task with the comparison, whose answer returns",
	}
)

// teaching registers what teachers see of their own sections.
func (s *Server) teaching(a huma.API) {
	handle(a, listTaughtOp, s.listTaught)
	handle(a, getTaughtOp, s.getTaught)
	handleEmpty(a, nameTaughtOp, s.nameTaught)
	handleEmpty(a, orderTaughtOp, s.orderTaught)
	handleEmpty(a, pictureTaughtOp, s.pictureTaught)
	handleEmpty(a, dropOwnPictureOp, s.dropOwnPicture)
	s.pictureOfTaught(a)
	handle(a, handOnOp, s.handOn)
}

// taught are the cards of the sections that the caller teaches now, with which of them are theirs.
func (s *Server) taught(ctx context.Context) (cards []pairings.Card, own map[string]bool, err error) {
	c := auth.Caller(ctx)
	if c.PersonID == "" {
		return nil, nil, nil
	}
	teacher := c
	teacher.Grants = []permission.Grant{{
		Role: permission.Teacher, Scope: permission.Scope{Kind: permission.Taught, ID: c.PersonID},
	}}
	r, err := s.Access.Reach(ctx, teacher, permission.Look)
	if err != nil || len(r.Sections) == 0 {
		return nil, nil, err
	}
	cards, err = s.Pairings.Cards(ctx, pairings.Filter{Within: &r})
	return cards, r.Sections, err
}

// parts are the sections of a card.
func parts(c pairings.Card) []string {
	if c.Set == nil {
		return []string{c.Section.ID}
	}
	return each(c.Set.Sections, func(x rosterstore.Section) string { return x.ID })
}

// arranged shows cards as their teacher has arranged them.
func (s *Server) arranged(ctx context.Context, cards []pairings.Card, own map[string]bool) ([]api.OwnedSection,
	error,
) {
	c := auth.Caller(ctx)
	names, err := s.Teaching.Own(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	var all, pairingIDs []string
	for _, x := range cards {
		all = append(all, parts(x)...)
		if x.Pairing != nil {
			pairingIDs = append(pairingIDs, x.Pairing.ID)
		}
	}
	setUps, err := s.Teaching.SetUps(ctx, all)
	if err != nil {
		return nil, err
	}
	kept, err := s.Pairings.PairingsByID(ctx, pairingIDs)
	if err != nil {
		return nil, err
	}
	at := map[string]int{}
	list := each(cards, func(x pairings.Card) api.OwnedSection {
		out := owned(x, own, names, setUps)
		if x.Pairing != nil {
			out.Held = kept[x.Pairing.ID].Policy.Hold
			out.Missing, out.Waiting = x.Pairing.Counts[roster.OutcomeNeedsPerson],
				x.Pairing.Counts[roster.OutcomeWaiting]
		}
		at[out.Own] = names[out.Own].Position
		return out
	})
	slices.SortStableFunc(list, func(a, b api.OwnedSection) int {
		placed := func(x api.OwnedSection) int { return cmp.Or(at[x.Own], len(list)+len(at)+1) }
		return cmp.Or(cmp.Compare(ended(a), ended(b)), cmp.Compare(placed(a), placed(b)), cmp.Compare(a.Title,
			b.Title))
	})
	return list, nil
}

func ended(x api.OwnedSection) int {
	if x.Current {
		return 0
	}
	return 1
}

func owned(x pairings.Card, own map[string]bool, names map[string]teachingstore.OwnSection,
	setUps map[string]teachingstore.SetUp,
) api.OwnedSection {
	out := api.OwnedSection{Section: section(x), Current: x.State != roster.Ended}
	sum, of := 0, 0
	for _, id := range parts(x) {
		if own[id] && out.Own == "" {
			out.Own, out.ShortName, out.Picture = id, names[id].ShortName, names[id].Picture
		}
		out.Tasks += setUps[id].Tasks
		if p := setUps[id].Percent; p != nil {
			sum, of = sum+*p, of+1
		}
	}
	if of > 0 {
		percent := sum / of
		out.Percent = &percent
	}
	return out
}

func (s *Server) listTaught(ctx context.Context, _ *struct{}) (api.Page[api.OwnedSection], error) {
	cards, own, err := s.taught(ctx)
	if err != nil || len(cards) == 0 {
		return api.Page[api.OwnedSection]{Items: []api.OwnedSection{}}, err
	}
	list, err := s.arranged(ctx, cards, own)
	return api.Page[api.OwnedSection]{Items: list, Total: len(list)}, err
}

// cardOf is the card of a section, and which of its sections are the caller's own.
func (s *Server) cardOf(ctx context.Context, id string) (pairings.Card, error) {
	r := permission.Reach{Sections: map[string]bool{id: true}}
	cards, err := s.Pairings.Cards(ctx, pairings.Filter{Within: &r})
	if err != nil {
		return pairings.Card{}, err
	}
	if len(cards) == 0 {
		return pairings.Card{}, fmt.Errorf("finding the section: %w", db.ErrNotFound)
	}
	return cards[0], nil
}

func (s *Server) getTaught(ctx context.Context, in *byID) (api.TaughtPage, error) {
	card, err := s.cardOf(ctx, in.ID)
	if err != nil {
		return api.TaughtPage{}, err
	}
	list, err := s.arranged(ctx, []pairings.Card{card}, map[string]bool{in.ID: true})
	if err != nil {
		return api.TaughtPage{}, err
	}
	page := api.TaughtPage{
		OwnedSection: list[0], People: []api.MissingPerson{}, Scores: []api.SectionScores{},
		Elsewhere: []api.Elsewhere{},
	}
	if card.Pairing != nil {
		p, err := s.Pairings.FindPairing(ctx, card.Pairing.ID)
		if err != nil {
			return page, err
		}
		missing, err := s.Teaching.MissingOf(ctx, p, parts(card))
		if err != nil {
			return page, err
		}
		page.People, page.Compared = each(missing, missingPerson), p.ComparedAt
	}
	links, err := s.Scores.List(ctx, in.ID)
	if err != nil {
		return page, err
	}
	for _, l := range links {
		page.Scores = append(page.Scores, api.SectionScores{ID: l.ID, Source: l.Source, Book: l.Book})
	}
	page.Elsewhere, err = s.elsewhere(ctx, in.ID, card, len(links) > 0)
	return page, err
}

func missingPerson(m teaching.Missing) api.MissingPerson {
	out := api.MissingPerson{
		PersonID: m.PersonID, Name: m.Name, Code: string(m.Code), Says: m.Says, Ask: string(m.Ask), Waiting: m.Waiting,
		Since: m.Since,
	}
	if m.Task != nil {
		t := shownTask(*m.Task)
		out.Task = &t
	}
	return out
}

// elsewhere says what of a section is not set up, or done by others, and whom to ask.
func (s *Server) elsewhere(ctx context.Context, id string, card pairings.Card, scores bool) ([]api.Elsewhere, error) {
	setUps, err := s.Teaching.SetUps(ctx, []string{id})
	if err != nil {
		return nil, err
	}
	out := []api.Elsewhere{{
		What: "Who is in the section is decided in the register: whoever is missing there is not here either.",
		Ask:  []string{"the register office"},
	}}
	for _, x := range []struct {
		missing bool
		what    string
		act     permission.Act
	}{
		{card.Pairing == nil, "The section has no class outside yet.", permission.Rosters},
		{!scores, "Scores of this section are not carried anywhere.", permission.CarryScores},
		{!setUps[id].Outline, "The course has no outline yet, so that progress is not known.", permission.Learning},
	} {
		if !x.missing {
			continue
		}
		who, err := s.Access.WhoMay(ctx, x.act, id)
		if err != nil {
			return nil, err
		}
		out = append(out, api.Elsewhere{What: x.what, Ask: each(who, func(u accessstore.User) string {
			return u.Name + " <" + u.Email + ">"
		})})
	}
	return out, nil
}

type nameInput struct {
	ID   string `path:"id" doc:"The section's id"`
	Body api.OwnSectionName
}

func (s *Server) nameTaught(ctx context.Context, in *nameInput) error {
	return s.Teaching.Name(ctx, auth.Caller(ctx).ID, in.ID, in.Body.ShortName)
}

type orderInput struct{ Body api.SectionOrder }

func (s *Server) orderTaught(ctx context.Context, in *orderInput) error {
	if err := allOf(ctx, in.Body.Sections...); err != nil {
		return err
	}
	return s.Teaching.Order(ctx, auth.Caller(ctx).ID, in.Body.Sections)
}

type ownPictureInput struct {
	ID      string `path:"id" doc:"The section's id"`
	RawBody []byte `contentType:"application/octet-stream"`
}

func (s *Server) pictureTaught(ctx context.Context, in *ownPictureInput) error {
	if len(in.RawBody) == 0 {
		return refusal.Invalid("picture", "is empty")
	}
	return s.Teaching.SetPicture(ctx, auth.Caller(ctx).ID, in.ID, in.RawBody)
}

func (s *Server) dropOwnPicture(ctx context.Context, in *byID) error {
	return s.Teaching.SetPicture(ctx, auth.Caller(ctx).ID, in.ID, nil)
}

// pictureOfTaught gives the picture itself.
func (s *Server) pictureOfTaught(a huma.API) {
	op := ownPictureOp.huma()
	op.Responses = map[string]*huma.Response{"200": {
		Description: "PNG",
		Content:     map[string]*huma.MediaType{"image/png": {Schema: &huma.Schema{Type: "string", Format: "binary"}}},
	}}
	type file struct {
		ContentType string `header:"Content-Type"`
		Body        []byte
	}
	huma.Register(a, op, func(ctx context.Context, in *byID) (*file, error) {
		content, err := s.Teaching.Picture(ctx, auth.Caller(ctx).ID, in.ID)
		if err != nil {
			return nil, problemOf(err)
		}
		return &file{"image/png", content}, nil
	})
}

func (s *Server) handOn(ctx context.Context, in *withID[api.NewHanding]) (api.Task, error) {
	card, err := s.cardOf(ctx, in.ID)
	if err != nil {
		return api.Task{}, err
	}
	if card.Pairing == nil {
		return api.Task{}, refusal.Conflict("", "the section has no class outside yet")
	}
	p, err := s.Pairings.FindPairing(ctx, card.Pairing.ID)
	if err != nil {
		return api.Task{}, err
	}
	c := auth.Caller(ctx)
	t, err := s.Teaching.HandOn(ctx, teaching.Handing{
		UserID: c.ID, User: c.Name, Section: card.Title(), SectionID: in.ID, Pairing: p,
		PersonID: strings.TrimSpace(in.Body.PersonID), Note: in.Body.Note,
	})
	if err != nil {
		return api.Task{}, err
	}
	return s.task(ctx, t.ID)
}
