package scores

import (
	"context"
	"encoding/json"
	"fmt"
	"math"

	"github.com/google/uuid"

	"kanban/internal/core/grade"
	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/xapi"
)

// Outlines gives courses by their present outlines, those that have one.
type Outlines interface {
	CompiledOf(ctx context.Context, courseIDs []string) (map[string]learning.CompiledOutline, error)
}

// Statements takes in what became known about learners, each statement once by its id.
type Statements interface {
	Take(ctx context.Context, interfaceID string, statements []xapi.Statement, raw []json.RawMessage) ([]string, error)
}

// activityTitle is the title of an activity of the outline of a section's course, refused when it has none.
func (s *Service) activityTitle(ctx context.Context, in section, activity string) (string, error) {
	outlines, err := s.Outlines.CompiledOf(ctx, []string{in.CourseID})
	if err != nil {
		return "", err
	}
	if o, there := outlines[in.CourseID]; there {
		if _, a, found := o.Find(activity); found {
			return a.Title, nil
		}
	}
	return "", refusal.Invalid("activity", "the outline of %s has no activity %q", in.Course, activity)
}

// tied are the results of assignments that are tied to an activity of the outline, as statements: what was scored was
// completed. all takes those that are in step too; else only those that a comparison has found new.
func (s *Service) tied(ctx context.Context, c *compared, all bool) (list []xapi.Statement, err error) {
	type known struct {
		row    scorestore.Item
		result grade.Result
	}
	var found []known
	var people []string
	for i, row := range c.rows {
		if row.Activity == "" || c.content(row) == grade.Nothing {
			continue
		}
		plan := c.plan.Item(row.ID)
		for _, r := range c.items[i].Results {
			e := plan.Entry(r.Who)
			news := e != nil && (e.Outcome.Writes() || e.Outcome == grade.Conflict)
			final := r.Status == grade.Final && !r.Deleted && !r.Unknown && r.Mark.Kind != grade.None
			if final && r.Mark.Flags&(grade.Exempt|grade.Missing|grade.NotSubmitted) == 0 && (news || all) {
				found, people = append(found, known{row, r}), append(people, r.Who)
			}
		}
	}
	names, err := rosterstore.PeopleByID(ctx, s.Store, people)
	if err != nil {
		return nil, err
	}
	identifiers := map[string]string{}
	for _, p := range names {
		identifiers[p.ID] = p.Identifier
	}
	for _, f := range found {
		if id := identifiers[f.result.Who]; id != "" {
			list = append(list, c.statement(f.row, f.result, id))
		}
	}
	return list, nil
}

// statement says that somebody completed the activity of an assignment with a score (xAPI 1.0.3, Data 2.4). Its id is
// the same for the same score.
func (c *compared) statement(row scorestore.Item, r grade.Result, identifier string) xapi.Statement {
	item := c.source.items[row.SourceItem]
	st := xapi.Statement{
		Actor: xapi.Agent{Account: &xapi.Account{HomePage: homePage(c.link), Name: identifier}},
		Verb:  xapi.Verb{ID: xapi.ADL + "completed"}, Object: xapi.Object{ID: row.Activity}, Timestamp: r.Marked,
	}
	if r.Mark.Kind == grade.Points && item.Maximum > 0 && !math.IsNaN(r.Mark.Points) && !math.IsInf(r.Mark.Points, 0) {
		scaled, raw, most := min(1, max(-1, r.Mark.Points/item.Maximum)), r.Mark.Points, item.Maximum
		st.Result = &xapi.Result{Score: &xapi.Score{Scaled: &scaled, Raw: &raw, Max: &most}}
	}
	said := fmt.Appendf(nil, "%s %s %s %s %d %s %g", homePage(c.link), row.SourceItem, row.Activity, identifier,
		r.Marked.UnixNano(), r.Mark, item.Maximum)
	st.ID = uuid.NewSHA1(uuid.NameSpaceURL, said).String()
	return st
}

// homePage is under which the accounts of a gradebook carry the register's identifiers.
func homePage(l scorestore.Link) string { return "urn:uuid:" + l.SourceInterfaceID }

// report takes in results of assignments that are tied to an activity, before the comparison that found them is
// kept: cut off, it is done again, and counts once.
func (s *Service) report(ctx context.Context, c *compared, all bool) error {
	list, err := s.tied(ctx, c, all)
	if err != nil || len(list) == 0 {
		return err
	}
	raw := make([]json.RawMessage, len(list))
	for i := range list {
		if raw[i], err = json.Marshal(list[i]); err != nil {
			return err
		}
	}
	_, err = s.Statements.Take(ctx, c.link.SourceInterfaceID, list, raw)
	return err
}

// OutlineActivity is an activity of the outline that an assignment can be.
type OutlineActivity struct {
	ID, Title, Module string
}

// Activities lists the activities of the outline of a link's course, in its order; none where it has no outline.
func (s *Service) Activities(ctx context.Context, linkID string) (list []OutlineActivity, err error) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return nil, err
	}
	sections, err := s.sectionsOf(ctx, l)
	if err != nil || len(sections) == 0 {
		return nil, err
	}
	outlines, err := s.Outlines.CompiledOf(ctx, []string{sections[0].CourseID})
	if err != nil || outlines[sections[0].CourseID].Course == nil {
		return nil, err
	}
	for _, m := range outlines[sections[0].CourseID].Outline.Modules {
		for _, a := range m.All() {
			list = append(list, OutlineActivity{a.ID, a.Title, m.Title})
		}
	}
	return list, nil
}
