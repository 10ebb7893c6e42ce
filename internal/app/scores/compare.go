package scores

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
)

// unknown begins what stands for somebody at the source whom nobody knows, stranger for somebody in the book.
const (
	unknown  = "?"
	stranger = "?book/"
)

// gradeItem gives an assignment with its results on both sides, as they are compared.
func (w *world) gradeItem(x scorestore.Item, now time.Time) grade.Item {
	in, _ := w.sectionOf(x.SectionID)
	source, there := w.source.items[x.SourceItem]
	if !there {
		source.ID, source.Title, source.Gone = x.SourceItem, x.SourceItem, true
	}
	out := grade.Item{
		ID: x.ID, Source: source.LineItem, Content: w.content(x), LeftOut: x.LeftOut != "",
		Scale: w.source.scales[source.Scale], Decisions: w.decided[x.ID],
		SourceIncomplete: w.source.unread[x.SourceItem] || w.source.read.UnreadCount > 0,
	}
	if x.BookItem != "" {
		book, there := w.book.items[x.BookItem]
		switch {
		case (!there || book.Gone) && w.book.handed[x.BookItem]: // as it was handed over
			book.LineItem = source.LineItem
			book.ID, book.Category, book.Period, book.Gone = x.BookItem, "", "", false
		case !there:
			book.ID, book.Title, book.Gone = x.BookItem, source.Title, true
		}
		out.Book = &book.LineItem
	}
	c, period := w.candidate(x, in, out)
	out.Reasons = grade.Ready(c, w.book.declared.Needs, now)
	if source.Unread || out.Book != nil && w.book.items[x.BookItem].Unread {
		out.Reasons = append([]finding.Code{finding.ItemUnreadable}, out.Reasons...)
	}
	_, out.PeriodFinal = w.final[period]
	if at := slices.IndexFunc(w.sessions, func(p scorestore.Session) bool { return p.ID == period }); at >= 0 {
		w.inPeriod[x.ID] = scorestore.InPeriod{ID: period, Title: w.sessions[at].Title}
	}
	out.Results = w.results(x, in)
	for _, r := range w.book.results[x.BookItem] {
		if x.BookItem == "" || r.Deleted {
			continue
		}
		who := w.holder[r.Student]
		if who == "" {
			who = stranger + r.Student
		}
		out.Held = append(out.Held, grade.Held{Who: who, Mark: r.Mark, Unread: r.Unread})
	}
	unproven := map[string]bool{}
	for _, student := range w.book.waiting {
		if who := w.holder[student]; who != "" && w.book.unproven[x.BookItem+"/"+student] {
			unproven[who] = true
		}
	}
	for who, mark := range w.carried[x.ID] {
		out.Carried = append(out.Carried, grade.Carried{Who: who, Mark: mark, Unproven: unproven[who]})
	}
	out.BookUnknown = w.book.files && w.book.read.ReadNo == 0
	return out
}

// candidate says what is settled about an assignment, and in which of the book's periods it is.
func (w *world) candidate(x scorestore.Item, in section, item grade.Item) (c grade.Candidate, period string) {
	category, _, _ := w.categoryOf(x)
	c = grade.Candidate{
		Source: item.Source, Book: item.Book, Basis: w.basis(x), Category: category,
		WithoutPoints: w.link.Policy.WithoutPoints, OnlyLinked: !w.book.declared.Makes,
	}
	periods := w.periods(in)
	if x.Period != "" {
		if i := slices.IndexFunc(periods, func(p grade.Period) bool { return p.ID == x.Period }); i >= 0 {
			c.Period = &periods[i]
		}
	} else {
		c.Period, c.PeriodReason = grade.FindPeriod(c.Basis.Date(item.Source), w.link.Policy.PeriodKind, periods)
	}
	if in.BeginsOn != nil {
		c.TermBegins = *in.BeginsOn
	}
	linked, called := w.linked(), grade.Called(item.Source.Title)
	for id, b := range w.book.items {
		if item.Book == nil && b.Class == in.class && !b.Gone && !linked[id] && grade.Called(b.Title) == called {
			c.NameTaken = true
		}
	}
	switch {
	case item.Book != nil && item.Book.Period != "":
		period = item.Book.Period
	case c.Period != nil:
		period = c.Period.ID
	}
	return c, period
}

// linked are the book's line items that belong to an assignment of the link.
func (w *world) linked() map[string]bool {
	out := map[string]bool{}
	for _, x := range w.items {
		out[x.BookItem] = true
	}
	return out
}

// results gives those of an assignment that belong to one section. Each is in exactly one of them, but for somebody
// who learns in several, and for a mover whose results were let go on in the new section: they stay in the old one
// too.
func (w *world) results(x scorestore.Item, in section) (list []grade.Result) {
	for _, r := range w.source.results[x.SourceItem] {
		one := r.Result
		one.CommentHidden = !w.source.declared.CommentsSeen
		if r.Unread {
			one.Status, one.Deleted = grade.Unmarked, false
			one.Mark = grade.Mark{}
		}
		person, given := w.owner(r.Student, x.SourceItem)
		if person == "" {
			if in.ID == w.sections[0].ID {
				one.Who, one.Unknown = unknown+r.Student, true
				list = append(list, one)
			}
			continue
		}
		one.Who = person
		if w.place(&one, x, in, given) {
			list = append(list, one)
		}
	}
	if w.source.declared.ResultsForGiven && len(w.source.results[x.SourceItem]) > 0 {
		list = append(list, w.notGiven(x, in, list)...)
	}
	return list
}

// notGiven are the learners of a section to whom an assignment was not given, where the source tells that. Of whom
// something was carried it is not known: a result may only not be read.
func (w *world) notGiven(x scorestore.Item, in section, have []grade.Result) (list []grade.Result) {
	has := map[string]bool{}
	for _, r := range have {
		has[r.Who] = true
	}
	for person, learns := range w.learns {
		if _, carried := w.carried[x.ID][person]; learns[in.ID] && !has[person] && !carried {
			list = append(list, grade.Result{Who: person, NotGiven: true})
		}
	}
	return list
}

// owner says whose result it is, and in which section it was said to go on.
func (w *world) owner(student, item string) (person, given string) {
	person = w.person[student]
	for _, o := range w.owners {
		if o.Student != student || o.SourceItem != "" && o.SourceItem != item {
			continue
		}
		person = o.PersonID
		if o.SectionID != nil {
			given = *o.SectionID
		}
	}
	return person, given
}

// place reports whether a person's result belongs to a section, and notes where they are now if that is elsewhere.
func (w *world) place(r *grade.Result, x scorestore.Item, in section, given string) bool {
	before := w.carriedIn(x.SourceItem, r.Who)
	learns := w.learns[r.Who]
	switch {
	case given == in.ID:
		return true
	case slices.Contains(before, in.ID):
		if !learns[in.ID] {
			r.Elsewhere, r.ElsewhereID = w.whereNow(r.Who)
			r.NotInBook = r.Elsewhere == ""
		}
		return true
	case given != "" || len(before) > 0:
		return false
	case len(learns) > 0:
		return learns[in.ID]
	case in.ID != w.sections[0].ID:
		return false
	}
	r.Elsewhere = w.outside[r.Who]
	r.NotInBook = r.Elsewhere == ""
	return true
}

// carriedIn are the sections in which something was carried of a person's result.
func (w *world) carriedIn(item, person string) (sections []string) {
	for _, x := range w.items {
		if _, has := w.carried[x.ID][person]; has && x.SourceItem == item {
			sections = append(sections, x.SectionID)
		}
	}
	return sections
}

// whereNow is the title of the section in which somebody learns, with its id when it is one of the link.
func (w *world) whereNow(person string) (title, id string) {
	for _, x := range w.sections {
		if w.learns[person][x.ID] {
			return x.Title, x.ID
		}
	}
	return w.outside[person], ""
}

// compared is a link with its plan.
type compared struct {
	*world
	rows   []scorestore.Item // in the order in which they are shown
	items  []grade.Item      // the same, as they were compared
	plan   grade.Plan
	policy grade.Policy
}

// compare works out what is to happen by what was read last.
func (s *Service) compare(ctx context.Context, l scorestore.Link) (*compared, error) {
	w, err := s.world(ctx, l)
	if err != nil {
		return nil, err
	}
	c := &compared{world: w, rows: w.sortedItems(), policy: policyOf(l.Policy, w.book.declared.Book)}
	now := s.Clock.Now()
	c.items = make([]grade.Item, len(c.rows))
	for i, x := range c.rows {
		c.items[i] = w.gradeItem(x, now)
	}
	c.plan = grade.Compare(c.items, c.policy)
	return c, nil
}

// makes are the categories that the plan needs in the book and that are not there.
func (c *compared) makes() (list []grade.Category) {
	rows := map[string]scorestore.Item{}
	for _, x := range c.rows {
		rows[x.ID] = x
	}
	for _, item := range c.plan.Items {
		if item.Outcome != grade.ItemMade {
			continue
		}
		_, _, makes := c.categoryOf(rows[item.ID])
		if makes != nil && !slices.ContainsFunc(list, func(m grade.Category) bool { return m.ID == makes.ID }) {
			list = append(list, *makes)
		}
	}
	return list
}

// kept gives the plan as it is kept, with names.
func (s *Service) kept(ctx context.Context, c *compared) (scorestore.Plan, error) {
	out := scorestore.Plan{Plan: c.plan, Titles: map[string]string{}, Names: map[string]string{}, Makes: c.makes()}
	if err := s.deletes(ctx, c, &out); err != nil {
		return out, err
	}
	out.Periods = c.inPeriod
	for _, x := range c.rows {
		out.Titles[x.ID] = c.titleOf(x)
	}
	var people []string
	for _, item := range c.plan.Items {
		for _, e := range item.Entries {
			if _, named := out.Names[e.Who]; !named {
				out.Names[e.Who] = c.strange(e.Who)
				if out.Names[e.Who] == "" {
					people = append(people, e.Who)
				}
			}
		}
	}
	found, err := rosterstore.PeopleByID(ctx, s.Store, people)
	for _, p := range found {
		out.Names[p.ID] = p.Name()
	}
	return out, err
}

// deletes notes which scores are deleted in the book because somebody decided so. A book that grants no deleting
// keeps them.
func (s *Service) deletes(ctx context.Context, c *compared, out *scorestore.Plan) error {
	var found []*grade.Entry
	out.Deletes = map[string]bool{}
	for i := range c.plan.Items {
		item := &c.plan.Items[i]
		for k := range item.Entries {
			if e := &item.Entries[k]; e.Outcome == grade.Replacing && e.Ours.Blank() {
				found = append(found, e)
				out.Deletes[item.ID+"/"+e.Who] = true
			}
		}
	}
	if len(found) == 0 {
		return nil
	}
	book, _, err := s.openBook(ctx, c.link.BookInterfaceID)
	if err != nil {
		return err
	}
	_, _, granted, err := book.Grants(ctx)
	if err != nil || granted {
		return err
	}
	clear(out.Deletes)
	for _, e := range found {
		e.Outcome, e.Reason = grade.Refused, finding.ScoreNotDeletable
	}
	return nil
}

// strange names somebody whom nobody knows; it is empty for all others.
func (w *world) strange(who string) string {
	switch {
	case strings.HasPrefix(who, stranger):
		return strings.TrimPrefix(who, stranger) + ", whom only " + w.book.name + " knows"
	case strings.HasPrefix(who, unknown):
		return strings.TrimPrefix(who, unknown) + ", whom only " + w.source.name + " knows"
	}
	return ""
}

func (w *world) titleOf(x scorestore.Item) string {
	if title := w.source.items[x.SourceItem].Title; title != "" {
		return title
	}
	if title := w.book.items[x.BookItem].Title; title != "" {
		return title
	}
	return x.SourceItem
}

// keepCompared keeps what a comparison found, or why there was none.
func (s *Service) keepCompared(ctx context.Context, l *scorestore.Link, c *compared, trouble error) error {
	now := s.Clock.Now()
	if l.Trouble, l.TroubleCode = "", ""; trouble != nil {
		l.Trouble, l.TroubleCode = trouble.Error(), string(adapter.RunCodeOf(trouble))
	} else {
		l.ComparedAt, l.Counts, l.NotReady = &now, map[string]int{}, 0
		for o, n := range c.plan.Counts() {
			l.Counts[o.String()] = n
		}
		for _, item := range c.plan.Items {
			if item.Outcome == grade.ItemNotReady || item.Outcome == grade.ItemGone {
				l.NotReady++
			}
			if item.Outcome == grade.ItemMade {
				l.Counts["makes"]++
			}
		}
		differ, err := s.mismatches(ctx, c.world)
		if err != nil {
			return err
		}
		l.Counts["mismatches"] = len(differ.List)
		if err := s.report(ctx, c, false); err != nil {
			return err
		}
		l.Reasons = append([]grade.Reasons{}, c.plan.Summary()...)
		l.OldestDraft, l.DraftDays = c.drafts()
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := scorestore.KeepCompared(ctx, tx, l); err != nil {
			return err
		}
		if c != nil && trouble == nil {
			if _, err := eventstore.RecordEvents(ctx, tx, c.events(now)); err != nil {
				return err
			}
		}
		return tx.Announce(ctx, "scoreLink", l.ID)
	})
}

// drafts says on which days scores were entered that are held back because they are not final, and when the oldest
// was.
func (c *compared) drafts() (oldest *time.Time, days map[string]int) {
	days = map[string]int{}
	for _, results := range c.source.results {
		for _, r := range results {
			switch {
			case r.Status != grade.Draft && r.Status != grade.Partly && r.Status != grade.Unreleased:
			case r.Marked.IsZero():
				days[""]++
			default:
				days[r.Marked.UTC().Format(time.DateOnly)]++
				if oldest == nil || r.Marked.Before(*oldest) {
					oldest = &r.Marked
				}
			}
		}
	}
	return oldest, days
}

// Preview reads both sides, compares and keeps the plan, so that a run can do exactly it. A read that is younger than
// within answers instead of a new one.
func (s *Service) Preview(ctx context.Context, linkID string, within time.Duration) (scorestore.Preview, error) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return scorestore.Preview{}, err
	}
	if l.EndedAt != nil {
		return scorestore.Preview{}, refusal.Conflict("", "this score link has ended; make a new one")
	}
	c, trouble, err := s.readAndCompare(ctx, &l, within)
	if err := cmp.Or(trouble, err); err != nil {
		return scorestore.Preview{}, err
	}
	plan, err := s.kept(ctx, c)
	if err != nil {
		return scorestore.Preview{}, err
	}
	return s.keepPreview(ctx, c, plan, nil)
}

// newPreview is a preview of a plan, not kept yet.
func (s *Service) newPreview(c *compared, plan scorestore.Plan, reverts *string) scorestore.Preview {
	return scorestore.Preview{
		ID: db.NewID(), LinkID: c.link.ID, Plan: plan, Fingerprint: plan.Fingerprint(), Reverts: reverts,
		SourceRead: &c.source.read.ReadAt, BookRead: &c.book.read.ReadAt, CreatedAt: s.Clock.Now(),
	}
}

func (s *Service) keepPreview(ctx context.Context, c *compared, plan scorestore.Plan, reverts *string) (
	scorestore.Preview, error,
) {
	p := s.newPreview(c, plan, reverts)
	return p, s.Store.InTx(ctx, func(tx *db.Tx) error { return db.Create(tx, &p, "keeping the preview") })
}

// readAndCompare reads both sides and compares, and keeps what was found: trouble, when there was any, is kept with
// the link. An error means that nothing was kept.
func (s *Service) readAndCompare(ctx context.Context, l *scorestore.Link, within time.Duration) (c *compared, trouble,
	err error,
) {
	c, trouble = s.readSides(ctx, l, within, within)
	if trouble != nil && ctx.Err() != nil {
		return nil, nil, trouble // it was cut off, which is no trouble of the link
	}
	return c, trouble, s.keepCompared(context.WithoutCancel(ctx), l, c, trouble)
}

// readSides reads each side unless a read that is younger answers, and compares.
func (s *Service) readSides(ctx context.Context, l *scorestore.Link, source, book time.Duration) (*compared, error) {
	if _, err := s.Read(ctx, l.SourceInterfaceID, source, false); err != nil {
		return nil, err
	}
	if _, err := s.Read(ctx, l.BookInterfaceID, book, false); err != nil {
		return nil, err
	}
	return s.compare(ctx, *l)
}

// FindPreview finds a preview by id.
func (s *Service) FindPreview(ctx context.Context, id string) (scorestore.Preview, error) {
	return scorestore.FindPreview(ctx, s.Store, id)
}

// SectionTitles gives the titles of the sections of a link's assignments, by assignment.
func (s *Service) SectionTitles(ctx context.Context, linkID string) (map[string]string, error) {
	l, err := s.Find(ctx, linkID)
	if err != nil {
		return nil, err
	}
	titles := map[string]string{}
	for _, x := range l.Sections {
		titles[x.ID] = x.Title
	}
	items, err := scorestore.Items(ctx, s.Store, linkID)
	out := map[string]string{}
	for _, x := range items {
		out[x.ID] = titles[x.SectionID]
	}
	return out, err
}

// Known reports whether the key of an entry is a person's id.
func Known(who string) bool { return !strings.HasPrefix(who, unknown) }

// Student is what the source calls somebody whom nobody knows, by the key of an entry; "" for anybody else.
func Student(who string) string {
	if strings.HasPrefix(who, stranger) {
		return ""
	}
	name, is := strings.CutPrefix(who, unknown)
	if !is {
		return ""
	}
	return name
}

// Unread is what could not be understood of a gradebook when it was read.
type Unread struct {
	Gradebook string
	Count     int
	First     []scorestore.Unread
}

// UnreadOf gives what could not be understood of both sides of a link.
func (s *Service) UnreadOf(ctx context.Context, linkID string) (list []Unread, err error) {
	l, err := s.Find(ctx, linkID)
	if err != nil {
		return nil, err
	}
	for id, name := range map[string]string{l.SourceInterfaceID: l.Source, l.BookInterfaceID: l.Book} {
		r, err := scorestore.FindRead(ctx, s.Store, id)
		if err != nil {
			return nil, err
		}
		if r.UnreadCount > 0 {
			list = append(list, Unread{name, r.UnreadCount, r.Unread})
		}
	}
	slices.SortFunc(list, func(a, b Unread) int { return strings.Compare(a.Gradebook, b.Gradebook) })
	return list, nil
}
