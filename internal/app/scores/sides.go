package scores

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/adapter/gradebooks"
	"kanban/internal/core/grade"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// side is what is known of a gradebook: of the classes that a link is about.
type side struct {
	name       string
	declared   gradebooks.Declared
	settings   map[string]string
	read       scorestore.Read
	categories []grade.Category
	titles     map[string]string // of categories
	scales     map[string]grade.Scale
	// scaleTitles are those of the scales.
	scaleTitles map[string]string
	items       map[string]gradebooks.Item
	results     map[string][]gradebooks.Result // by item
	unread      map[string]bool                // items of which a result could not be understood
	files       bool                           // it takes files
	handed      map[string]bool                // assignments that were handed over and not shown yet
	unproven    map[string]bool                // the same of scores: item and student with a slash between
	waiting     []string                       // the students of those
}

// load reads what is kept of a gradebook. For a source results are read as such, for a book as what it holds.
func load(ctx context.Context, from db.From, c connectionstore.Interface, classes []string, book bool,
	now time.Time,
) (side, error) {
	x := side{
		name: c.Name, declared: gradebooks.Declare(c.Settings), settings: c.Settings,
		titles: map[string]string{}, scales: map[string]grade.Scale{}, scaleTitles: map[string]string{},
		items:   map[string]gradebooks.Item{},
		results: map[string][]gradebooks.Result{}, unread: map[string]bool{},
	}
	var err error
	if x.read, err = scorestore.FindRead(ctx, from, c.ID); err != nil {
		return x, err
	}
	records := func(collection string, classes, items []string) []scorestore.Record {
		if err != nil {
			return nil
		}
		var list []scorestore.Record
		list, err = scorestore.Records(ctx, from, c.ID, collection, classes, items)
		return list
	}
	for _, r := range records(oneroster.FileCategories, nil, nil) {
		if category, problem := gradebooks.CategoryOf(kept{r}); problem == nil && r.GoneAt == nil {
			x.categories = append(x.categories, category)
			x.titles[category.ID] = category.Title
		}
	}
	for _, r := range records(oneroster.FileScoreScales, nil, nil) {
		if scale, problem := gradebooks.ScaleOf(kept{r}); problem == nil && r.GoneAt == nil {
			x.scales[scale.ID], x.scaleTitles[scale.ID] = scale.Values, scale.Title
		}
	}
	var ids []string
	for _, r := range records(oneroster.FileLineItems, classes, nil) {
		item := x.item(r)
		x.items[item.ID], ids = item, append(ids, item.ID)
	}
	for _, r := range records(oneroster.FileResults, nil, append([]string{}, ids...)) {
		if r.GoneAt == nil {
			x.result(r, book, now)
		}
	}
	return x, err
}

// item reads an assignment.
func (x *side) item(r scorestore.Record) gradebooks.Item {
	item, problem := gradebooks.ItemOf(kept{r})
	if problem != nil { // nothing is carried of what could not be understood
		item = gradebooks.Item{LineItem: grade.LineItem{ID: r.RemoteID, Title: r.Values["title"]}, Class: r.Class}
		item.Unread = true
	}
	item.Gone = item.Gone || r.GoneAt != nil
	item.Term = x.declared.IsTerm(x.titles[item.Category])
	return item
}

// result reads a score, of a book as what it holds.
func (x *side) result(r scorestore.Record, book bool, now time.Time) {
	result, problem := gradebooks.ResultOf(kept{r}, x.declared.Declaration, now)
	if book {
		result, problem = gradebooks.HeldOf(kept{r})
	}
	if problem != nil {
		x.unread[r.Item] = true
		if result.Student == "" {
			return
		}
		result.Unread = true
	}
	x.results[r.Item] = append(x.results[r.Item], result)
}

// has reports whether there is a result of somebody, by what the gradebook calls them.
func (x *side) has(student string) bool {
	for _, results := range x.results {
		if slices.ContainsFunc(results, func(r gradebooks.Result) bool { return r.Student == student }) {
			return true
		}
	}
	return false
}

// section is a section of a link.
type section struct {
	rosterstore.Section
	class string // of the book
}

// world is everything that a comparison of a link needs.
type world struct {
	link     scorestore.Link
	sections []section
	source   side
	book     side
	items    []scorestore.Item

	person   map[string]string                // by what the source calls them
	holder   map[string]string                // by what the book calls them
	learns   map[string]map[string]bool       // in which sections of the link, by person
	outside  map[string]string                // titles of other sections of the course in which a person learns
	carried  map[string]map[string]grade.Mark // by item and person
	decided  map[string][]grade.Decision
	owners   []scorestore.Owner
	final    map[string]string // periods
	sessions []scorestore.Session
	matches  map[string]grade.CategoryMatch // by category of the source
	inPeriod map[string]scorestore.InPeriod // by item, of those that were compared
	before   map[string]string
}

// sectionsOf gives the sections of a link as they are now: a linked set may have got more of them.
func (s *Service) sectionsOf(ctx context.Context, l scorestore.Link) ([]section, error) {
	all, err := scorestore.SectionsOf(ctx, s.Store, []string{l.ID})
	if err != nil {
		return nil, err
	}
	rows := all[l.ID]
	if l.SetID != nil {
		set, err := linkstore.FindLinkedSet(ctx, s.Store, *l.SetID)
		if err != nil {
			return nil, err
		}
		more, err := s.newSections(ctx, l, rows, set.Sections)
		if err != nil {
			return nil, err
		}
		rows = append(rows, more...)
	}
	ids := make([]string, len(rows))
	for i, r := range rows {
		ids[i] = r.SectionID
	}
	found, err := rosterstore.SectionsByID(ctx, s.Store, ids)
	if err != nil {
		return nil, err
	}
	var out []section
	for _, f := range found {
		i := slices.Index(ids, f.ID)
		out = append(out, section{f, rows[i].BookClass})
	}
	return out, nil
}

// newSections keeps the sections that a set has got since; none once it is unlinked.
func (s *Service) newSections(ctx context.Context, l scorestore.Link, had []scorestore.Section,
	now []rosterstore.Section,
) (more []scorestore.Section, err error) {
	var ids []string
	for _, x := range now {
		if !slices.ContainsFunc(had, func(h scorestore.Section) bool { return h.SectionID == x.ID }) {
			ids = append(ids, x.ID)
		}
	}
	classes, err := rosterstore.SourcedIDs(ctx, s.Store, ids)
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	for i, id := range ids {
		more = append(more, scorestore.Section{
			LinkID: l.ID, SectionID: id, Position: len(had) + i,
			BookClass: classes[id],
		})
	}
	return more, s.Store.InTx(ctx, func(tx *db.Tx) error { return scorestore.AddSections(tx, more) })
}

// world reads everything of a link, and keeps the assignments that are new.
func (s *Service) world(ctx context.Context, l scorestore.Link) (*world, error) {
	w := &world{
		link: l, carried: map[string]map[string]grade.Mark{}, decided: map[string][]grade.Decision{},
		inPeriod: map[string]scorestore.InPeriod{},
	}
	var err error
	if w.sections, err = s.sectionsOf(ctx, l); err != nil {
		return nil, err
	}
	if err := s.loadSides(ctx, w); err != nil {
		return nil, err
	}
	if err := s.addItems(ctx, w); err != nil {
		return nil, err
	}
	carried, err := scorestore.CarriedOf(ctx, s.Store, l.ID)
	if err != nil {
		return nil, err
	}
	for _, c := range carried {
		if w.carried[c.ItemID] == nil {
			w.carried[c.ItemID] = map[string]grade.Mark{}
		}
		w.carried[c.ItemID][c.PersonID] = c.Mark
	}
	decided, err := scorestore.Decisions(ctx, s.Store, l.ID)
	if err != nil {
		return nil, err
	}
	for _, d := range decided {
		w.decided[d.ItemID] = append(w.decided[d.ItemID], grade.Decision{
			Who: d.PersonID, Take: d.Take, Theirs: d.Theirs, Ours: d.Ours,
		})
	}
	if w.owners, err = scorestore.Owners(ctx, s.Store, l.ID); err != nil {
		return nil, err
	}
	if w.final, err = scorestore.PeriodsFinal(ctx, s.Store, l.ID); err != nil {
		return nil, err
	}
	if w.sessions, err = scorestore.Sessions(ctx, s.Store, w.register()); err != nil {
		return nil, err
	}
	if err := s.people(ctx, w); err != nil {
		return nil, err
	}
	w.categories()
	return w, nil
}

// register is the one that has the sections.
func (w *world) register() string {
	if len(w.sections) == 0 {
		return ""
	}
	return w.sections[0].Interface
}

func (s *Service) loadSides(ctx context.Context, w *world) error {
	var classes []string
	for _, x := range w.sections {
		classes = append(classes, x.class)
	}
	now := s.Clock.Now()
	for _, x := range []struct {
		id      string
		classes []string
		into    *side
		book    bool
	}{
		{w.link.SourceInterfaceID, []string{w.link.SourceClass}, &w.source, false},
		{w.link.BookInterfaceID, append([]string{}, classes...), &w.book, true},
	} {
		c, err := connectionstore.FindInterface(ctx, s.Store, x.id)
		if err != nil {
			return err
		}
		if *x.into, err = load(ctx, s.Store, c, x.classes, x.book, now); err != nil {
			return err
		}
		if x.into.files = c.Kind == adapter.KindScoreFile; x.into.files && x.book {
			if err := x.into.handedOver(ctx, s.Store, c.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// addItems keeps the assignments of the source that were not seen before, for each section.
func (s *Service) addItems(ctx context.Context, w *world) (err error) {
	if w.items, err = scorestore.Items(ctx, s.Store, w.link.ID); err != nil {
		return err
	}
	known := map[string]bool{}
	for _, x := range w.items {
		known[x.SectionID+"/"+x.SourceItem] = true
	}
	var more []scorestore.Item
	for id, item := range w.source.items {
		for _, x := range w.sections {
			if !item.Gone && !known[x.ID+"/"+id] {
				more = append(more, scorestore.Item{
					ID: db.NewID(), LinkID: w.link.ID, SectionID: x.ID, SourceItem: id,
					BookInterface: w.link.BookInterfaceID,
				})
			}
		}
	}
	if len(more) == 0 {
		return nil
	}
	if err := scorestore.AddItems(ctx, s.Store, more); err != nil {
		return err
	}
	w.items, err = scorestore.Items(ctx, s.Store, w.link.ID)
	return err
}

// people finds whose results they are, and who learns where.
func (s *Service) people(ctx context.Context, w *world) (err error) {
	students := func(x *side) []string {
		seen := map[string]bool{}
		list := []string{}
		for _, results := range x.results {
			for _, r := range results {
				if !seen[r.Student] {
					seen[r.Student], list = true, append(list, r.Student)
				}
			}
		}
		return list
	}
	register := w.register()
	if register == "" {
		w.person, w.holder = map[string]string{}, map[string]string{}
		return nil
	}
	if w.person, err = scorestore.PeopleOf(ctx, s.Store, w.link.SourceInterfaceID, register,
		students(&w.source)); err != nil {
		return err
	}
	if w.holder, err = scorestore.PeopleOf(ctx, s.Store, w.link.BookInterfaceID, register,
		append(students(&w.book), w.book.waiting...)); err != nil {
		return err
	}
	if err := s.leaveTests(ctx, w); err != nil {
		return err
	}
	ids := make([]string, len(w.sections))
	for i, x := range w.sections {
		ids[i] = x.ID
	}
	learners, err := scorestore.Learners(ctx, s.Store, ids)
	if err != nil {
		return err
	}
	w.learns = map[string]map[string]bool{}
	for _, l := range learners {
		if w.learns[l.PersonID] == nil {
			w.learns[l.PersonID] = map[string]bool{}
		}
		w.learns[l.PersonID][l.SectionID] = true
	}
	if id := w.link.TestLearner; id != "" {
		w.learns[id] = map[string]bool{}
		for _, x := range w.sections {
			if w.learns[id][x.ID], err = rosterstore.IsEnrolled(ctx, s.Store, id, x.ID); err != nil {
				return err
			}
		}
	}
	return s.others(ctx, w)
}

// leaveTests leaves out what either side has of test learners, but the one whose scores are being proven.
func (s *Service) leaveTests(ctx context.Context, w *world) error {
	var people []string
	for _, of := range []map[string]string{w.person, w.holder} {
		people = slices.AppendSeq(people, maps.Values(of))
	}
	tests, err := scorestore.TestLearners(ctx, s.Store, people)
	if err != nil || len(tests) == 0 {
		return err
	}
	leave := func(x *side, of map[string]string) {
		for item, results := range x.results {
			x.results[item] = slices.DeleteFunc(slices.Clone(results), func(r gradebooks.Result) bool {
				id := of[r.Student]
				return id != w.link.TestLearner && slices.Contains(tests, id)
			})
		}
	}
	leave(&w.source, w.person)
	leave(&w.book, w.holder)
	for _, marks := range w.carried {
		for _, id := range tests {
			if id != w.link.TestLearner {
				delete(marks, id)
			}
		}
	}
	return nil
}

// others finds in which other sections of the course those learn who are in none of the link's.
func (s *Service) others(ctx context.Context, w *world) error {
	w.outside = map[string]string{}
	var people []string
	for _, person := range w.person {
		if len(w.learns[person]) == 0 {
			people = append(people, person)
		}
	}
	if len(people) == 0 {
		return nil
	}
	elsewhere, err := rosterstore.SectionsOf(ctx, s.Store, people, []string{w.sections[0].CourseID})
	if err != nil {
		return err
	}
	var ids []string
	for _, e := range elsewhere {
		if e.Role == "student" && !slices.Contains(ids, e.SectionID) {
			ids = append(ids, e.SectionID)
		}
	}
	found, err := rosterstore.SectionsByID(ctx, s.Store, ids)
	titles := map[string]string{}
	for _, x := range found {
		titles[x.ID] = x.Title
	}
	for _, e := range elsewhere {
		if e.Role == "student" {
			w.outside[e.PersonID] = titles[e.SectionID]
		}
	}
	return err
}

// categories matches those of the source with the book's.
func (w *world) categories() {
	w.before = map[string]string{}
	for _, x := range w.items { // as people did until now
		if book, there := w.book.items[x.BookItem]; there && book.Category != "" && !x.Made {
			w.before[w.source.items[x.SourceItem].Category] = book.Category
		}
	}
	used := map[string]bool{}
	for _, item := range w.source.items {
		used[item.Category] = !item.Gone || used[item.Category]
	}
	var mine []grade.Category
	for _, c := range w.source.categories {
		if used[c.ID] {
			mine = append(mine, c)
		}
	}
	w.matches = map[string]grade.CategoryMatch{}
	for _, m := range grade.MatchCategories(mine, w.bookCategories(), w.chosenCategories(), w.before) {
		w.matches[m.Source.ID] = m
	}
}

// chosenCategories are the book's categories that somebody chose, by the source's: by their ids or, as templates have
// it, by titles that are one category's only.
func (w *world) chosenCategories() map[string]string {
	out := map[string]string{}
	for source, book := range w.link.Policy.Categories {
		source, book = categoryCalled(w.source.categories, source), categoryCalled(w.bookCategories(), book)
		if source != "" && book != "" {
			out[source] = book
		}
	}
	return out
}

// categoryCalled is the id of the one category with an id or a title; "" when there is none, or more than one.
func categoryCalled(list []grade.Category, name string) (id string) {
	for _, c := range list {
		switch {
		case c.ID == name:
			return name
		case grade.Called(c.Title) != grade.Called(name):
		case id != "":
			return ""
		default:
			id = c.ID
		}
	}
	return id
}

// bookCategories are the book's without those of term grades.
func (w *world) bookCategories() (list []grade.Category) {
	for _, c := range w.book.categories {
		if !w.book.declared.IsTerm(c.Title) {
			list = append(list, c)
		}
	}
	return list
}

// categoryOf gives the book's category for an assignment, with what says so; makes is set when it is to be made.
func (w *world) categoryOf(x scorestore.Item) (id, evidence string, makes *grade.Category) {
	if x.Category != "" {
		return x.Category, "own", nil
	}
	m := w.matches[w.source.items[x.SourceItem].Category]
	switch {
	case m.Book != nil:
		return m.Book.ID, string(m.Evidence), nil
	case m.Source.ID != "" && w.link.Policy.Makes && m.Makes():
		c := grade.Category{
			ID:    gradebooks.ID("category", w.link.BookInterfaceID, grade.Called(m.Source.Title)),
			Title: m.Source.Title, Weight: m.Source.Weight,
		}
		return c.ID, "made", &c
	}
	if id := categoryCalled(w.bookCategories(), w.link.Policy.Category); w.link.Policy.Category != "" && id != "" {
		return id, "default", nil
	}
	return "", "", nil
}

// periods gives those of a section's term.
func (w *world) periods(x section) []grade.Period {
	above := map[string]string{}
	for _, t := range w.sessions {
		above[t.ID] = t.Above
	}
	var list []grade.Period
	for _, t := range w.sessions {
		within := false
		for at, steps := t.ID, 0; at != "" && steps < 10; at, steps = above[at], steps+1 {
			within = within || slices.Contains(x.TermIDs, at)
		}
		if !within {
			continue
		}
		p := grade.Period{ID: t.ID, Title: t.Title, Kind: t.Kind}
		p.Begins, _ = time.Parse(time.DateOnly, t.Begins)
		p.Ends, _ = time.Parse(time.DateOnly, t.Ends)
		list = append(list, p)
	}
	return list
}

// basis is which date of an assignment counts.
func (w *world) basis(x scorestore.Item) grade.DateBasis {
	b := w.link.Policy.Basis
	if x.Basis != "" {
		_ = b.UnmarshalText([]byte(x.Basis)) // was checked when it was set
	}
	return b
}

// content is what is carried of an assignment.
func (w *world) content(x scorestore.Item) grade.Content {
	c := w.link.Policy.Content
	if x.Content != "" {
		_ = c.UnmarshalText([]byte(x.Content)) // was checked when it was set
	}
	return c
}

// sectionOf finds a section of the link.
func (w *world) sectionOf(id string) (section, bool) {
	i := slices.IndexFunc(w.sections, func(x section) bool { return x.ID == id })
	if i < 0 {
		return section{}, false
	}
	return w.sections[i], true
}

// sortedItems are the assignments of the link that there is something to say about, by title and section.
func (w *world) sortedItems() []scorestore.Item {
	order := map[string]int{}
	for i, x := range w.sections {
		order[x.ID] = i
	}
	var list []scorestore.Item
	for _, x := range w.items {
		_, there := w.sectionOf(x.SectionID)
		source, known := w.source.items[x.SourceItem]
		if there && (known && !source.Gone || x.BookItem != "" || len(w.carried[x.ID]) > 0) {
			list = append(list, x)
		}
	}
	slices.SortFunc(list, func(a, b scorestore.Item) int {
		x, y := w.source.items[a.SourceItem], w.source.items[b.SourceItem]
		return cmp.Or(x.Due.Compare(y.Due), cmp.Compare(x.Title, y.Title), cmp.Compare(a.SourceItem, b.SourceItem),
			cmp.Compare(order[a.SectionID], order[b.SectionID]))
	})
	return list
}
