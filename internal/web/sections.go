package web

import (
	"context"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/linking"
	"kanban/internal/app/pairings"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/visibility"
	"kanban/internal/store/rosterstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

// cardsPerColumn bounds what the board loads at once.
const cardsPerColumn = 60

// SectionFilter says which sections are meant.
type SectionFilter struct {
	Called  string `query:"called" doc:"An id, a code or a title, whole"`
	Text    string `query:"text" doc:"In title, code, course or a teacher's name"`
	Term    string `query:"term" doc:"Title of a term"`
	Teacher string `query:"teacher" doc:"Name of a teacher"`
	State   string `query:"state" enum:",needs-person,out-of-step,never-run,held,paused,in-step,not-paired,ended" doc:"Only those in this state"`
	Org     string `query:"organisation" doc:"Name of an organisation"`
	Course  string `query:"course" doc:"Title, code or id of a course"`
	Role    string `query:"role" doc:"Role of somebody in it, such as proctor"`
	Service string `query:"service" doc:"Name of the interface with which it is paired"`
	AtLeast int    `query:"atLeast" minimum:"0" doc:"Learners"`
	AtMost  string `query:"atMost" doc:"Learners; any number when empty"`
	Hidden  string `query:"hidden" doc:"List what the rule with this name hides, or * for everything"`
}

type sectionsInput struct {
	SectionFilter
	Sort string `query:"sort" enum:",state,-state,section,-section,course,-course,term,-term,teachers,-teachers,learners,-learners,class,-class,run,-run" doc:"What the list is sorted by, with a minus before it for the other way round; when empty, the ones that need somebody come first"`
	Paging
}

var (
	getRosterOp = operation{
		ID: "get-roster", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodGet, Path: "/sections/{id}/roster",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Who was in a section on a day",
	}
	listMovementsOp = operation{
		ID: "list-movements", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodGet, Path: "/sections/{id}/movements",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Who joined and left a section since it was first read",
	}
	listLinkableOp = operation{
		ID: "list-linkable", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodGet, Path: "/sections/{id}/linkable",
		Status: http.StatusOK, Tag: "sections",
		Summary: "What can be linked under a section, and why other sections cannot",
	}
	listCandidateClassesOp = operation{
		ID: "list-candidate-classes", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodGet, Path: "/sections/{id}/candidates",
		Status: http.StatusOK, Tag: "pairings",
		Summary: "Classes of a service by how likely each is the section's counterpart",
	}
	listSectionsOp = operation{
		ID: "list-sections", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/sections", Status: http.StatusOK, Tag: "sections",
		Summary: "List sections with their state",
	}
	getHidingRulesOp = operation{
		ID: "get-hiding-rules", Act: permission.Look,
		Method: http.MethodGet, Path: "/sections/hidden",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Rules that leave sections out of lists",
	}
	editHidingRulesOp = operation{
		ID: "edit-hiding-rules", Act: permission.Settings,
		Method: http.MethodPut, Path: "/sections/hidden",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Change the rules that leave sections out of lists",
	}
	boardOp = operation{
		ID: "board", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/board", Status: http.StatusOK, Tag: "sections",
		Summary: "Every section by state",
	}
)

// sections registers the operations about sections.
func (s *Server) sections(a huma.API) {
	handle(a, getRosterOp, s.getRoster)
	handle(a, listMovementsOp, s.listMovements)
	handle(a, listLinkableOp, s.listLinkable)
	handle(a, listCandidateClassesOp, s.listCandidateClasses)
	handle(a, listSectionsOp, s.listSections)
	handle(a, getHidingRulesOp, s.getHidingRules)
	handle(a, editHidingRulesOp, s.editHidingRules)
	handle(a, boardOp, s.board)
}

func (s *Server) getRoster(ctx context.Context, in *rosterInput) (api.Page[api.RosterLine], error) {
	at, err := moment(in.At)
	if err != nil {
		return api.Page[api.RosterLine]{}, err
	}
	if _, err := s.Registers.FindSection(ctx, in.ID); err != nil {
		return api.Page[api.RosterLine]{}, err
	}
	list, err := s.Registers.RosterOn(ctx, in.ID, at)
	return api.Page[api.RosterLine]{Items: each(list, rosterLine)}, err
}

func (s *Server) listMovements(ctx context.Context, in *byID) (api.Page[api.RosterLine], error) {
	if _, err := s.Registers.FindSection(ctx, in.ID); err != nil {
		return api.Page[api.RosterLine]{}, err
	}
	list, err := s.Registers.Movements(ctx, in.ID, 500)
	return api.Page[api.RosterLine]{Items: each(list, rosterLine)}, err
}

func (s *Server) listLinkable(ctx context.Context, in *linkableInput) (api.Page[api.Linkable], error) {
	all, err := s.Linking.Candidates(ctx, in.ID, in.Text)
	if err != nil {
		return api.Page[api.Linkable]{}, err
	}
	all = slices.DeleteFunc(all, func(c linking.Candidate) bool { return !auth.Reach(ctx).Covers(c.Section.ID) })
	items, next, err := paged(all, in.Cursor, in.Limit)
	shown := each(items, func(c linking.Candidate) api.Linkable {
		return api.Linkable{SectionRef: linked(c.Section), Obstacles: each(c.Obstacles, obstacle)}
	})
	return api.Page[api.Linkable]{Next: next, Total: len(all), Items: shown}, err
}

func (s *Server) listCandidateClasses(ctx context.Context, in *candidatesInput) ([]api.SpaceCandidate, error) {
	if reach(ctx) != nil { // classes of others are among them: they are for whoever may pair the section
		if err := s.mayAlso(ctx, permission.Rosters, "pair", in.ID); err != nil {
			return nil, err
		}
	}
	list, err := s.Pairings.Candidates(ctx, in.ID, in.Interface)
	return each(list, func(c pairings.Candidate) api.SpaceCandidate {
		return api.SpaceCandidate{
			Ref: c.Ref, Name: c.Space.Name, Score: c.Score, Likeness: c.Name, Shared: c.Shared, Missing: c.Missing,
			Others: c.Others, Teachers: c.Teachers, Term: c.Term, Remarks: each(c.Remarks, remark),
		}
	}), err
}

func (s *Server) listSections(ctx context.Context, in *sectionsInput) (api.SectionPage, error) {
	f, err := in.filter()
	if err != nil {
		return api.SectionPage{}, err
	}
	f.Sort, f.Within = in.Sort, reach(ctx)
	list, err := s.Pairings.List(ctx, f)
	if err != nil {
		return api.SectionPage{}, err
	}
	items, next, err := paged(list.Cards, in.Cursor, in.Limit)
	if err != nil {
		return api.SectionPage{}, err
	}
	shown, err := s.linked(ctx, items)
	return api.SectionPage{
		Items: shown, Next: next, Total: len(list.Cards), Choices: api.Choices(list.Choices),
		Hidden: each(list.Hidden, func(l pairings.HiddenCount) api.HiddenCount { return api.HiddenCount(l) }),
	}, err
}

func (s *Server) getHidingRules(ctx context.Context, _ *struct{}) ([]visibility.SectionRule, error) {
	return s.Pairings.HidingRules(ctx)
}

func (s *Server) editHidingRules(ctx context.Context, in *with[[]visibility.SectionRule]) ([]visibility.SectionRule,
	error,
) {
	if err := s.Pairings.SetHidingRules(ctx, auth.Caller(ctx).Name, in.Body); err != nil {
		return nil, err
	}
	return s.Pairings.HidingRules(ctx)
}

func (s *Server) board(ctx context.Context, in *SectionFilter) (api.Board, error) {
	f, err := in.filter()
	if err != nil {
		return api.Board{}, err
	}
	f.Within = reach(ctx)
	list, err := s.Pairings.List(ctx, f)
	if err != nil {
		return api.Board{}, err
	}
	cards := list.Cards
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
}

func (in *SectionFilter) filter() (pairings.Filter, error) {
	f := pairings.Filter{
		Called: in.Called, Text: in.Text, Term: in.Term, Teacher: in.Teacher, State: roster.State(in.State),
		Hidden:       in.Hidden,
		Organisation: in.Org, Course: in.Course, Role: in.Role, Service: in.Service, AtLeast: in.AtLeast,
	}
	if in.AtMost != "" {
		n, err := strconv.Atoi(in.AtMost)
		if err != nil || n < 0 {
			return f, refusal.Invalid("atMost", "%q is not a whole number", in.AtMost)
		}
		f.AtMost = &n
	}
	return f, nil
}

func sectionRef(x rosterstore.Section) api.SectionRef {
	return api.SectionRef{
		ID: x.ID, Title: x.Title, Code: x.Code, Course: x.Course, Terms: x.Terms, School: x.Org,
		Teachers: x.Teachers, Learners: x.Learners, Gone: x.Gone,
	}
}

func section(c pairings.Card) api.Section {
	x := c.Section
	out := api.Section{
		ID: x.ID, Title: c.Title(), Code: x.Code, Course: x.Course, CourseID: x.CourseID, Terms: x.Terms,
		Teachers: c.Teachers,
		Learners: c.Learners, State: c.State, Interface: c.Interface, Next: c.State.About().Next,
		Organisation: x.Org, Roles: c.Roles, EndsOn: x.EndsOn, Gone: x.Gone, Running: c.Running, Alike: c.Alike,
		List: x.List,
	}
	if out.Teachers == nil {
		out.Teachers = []string{}
	}
	if out.Roles == nil {
		out.Roles = []string{}
	}
	if c.Set != nil {
		out.Set = &api.SetRef{ID: c.Set.ID, Name: c.Set.Name, Sections: each(c.Set.Sections, sectionRef)}
	}
	if p := c.Pairing; p != nil {
		out.NextRun, out.OpensAt = p.NextAt, p.OpensAt
		out.PairingID, out.Target, out.Counts, out.RanAt = p.ID, p.TargetName, p.Counts, p.RanAt
	}
	return out
}

type linkableInput struct {
	ID   string `path:"id" doc:"The lead section's id"`
	Text string `query:"text" doc:"In title, code or course"`
	Paging
}

type rosterInput struct {
	ID string `path:"id" doc:"The section's id"`
	At string `query:"at" doc:"A day such as 2026-10-01 or a time of RFC 3339; now when absent"`
}

// moment reads a day, whose end is meant, or a time.
func moment(text string) (time.Time, error) {
	if text == "" {
		return time.Now(), nil
	}
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return day.AddDate(0, 0, 1).Add(-time.Nanosecond), nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return at, refusal.Invalid("at", "%q is neither a day such as 2026-10-01 nor a time of RFC 3339", text)
	}
	return at, nil
}

func rosterLine(l rosterstore.RosterLine) api.RosterLine { return api.RosterLine(l) }

type candidatesInput struct {
	ID        string `path:"id" doc:"The section's id"`
	Interface string `query:"interface" required:"true" doc:"Id of the service's interface"`
}
