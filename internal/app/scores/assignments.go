package scores

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
)

// Assignment is an assignment of the source in the book of one section, with how it is.
type Assignment struct {
	scorestore.Item
	Section string
	Title   string
	Source  grade.LineItem
	Book    *grade.LineItem
	Outcome grade.ItemOutcome
	Reasons []finding.Code
	Counts  grade.Counts
	// Final, Draft, Partly, Unmarked and Flagged count the results at the source.
	Final, Draft, Partly, Unmarked, Flagged int
	// Category is the book's, with what says so.
	Category, CategoryEvidence string
	SourceCategory             string
	Period                     string // title of the one in which it is
	ActivityTitle              string // of the activity of the outline, empty when it is none
	ChangedSince               bool   // it is left out, and changed since then
	Page                       string // where it is marked, empty when nobody has said
	Carries                    grade.Content
	By                         grade.DateBasis
}

// Assignments lists the assignments of a link by what was read last.
func (s *Service) Assignments(ctx context.Context, linkID string) ([]Assignment, error) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return nil, err
	}
	c, err := s.compare(ctx, l)
	if err != nil {
		return nil, err
	}
	list := make([]Assignment, len(c.rows))
	for i, x := range c.rows {
		list[i] = c.assignment(x, c.items[i], c.plan.Item(x.ID))
		if x.Activity == "" {
			continue
		}
		in, _ := c.sectionOf(x.SectionID)
		title, err := s.activityTitle(ctx, in, x.Activity)
		if _, gone := refusal.As(err); gone {
			title = x.Activity + ", which the outline does not have any more"
		} else if err != nil {
			return nil, err
		}
		list[i].ActivityTitle = title
	}
	return list, nil
}

func (c *compared) assignment(x scorestore.Item, item grade.Item, plan *grade.ItemPlan) Assignment {
	in, _ := c.sectionOf(x.SectionID)
	a := Assignment{
		Item: x, Section: in.Title, Title: c.titleOf(x), Source: item.Source, Book: item.Book, Outcome: plan.Outcome,
		Reasons: plan.Reasons, Counts: plan.Counts(), Carries: c.content(x), By: c.basis(x),
		SourceCategory: c.source.titles[item.Source.Category],
	}
	for _, r := range item.Results {
		switch {
		case r.Deleted:
		case r.Status == grade.Final:
			a.Final++
		case r.Status == grade.Partly:
			a.Partly++
		case r.Status == grade.Unmarked:
			a.Unmarked++
		default:
			a.Draft++
		}
		if r.Mark.Flags != 0 {
			a.Flagged++
		}
	}
	id, evidence, makes := c.categoryOf(x)
	switch {
	case makes != nil:
		a.Category = makes.Title
	case item.Book != nil && item.Book.Category != "":
		a.Category, evidence = c.book.titles[item.Book.Category], "in-book"
	default:
		a.Category = c.book.titles[id]
	}
	a.CategoryEvidence = evidence
	settled, period := c.candidate(x, in, item)
	for _, p := range c.sessions {
		if p.ID == period || settled.Period != nil && p.ID == settled.Period.ID {
			a.Period = p.Title
		}
	}
	a.ChangedSince = x.LeftOut != "" && x.LeftOutAs != printOf(item.Source)
	a.Page = adapter.Page(c.source.settings, "itemPage", map[string]string{"id": x.SourceItem})
	return a
}

// printOf is how an assignment is, to see later whether it changed.
func printOf(x grade.LineItem) string {
	return fmt.Sprintf("%s|%s|%s|%s|%g", x.Title, x.Category, x.Due.UTC().Format(time.RFC3339),
		x.Assigned.UTC().Format(time.RFC3339), x.Maximum)
}

// EditItem is what is to be changed of assignments; what is nil stays as it is. An empty text takes the link's.
type EditItem struct {
	Content, Basis, Category, Period *string
	// Activity is one of the outline: a score and a statement about it are one fact then. Empty for none.
	Activity *string
	// LeftOut says why it is left out; an empty one takes it in again.
	LeftOut *string
}

// EditItems changes many assignments of a link at once, all or none.
func (s *Service) EditItems(ctx context.Context, who, linkID string, ids []string, e EditItem) error {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return err
	}
	w, err := s.world(ctx, l)
	if err != nil {
		return err
	}
	var edited []scorestore.Item
	for _, id := range ids {
		i := slices.IndexFunc(w.items, func(x scorestore.Item) bool { return x.ID == id })
		if i < 0 {
			return refusal.Invalid("ids", "the score link has no assignment %q", id)
		}
		x := w.items[i]
		if err := w.edit(&x, who, e); err != nil {
			return err
		}
		if e.Activity != nil {
			if x.Activity = strings.TrimSpace(*e.Activity); x.Activity != "" {
				in, _ := w.sectionOf(x.SectionID)
				if _, err := s.activityTitle(ctx, in, x.Activity); err != nil {
					return err
				}
			}
		}
		edited = append(edited, x)
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		for _, x := range edited {
			if err := scorestore.UpdateItem(tx, &x); err != nil {
				return err
			}
		}
		if err := tx.Audit(ctx, who, "changed assignments", "score-link/"+linkID,
			map[string]any{"assignments": len(edited)}); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", linkID)
	})
	if err == nil && e.Activity != nil {
		err = s.reportAll(ctx, linkID)
	}
	return s.changed(ctx, linkID, err)
}

// reportAll takes in all results of assignments that are tied to an activity, those that were carried before too.
func (s *Service) reportAll(ctx context.Context, linkID string) error {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return err
	}
	c, err := s.compare(ctx, l)
	if err != nil {
		return err
	}
	return s.report(ctx, c, true)
}

// changed compares a link anew by what was read last, after somebody changed something about it without an error.
func (s *Service) changed(ctx context.Context, linkID string, err error) error {
	if err != nil {
		return err
	}
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil || l.ComparedAt == nil {
		return err
	}
	c, err := s.compare(ctx, l)
	if err != nil {
		return err
	}
	return s.keepCompared(ctx, &l, c, nil)
}

// edit changes one assignment, and refuses what cannot be.
func (w *world) edit(x *scorestore.Item, who string, e EditItem) error {
	if e.Content != nil {
		var c grade.Content
		if x.Content = *e.Content; x.Content != "" && c.UnmarshalText([]byte(x.Content)) != nil {
			return refusal.Invalid("content", "%q is none of scores, completions, nothing", x.Content)
		}
	}
	if e.Basis != nil {
		var b grade.DateBasis
		if x.Basis = *e.Basis; x.Basis != "" && b.UnmarshalText([]byte(x.Basis)) != nil {
			return refusal.Invalid("basis", "%q is none of due, assigned", x.Basis)
		}
	}
	if e.Category != nil {
		if x.Category = *e.Category; x.Category != "" && w.book.titles[x.Category] == "" {
			return refusal.Invalid("category", "%s has no category %q", w.book.name, x.Category)
		}
		if w.book.declared.IsTerm(w.book.titles[x.Category]) {
			return refusal.Invalid("category", "%q is a category of term grades, which are never touched",
				w.book.titles[x.Category])
		}
	}
	if e.Period != nil {
		if x.Period = *e.Period; x.Period != "" &&
			!slices.ContainsFunc(w.sessions, func(p scorestore.Session) bool { return p.ID == x.Period }) {
			return refusal.Invalid("period", "the register has no period %q", x.Period)
		}
	}
	if e.LeftOut == nil {
		return nil
	}
	if strings.TrimSpace(*e.LeftOut) == "" {
		x.LeftOut, x.LeftOutBy, x.LeftOutAs = "", "", ""
		return nil
	}
	reason, err := refusal.Reason(*e.LeftOut, "an assignment that is left out")
	if err != nil {
		return err
	}
	x.LeftOut, x.LeftOutBy, x.LeftOutAs = reason, who, printOf(w.source.items[x.SourceItem].LineItem)
	return nil
}

// Counterparts ranks the book's line items that may be the one of an assignment.
func (s *Service) Counterparts(ctx context.Context, linkID, itemID string) ([]grade.Counterpart, error) {
	w, x, err := s.find(ctx, linkID, itemID)
	if err != nil {
		return nil, err
	}
	in, _ := w.sectionOf(x.SectionID)
	var book []grade.LineItem
	held := map[string]grade.Values{}
	for id, b := range w.book.items {
		if b.Class != in.class {
			continue
		}
		book = append(book, b.LineItem)
		held[id] = grade.Values{}
		for _, r := range w.book.results[id] {
			if who := w.holder[r.Student]; who != "" && r.Mark.Kind == grade.Points && !r.Deleted {
				held[id][who] = r.Mark.Points
			}
		}
	}
	values := grade.Values{}
	for _, r := range w.source.results[x.SourceItem] {
		if who, _ := w.owner(r.Student, x.SourceItem); who != "" && r.Mark.Kind == grade.Points && !r.Deleted {
			values[who] = r.Mark.Points
		}
	}
	linked, err := scorestore.Written(ctx, s.Store, w.link.BookInterfaceID)
	return grade.Rank(w.source.items[x.SourceItem].LineItem, values, book, held, linked), err
}

// find gives an assignment of a link with everything around it.
func (s *Service) find(ctx context.Context, linkID, itemID string) (*world, scorestore.Item, error) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return nil, scorestore.Item{}, err
	}
	w, err := s.world(ctx, l)
	if err != nil {
		return nil, scorestore.Item{}, err
	}
	i := slices.IndexFunc(w.items, func(x scorestore.Item) bool { return x.ID == itemID })
	if i < 0 {
		return nil, scorestore.Item{}, fmt.Errorf("finding the assignment: %w", db.ErrNotFound)
	}
	return w, w.items[i], nil
}

// LinkItem links an assignment to a line item that the book has, or (empty) unlinks it. What was carried before counts
// as the book's own then, so that whatever differs is shown and not overwritten.
func (s *Service) LinkItem(ctx context.Context, who, linkID, itemID, bookItem string) error {
	w, x, err := s.find(ctx, linkID, itemID)
	if err != nil {
		return err
	}
	if bookItem == x.BookItem {
		return nil
	}
	if bookItem != "" {
		in, _ := w.sectionOf(x.SectionID)
		b, there := w.book.items[bookItem]
		switch {
		case !there || b.Gone || b.Class != in.class:
			return refusal.Invalid("bookItem", "%s has no assignment %q in %s", w.book.name, bookItem, in.class)
		case b.Term:
			return refusal.Conflict(finding.ItemTermGrade, "%q is a term grade, which is never touched", b.Title)
		}
	}
	now := s.Clock.Now()
	had := x.BookItem
	x.BookItem, x.Made, x.LinkedBy, x.LinkedAt = bookItem, false, who, &now
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := scorestore.UpdateItem(tx, &x); err != nil {
			return err
		}
		if err := scorestore.ForgetCarried(ctx, tx, x.ID); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "linked an assignment", "score-link/"+linkID,
			map[string]any{"assignment": x.SourceItem, "from": had, "to": bookItem}); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", linkID)
	})
	if errors.Is(err, db.ErrTaken) {
		return refusal.Conflict(finding.ScoreLinkTwice, "another assignment is carried into that one already; unlink it first")
	}
	return s.changed(ctx, linkID, err)
}

// Decide keeps what somebody decides about scores that differ: of people of an assignment, of all of it, or of all of
// a link. It holds until either side changes. It gives how many scores it is about.
func (s *Service) Decide(ctx context.Context, who, linkID string, take grade.Side, items, people []string) (
	int, error,
) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return 0, err
	}
	c, err := s.compare(ctx, l)
	if err != nil {
		return 0, err
	}
	var list []scorestore.Decision
	for _, item := range c.plan.Items {
		if len(items) > 0 && !slices.Contains(items, item.ID) {
			continue
		}
		for _, e := range item.Entries {
			open := e.Outcome == grade.Conflict || e.Reason == finding.ScoreDecided ||
				e.Outcome == grade.Withdrawn && len(people) > 0 // deleting is decided for each, never for all together
			if !open || len(people) > 0 && !slices.Contains(people, e.Who) {
				continue
			}
			list = append(list, scorestore.Decision{
				ItemID: item.ID, PersonID: e.Who, Take: take, Theirs: e.Theirs, Ours: e.Ours, DecidedBy: who,
				DecidedAt: s.Clock.Now(),
			})
		}
	}
	if len(list) == 0 {
		return 0, refusal.Conflict("", "none of these scores differs, so there is nothing to decide; look at a new preview")
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		for _, d := range list {
			if err := scorestore.KeepDecision(ctx, tx, d); err != nil {
				return err
			}
		}
		if err := tx.Audit(ctx, who, "decided about scores that differ", "score-link/"+linkID,
			map[string]any{"take": take.String(), "scores": len(list)}); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", linkID)
	})
	return len(list), s.changed(ctx, linkID, err)
}

// Give says whose results they are that the source has of somebody whom nobody knows or, with a section, in which one
// a mover's result goes on. item narrows it to one assignment of the source. Of a mover, student can be empty: it is
// what the source calls them.
func (s *Service) Give(ctx context.Context, who, linkID, student, item, personID, sectionID string) error {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return err
	}
	w, err := s.world(ctx, l)
	if err != nil {
		return err
	}
	if student == "" && sectionID != "" {
		student = w.studentOf(personID)
	}
	o := scorestore.Owner{
		LinkID: l.ID, SourceItem: item, Student: student, PersonID: personID, GivenBy: who, GivenAt: s.Clock.Now(),
	}
	if _, err := rosterstore.FindPerson(ctx, s.Store, personID); err != nil {
		return err
	}
	switch in, there := w.sectionOf(sectionID); {
	case !w.source.has(student):
		return refusal.Invalid("student", "%s has no result of %q in this class", w.source.name, student)
	case sectionID == "" && len(w.learns[personID]) == 0:
		return refusal.Invalid("personId", "they learn in no section of this score link")
	case sectionID == "":
	case !there:
		return refusal.Invalid("sectionId", "it is no section of this score link")
	case !w.learns[personID][sectionID]:
		return refusal.Invalid("sectionId", "they do not learn in %s", in.Title)
	default:
		o.SectionID = &sectionID
	}
	for id, known := range w.person {
		if sectionID == "" && known == personID && id != student {
			return refusal.Conflict(finding.ScoreTwice,
				"%s has results of them already, as %q; two people's results would become one", w.source.name, id)
		}
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := scorestore.KeepOwner(ctx, tx, o); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "said whose results they are", "score-link/"+linkID,
			map[string]any{"student": student, "person": personID, "section": sectionID}); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", linkID)
	})
	return s.changed(ctx, linkID, err)
}

// studentOf is what the source calls a person; "" when that is not known, or not one name only.
func (w *world) studentOf(person string) (student string) {
	for name, is := range w.person {
		if is != person {
			continue
		}
		if student != "" {
			return ""
		}
		student = name
	}
	return student
}

// Ungive reverts that.
func (s *Service) Ungive(ctx context.Context, who, linkID, student, item string) error {
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		there, err := scorestore.DropOwner(ctx, tx, linkID, item, student)
		if err == nil && !there {
			err = fmt.Errorf("finding whose results they are: %w", db.ErrNotFound)
		}
		if err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "reverted whose results they are", "score-link/"+linkID,
			map[string]any{"student": student}); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", linkID)
	})
	return s.changed(ctx, linkID, err)
}

// Periods lists the grading periods of a link, with who declared which of them final.
func (s *Service) Periods(ctx context.Context, linkID string) (list []grade.Period, final map[string]string,
	err error,
) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return nil, nil, err
	}
	w, err := s.world(ctx, l)
	if err != nil {
		return nil, nil, err
	}
	for _, x := range w.sections {
		for _, p := range w.periods(x) {
			had := slices.ContainsFunc(list, func(h grade.Period) bool { return h.ID == p.ID })
			if p.Kind == l.Policy.PeriodKind && !had {
				list = append(list, p)
			}
		}
	}
	return list, w.final, nil
}

// Close declares a period final: nothing is carried into it from then on. Or opens it again.
func (s *Service) Close(ctx context.Context, who, linkID, period string, final bool) error {
	list, _, err := s.Periods(ctx, linkID)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(p grade.Period) bool { return p.ID == period }) {
		return refusal.Invalid("period", "the score link has no period %q", period)
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := scorestore.KeepPeriodFinal(ctx, tx, linkID, period, who, final, s.Clock.Now()); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "declared a period final, or opened it", "score-link/"+linkID,
			map[string]any{"period": period, "final": final}); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", linkID)
	})
	return s.changed(ctx, linkID, err)
}

// Categories gives how the source's categories match the book's, and all that the book has but those of term grades.
func (s *Service) Categories(ctx context.Context, linkID string) (matches []grade.CategoryMatch, book []grade.Category,
	l scorestore.Link, err error,
) {
	if l, err = scorestore.FindLink(ctx, s.Store, linkID); err != nil {
		return nil, nil, l, err
	}
	w, err := s.world(ctx, l)
	if err != nil {
		return nil, nil, l, err
	}
	for _, c := range w.source.categories {
		if m, used := w.matches[c.ID]; used {
			matches = append(matches, m)
		}
	}
	return matches, w.bookCategories(), l, nil
}
