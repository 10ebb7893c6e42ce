package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/pairing"
	"kanban/internal/core/aside"
	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
)

// cardsPerColumn bounds what the board loads at once.
const cardsPerColumn = 200

type sectionsInput struct {
	Paging
	Text    string `query:"text" doc:"In title, code, course or a teacher's name"`
	Term    string `query:"term" doc:"Title of a term"`
	Teacher string `query:"teacher" doc:"Name of a teacher"`
	State   string `query:"state" doc:"One of the states"`
	Aside   string `query:"aside" doc:"List what the rule with this name leaves aside, or * for everything"`
}

func (s *Server) sections(a huma.API) {
	handle(a, "sections", "GET /sections list-sections List sections with their state", func(ctx context.Context, in *sectionsInput) (api.SectionPage, error) {
		cards, left, err := s.Pairing.List(ctx, pairing.Filter{Text: in.Text, Term: in.Term, Teacher: in.Teacher, State: roster.State(in.State), Aside: in.Aside})
		if err != nil {
			return api.SectionPage{}, err
		}
		items, next, err := paged(cards, in.Cursor, in.Limit)
		return api.SectionPage{Items: each(items, section), Next: next, Aside: each(left, func(l pairing.LeftAside) api.LeftAside { return api.LeftAside(l) })}, err
	})
	handle(a, "sections", "GET /sections/aside get-aside Rules that leave sections out of lists", func(ctx context.Context, _ *struct{}) ([]aside.SectionRule, error) {
		return s.Pairing.Aside(ctx)
	})
	handle(a, "sections", "PUT /sections/aside edit-aside Change the rules that leave sections out of lists", func(ctx context.Context, in *with[[]aside.SectionRule]) ([]aside.SectionRule, error) {
		if err := s.Pairing.SetAside(ctx, callerOf(ctx).Name, in.Body); err != nil {
			return nil, err
		}
		return s.Pairing.Aside(ctx)
	})
	handle(a, "sections", "GET /board board Every section by state", func(ctx context.Context, _ *struct{}) (api.Board, error) {
		cards, _, err := s.Pairing.List(ctx, pairing.Filter{})
		if err != nil {
			return api.Board{}, err
		}
		board := api.Board{Columns: make([]api.Column, len(roster.States))}
		at := map[roster.State]*api.Column{}
		for i, state := range roster.States {
			board.Columns[i] = api.Column{State: state, Cards: []api.Section{}}
			at[state] = &board.Columns[i]
		}
		for _, c := range cards {
			column := at[c.State]
			if column.Count++; column.Count <= cardsPerColumn {
				column.Cards = append(column.Cards, section(c))
			}
		}
		return board, nil
	})
}

func section(c pairing.Card) api.Section {
	x := c.Section
	out := api.Section{
		ID: x.ID, Title: x.Title, Code: x.Code, Course: x.Course, CourseID: x.CourseID, Terms: x.Terms, Teachers: x.Teachers,
		Learners: x.Learners, State: c.State, Connection: c.Connection,
	}
	if p := c.Pairing; p != nil {
		out.PairingID, out.Target, out.Counts, out.RanAt = p.ID, p.TargetName, p.Counts, p.RanAt
	}
	return out
}
