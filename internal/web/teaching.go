package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/scores"
	"kanban/internal/app/teaching"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	listTaughtSectionsOp = operation{
		ID: "list-taught-sections", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/teaching", Status: http.StatusOK, Tag: "teaching",
		Summary: "The sections that you teach, as you have arranged them, those that have not ended first",
	}
	getTaughtSectionOp = operation{
		ID: "get-taught-section", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodGet, Path: "/teaching/{id}", Status: http.StatusOK, Tag: "teaching",
		Summary: "A section as its teacher sees it: who is missing and why, in words for teachers, and whom to ask",
	}
	nameTaughtSectionOp = operation{
		ID: "name-taught-section", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodPut, Path: "/teaching/{id}/name", Status: http.StatusNoContent, Tag: "teaching",
		Summary: "Give a section that you teach a short name, which only you see",
	}
	orderTaughtSectionsOp = operation{
		ID: "order-taught-sections", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodPut, Path: "/teaching/order", Status: http.StatusNoContent, Tag: "teaching",
		Summary: "Put the sections that you teach into an order, which only you see",
	}
	setTaughtPictureOp = operation{
		ID: "set-taught-picture", Act: permission.Look, Of: permission.OfSection, Most: teaching.MostPicture,
		Method: http.MethodPut, Path: "/teaching/{id}/picture", Status: http.StatusNoContent, Tag: "teaching",
		Summary: "Give a section that you teach a picture, which only you see: a PNG, JPEG or GIF",
	}
	dropTaughtPictureOp = operation{
		ID: "remove-taught-picture", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodDelete, Path: "/teaching/{id}/picture", Status: http.StatusNoContent, Tag: "teaching",
		Summary: "Take your picture of a section away",
	}
	taughtPictureOp = operation{
		ID: "get-taught-picture", Act: permission.Look, Of: permission.OfSection,
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
	handle(a, listTaughtSectionsOp, s.listTaughtSections)
	handle(a, getTaughtSectionOp, s.getTaughtSection)
	handleEmpty(a, nameTaughtSectionOp, s.nameTaughtSection)
	handleEmpty(a, orderTaughtSectionsOp, s.orderTaughtSections)
	handleEmpty(a, setTaughtPictureOp, s.setTaughtPicture)
	handleEmpty(a, dropTaughtPictureOp, s.dropTaughtPicture)
	s.taughtPicture(a)
	handle(a, handOnOp, s.handOn)
}

func taughtSection(ctx context.Context, x teaching.Section) api.TaughtSection {
	_, hidden := hiderOf(ctx) // people may be in pictures
	return api.TaughtSection{
		Section: section(x.Card), Own: x.SectionID, ShortName: x.ShortName, Picture: x.Picture && !hidden,
		Current: x.Current(), Missing: x.Missing, Waiting: x.Waiting, Held: x.Held, Tasks: x.Tasks, Percent: x.Percent,
	}
}

func (s *Server) listTaughtSections(ctx context.Context, _ *struct{}) (api.Page[api.TaughtSection], error) {
	c := auth.Caller(ctx)
	list, err := s.Teaching.Sections(ctx, c.ID, c.PersonID)
	return api.Page[api.TaughtSection]{
		Items: each(list, func(x teaching.Section) api.TaughtSection { return taughtSection(ctx, x) }),
		Total: len(list),
	}, err
}

func (s *Server) getTaughtSection(ctx context.Context, in *byID) (api.TaughtSectionPage, error) {
	page, err := s.Teaching.Page(ctx, auth.Caller(ctx).ID, in.ID)
	if err != nil {
		return api.TaughtSectionPage{}, err
	}
	return api.TaughtSectionPage{
		TaughtSection: taughtSection(ctx, page.Section),
		Compared:      page.Compared,
		People:        each(page.People, missingPerson),
		Scores: each(page.Scores, func(l scores.Listed) api.SectionScores {
			return api.SectionScores{ID: l.ID, Source: l.Source, Book: l.Book}
		}),
		Elsewhere: each(page.Elsewhere, func(e teaching.Elsewhere) api.Elsewhere {
			return api.Elsewhere{What: e.What, Ask: each(e.Ask, func(who string) string { return who })}
		}),
	}, nil
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

type nameInput struct {
	ID   string `path:"id" doc:"The section's id"`
	Body api.SectionName
}

func (s *Server) nameTaughtSection(ctx context.Context, in *nameInput) error {
	return s.Teaching.Name(ctx, auth.Caller(ctx).ID, in.ID, in.Body.ShortName)
}

type orderInput struct{ Body api.SectionOrder }

func (s *Server) orderTaughtSections(ctx context.Context, in *orderInput) error {
	if err := allOf(ctx, in.Body.Sections...); err != nil {
		return err
	}
	return s.Teaching.Order(ctx, auth.Caller(ctx).ID, in.Body.Sections)
}

type taughtPictureInput struct {
	ID      string `path:"id" doc:"The section's id"`
	RawBody []byte `contentType:"application/octet-stream"`
}

func (s *Server) setTaughtPicture(ctx context.Context, in *taughtPictureInput) error {
	if len(in.RawBody) == 0 {
		return refusal.Invalid("picture", "is empty")
	}
	return s.Teaching.SetPicture(ctx, auth.Caller(ctx).ID, in.ID, in.RawBody)
}

func (s *Server) dropTaughtPicture(ctx context.Context, in *byID) error {
	return s.Teaching.SetPicture(ctx, auth.Caller(ctx).ID, in.ID, nil)
}

// taughtPicture registers what gives the picture itself.
func (s *Server) taughtPicture(a huma.API) {
	op := taughtPictureOp.huma()
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
	c := auth.Caller(ctx)
	t, err := s.Teaching.HandOn(ctx, teaching.Handing{
		UserID: c.ID, User: c.Name, SectionID: in.ID, PersonID: in.Body.PersonID, Note: in.Body.Note,
	})
	return shownTask(t), err
}
