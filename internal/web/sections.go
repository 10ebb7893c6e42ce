package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/pairing"
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
}

func (s *Server) sections(a huma.API) {
	handle(a, "sections", "GET /sections list-sections List sections with their state", func(ctx context.Context, in *sectionsInput) (api.Page[api.Section], error) {
		cards, err := s.Pairing.Cards(ctx, pairing.Filter{Text: in.Text, Term: in.Term, Teacher: in.Teacher, State: roster.State(in.State)})
		if err != nil {
			return api.Page[api.Section]{}, err
		}
		items, next, err := paged(cards, in.Cursor, in.Limit)
		return api.Page[api.Section]{Items: each(items, section), Next: next}, err
	})
	handle(a, "sections", "GET /board board Every section by state", func(ctx context.Context, _ *struct{}) (api.Board, error) {
		cards, err := s.Pairing.Cards(ctx, pairing.Filter{})
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
