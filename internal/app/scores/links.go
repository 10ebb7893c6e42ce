package scores

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/core/schedule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
)

// NewLink is a score link that is to be made: of a section, or of a linked set.
type NewLink struct {
	SectionID, SetID  string
	SourceInterfaceID string
	SourceClass       string
	BookInterfaceID   string
	// BookClasses are the book's classes by section; the register's own id of a section where there is none.
	BookClasses map[string]string
	// Policy is as the template says when nil.
	Policy *scorestore.Policy
	// Template names one; "" for that of the sections' organisation.
	Template string
	// Anyway makes it although both sides have few people in common.
	Anyway bool
}

// Overlap is what the classes of a link have in common, section by section.
type Overlap struct {
	SectionID string
	Section   string
	BookClass string
	grade.Overlap
}

// Classes lists the classes that a gradebook has assignments of, after reading it.
func (s *Service) Classes(ctx context.Context, interfaceID string) ([]scorestore.Class, error) {
	if _, err := connectionstore.FindInterface(ctx, s.Store, interfaceID); err != nil {
		return nil, err
	}
	if _, err := s.Read(ctx, interfaceID, fresh, false); err != nil {
		return nil, err
	}
	return scorestore.Classes(ctx, s.Store, interfaceID)
}

// prepare checks a link that is to be made, and gives it with its sections.
func (s *Service) prepare(ctx context.Context, n NewLink) (l scorestore.Link, rows []scorestore.Section, err error) {
	l = scorestore.Link{
		ID: db.NewID(), SourceInterfaceID: n.SourceInterfaceID, SourceClass: strings.TrimSpace(n.SourceClass),
		BookInterfaceID: n.BookInterfaceID, Version: 1, CreatedAt: s.Clock.Now(),
		Counts: map[string]int{}, Reasons: []grade.Reasons{},
	}
	sections, err := s.sectionsFor(ctx, n)
	if err != nil {
		return l, nil, err
	}
	if n.SetID != "" {
		l.SetID = &n.SetID
	}
	if l.SourceClass == "" {
		return l, nil, refusal.Invalid("sourceClass", "is missing: choose the class in which work is marked")
	}
	if err := s.areGradebooks(ctx, l); err != nil {
		return l, nil, err
	}
	var ids []string
	for _, x := range sections {
		ids = append(ids, x.ID)
	}
	if n.Policy != nil {
		l.Policy = *n.Policy
	} else if l.Policy, err = s.policyFor(ctx, n.Template, ids); err != nil {
		return l, nil, err
	}
	classes, err := rosterstore.SourcedIDs(ctx, s.Store, ids)
	if err != nil {
		return l, nil, err
	}
	for i, id := range ids {
		class := strings.TrimSpace(n.BookClasses[id])
		if class == "" {
			class = classes[id]
		}
		rows = append(rows, scorestore.Section{LinkID: l.ID, SectionID: id, Position: i, BookClass: class})
	}
	return l, rows, s.checkPolicy(ctx, &l.Policy)
}

// sectionsFor gives the sections of a link that is to be made.
func (s *Service) sectionsFor(ctx context.Context, n NewLink) ([]rosterstore.Section, error) {
	if (n.SetID == "") == (n.SectionID == "") {
		return nil, refusal.Invalid("sectionId", "give a section or a linked set, one of both")
	}
	if n.SetID != "" {
		set, err := linkstore.FindLinkedSet(ctx, s.Store, n.SetID)
		if err == nil && set.UnlinkedAt != nil {
			err = refusal.Invalid("setId", "this set was unlinked; choose one of its sections")
		}
		return set.Sections, err
	}
	x, err := rosterstore.FindSection(ctx, s.Store, n.SectionID)
	if err == nil && x.SetID != nil {
		err = refusal.Invalid("sectionId", "this section is in a linked set; make the score link for the set")
	}
	return []rosterstore.Section{x}, err
}

// areGradebooks refuses a link whose sides are not gradebooks.
func (s *Service) areGradebooks(ctx context.Context, l scorestore.Link) error {
	for field, id := range map[string]string{
		"sourceInterfaceId": l.SourceInterfaceID, "bookInterfaceId": l.BookInterfaceID,
	} {
		c, err := connectionstore.FindInterface(ctx, s.Store, id)
		if errors.Is(err, db.ErrNotFound) || err == nil && !adapter.IsGradebook(c.Kind) {
			return refusal.Invalid(field, "is no gradebook; connect one first: kanban interfaces add")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// checkPolicy refuses what cannot be, and fills in what was not said.
func (s *Service) checkPolicy(ctx context.Context, p *scorestore.Policy) error {
	usual := UsualPolicy()
	if p.PeriodKind = strings.TrimSpace(p.PeriodKind); p.PeriodKind == "" {
		p.PeriodKind = usual.PeriodKind
	}
	if p.Flags == nil {
		p.Flags = map[string]scorestore.Flag{}
	}
	if err := s.hasTemplate(ctx, p.Template); err != nil {
		return err
	}
	for name := range p.Flags {
		if grade.FlagNamed(name) == 0 {
			return refusal.Invalid("policy.flags", "%q is no flag; there are %s", name,
				strings.Join((grade.Exempt|grade.Missing|grade.Late|grade.Incomplete|grade.NotSubmitted).Names(),
					", "))
		}
	}
	for name, f := range usual.Flags {
		if _, said := p.Flags[name]; !said {
			p.Flags[name] = f
		}
	}
	if p.Schedule.Kind == schedule.AfterRead {
		return refusal.Invalid("policy.schedule",
			"scores do not come with a read of the register; choose by hand, every so many minutes, or a time of day")
	}
	if err := p.Schedule.Check(); err != nil {
		return refusal.Invalid("policy.schedule", "%v", err)
	}
	return nil
}

// collides refuses a link that would write what another one writes, or through which scores would come back to where
// they were marked.
func (s *Service) collides(ctx context.Context, l scorestore.Link, rows []scorestore.Section) error {
	all, err := scorestore.Links(ctx, s.Store, "")
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(x scorestore.Link) bool { return x.ID == l.ID })
	ids := make([]string, len(all))
	for i, x := range all {
		ids[i] = x.ID
	}
	sections, err := scorestore.SectionsOf(ctx, s.Store, ids)
	if err != nil {
		return err
	}
	var links []grade.Link
	source := grade.Class{Interface: l.SourceInterfaceID, Class: l.SourceClass}
	for _, x := range all {
		from := grade.Class{Interface: x.SourceInterfaceID, Class: x.SourceClass}
		for _, r := range sections[x.ID] {
			links = append(links, grade.Link{
				ID: x.ID, Source: from, Book: grade.Class{Interface: x.BookInterfaceID, Class: r.BookClass},
			})
			for _, mine := range rows {
				if from == source && x.BookInterfaceID == l.BookInterfaceID && r.BookClass == mine.BookClass {
					return refusal.Conflict(finding.ScoreLinkTwice,
						"a score link carries the scores of %s into %s already; change that one", l.SourceClass, r.BookClass)
				}
			}
		}
	}
	for _, r := range rows {
		more := grade.Link{ID: l.ID, Source: source, Book: grade.Class{
			Interface: l.BookInterfaceID,
			Class:     r.BookClass,
		}}
		if round := grade.Circle(links, more); len(round) > 0 {
			return refusal.Conflict(finding.ScoreCircle,
				"scores carried into %s would come back to %s, where they were marked", r.BookClass, l.SourceClass)
		}
		links = append(links, more)
	}
	return nil
}

// Overlaps reads both sides of a link that is to be made, and says what each section has in common with the source.
func (s *Service) Overlaps(ctx context.Context, n NewLink) ([]Overlap, error) {
	l, rows, err := s.prepare(ctx, n)
	if err != nil {
		return nil, err
	}
	return s.overlaps(ctx, l, rows)
}

func (s *Service) overlaps(ctx context.Context, l scorestore.Link, rows []scorestore.Section) ([]Overlap, error) {
	for _, id := range []string{l.SourceInterfaceID, l.BookInterfaceID} {
		if _, err := s.Read(ctx, id, fresh, false); err != nil {
			return nil, err
		}
	}
	w := &world{link: l}
	var ids []string
	for _, r := range rows {
		ids = append(ids, r.SectionID)
	}
	found, err := rosterstore.SectionsByID(ctx, s.Store, ids)
	if err != nil {
		return nil, err
	}
	for _, x := range found {
		w.sections = append(w.sections, section{x, rows[slices.Index(ids, x.ID)].BookClass})
	}
	if err := s.loadSides(ctx, w); err != nil {
		return nil, err
	}
	if err := s.people(ctx, w); err != nil {
		return nil, err
	}
	people := map[string]bool{}
	for _, person := range w.person {
		people[person] = true
	}
	out := make([]Overlap, len(w.sections))
	for i, x := range w.sections {
		out[i] = w.overlap(x, people)
	}
	return out, nil
}

// overlap says what a section has in common with the source, in which these people have scores. Whom no section has
// counts in each.
func (w *world) overlap(x section, people map[string]bool) Overlap {
	var here, there []string
	for person, in := range w.learns {
		if in[x.ID] {
			here = append(here, person)
		}
	}
	for person := range people {
		if w.learns[person][x.ID] || len(w.learns[person]) == 0 {
			there = append(there, person)
		}
	}
	var mine, theirs []grade.LineItem
	for _, item := range w.source.items {
		if !item.Gone {
			mine = append(mine, item.LineItem)
		}
	}
	for _, item := range w.book.items {
		if item.Class == x.class && !item.Gone {
			theirs = append(theirs, item.LineItem)
		}
	}
	return Overlap{x.ID, x.Title, x.class, grade.OverlapOf(there, here, mine, theirs)}
}

// Make makes a score link. Nothing is carried until somebody runs it.
func (s *Service) Make(ctx context.Context, who string, n NewLink) (scorestore.Link, error) {
	l, rows, err := s.prepare(ctx, n)
	if err != nil {
		return l, err
	}
	if err := s.collides(ctx, l, rows); err != nil {
		return l, err
	}
	overlaps, err := s.overlaps(ctx, l, rows)
	if err != nil {
		return l, err
	}
	for _, o := range overlaps {
		if o.Poor() && !n.Anyway {
			return l, refusal.Conflict(finding.PoorOverlap,
				"%s and %s have %s in common; is it the right class? If so, make the link all the same", l.SourceClass, o.Section,
				finding.Number(o.Both, "learner"))
		}
	}
	l.MadeBy = who
	return l, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := scorestore.CreateLink(tx, &l, rows); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "made a score link", "score-link/"+l.ID,
			map[string]any{"source": l.SourceClass, "sections": len(rows)}); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", l.ID)
	})
}

// Edit is what is to be changed of a link; what is nil stays as it is.
type Edit struct {
	SourceInterfaceID, SourceClass *string
	BookInterfaceID                *string
	// BookClasses are the book's classes by section, of those that change.
	BookClasses map[string]string
	Policy      *scorestore.Policy
	Paused      *bool
}

// Change changes a link whose version must still be the one read, 0 for any. Pointed to another class, it keeps its
// history; what it carried from the class before counts as the book's own from then on. Pointed to another book, its
// assignments are linked to nothing there yet, and what the book before has stays in it.
func (s *Service) Change(ctx context.Context, who, id string, version int, e Edit) (scorestore.Link, error) {
	l, err := scorestore.FindLink(ctx, s.Store, id)
	switch {
	case err != nil:
		return l, err
	case version != 0 && version != l.Version:
		return l, fmt.Errorf("changing the score link: %w", db.ErrStale)
	case l.EndedAt != nil:
		return l, refusal.Conflict("", "this score link has ended; make a new one")
	}
	if e.Policy != nil {
		if l.Policy, err = s.changedPolicy(ctx, l.Policy, *e.Policy); err != nil {
			return l, err
		}
	}
	all, err := scorestore.SectionsOf(ctx, s.Store, []string{l.ID})
	if err != nil {
		return l, err
	}
	rows := all[l.ID]
	elsewhere, err := s.point(ctx, &l, rows, e)
	if err != nil {
		return l, err
	}
	now := s.Clock.Now()
	if e.Paused != nil {
		if l.PausedAt = nil; *e.Paused {
			l.PausedAt = &now
		}
	}
	l.NextAt = s.NextRun(l, now)
	return l, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := scorestore.UpdateLink(tx, &l); err != nil {
			return err
		}
		if elsewhere {
			if err := scorestore.PointItems(ctx, tx, l, rows); err != nil {
				return err
			}
		}
		if err := tx.Audit(ctx, who, "changed a score link", "score-link/"+l.ID,
			map[string]any{
				"paused": l.PausedAt != nil, "source": l.SourceClass, "book": l.BookInterfaceID,
			}); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", l.ID)
	})
}

// changedPolicy checks a policy that takes the place of another. A template that is gone by now keeps nothing from
// being changed.
func (s *Service) changedPolicy(ctx context.Context, had, now scorestore.Policy) (scorestore.Policy, error) {
	template := now.Template
	if template == had.Template {
		now.Template = ""
	}
	err := s.checkPolicy(ctx, &now)
	now.Template = template
	return now, err
}

// point points a link to other classes, and reports whether its book is another one then.
func (s *Service) point(ctx context.Context, l *scorestore.Link, rows []scorestore.Section, e Edit) (bool, error) {
	elsewhere := false
	if e.SourceClass != nil {
		l.SourceClass = strings.TrimSpace(*e.SourceClass)
	}
	if e.SourceInterfaceID != nil {
		l.SourceInterfaceID = *e.SourceInterfaceID
	}
	if e.BookInterfaceID != nil {
		elsewhere = l.BookInterfaceID != *e.BookInterfaceID
		l.BookInterfaceID = *e.BookInterfaceID
	}
	for section, class := range e.BookClasses {
		i := slices.IndexFunc(rows, func(r scorestore.Section) bool { return r.SectionID == section })
		if i < 0 || strings.TrimSpace(class) == "" {
			return false, refusal.Invalid("bookClasses", "name a section of the score link, and its class in the book")
		}
		elsewhere = elsewhere || rows[i].BookClass != strings.TrimSpace(class)
		rows[i].BookClass = strings.TrimSpace(class)
	}
	if e.SourceClass == nil && e.SourceInterfaceID == nil && !elsewhere {
		return false, nil
	}
	if l.SourceClass == "" {
		return false, refusal.Invalid("sourceClass", "is missing: choose the class in which work is marked")
	}
	if err := s.areGradebooks(ctx, *l); err != nil {
		return false, err
	}
	active, err := scorestore.Active(ctx, s.Store)
	if err == nil && elsewhere && active[l.ID] {
		err = refusal.Conflict("", "a run is at work on this score link; wait until it is done")
	}
	if err != nil {
		return false, err
	}
	return elsewhere, s.collides(ctx, *l, rows)
}

// End ends a link: nothing is carried any more, and everything that is in the book stays there.
func (s *Service) End(ctx context.Context, who, id string) (scorestore.Link, error) {
	l, err := scorestore.FindLink(ctx, s.Store, id)
	if err != nil || l.EndedAt != nil {
		return l, err
	}
	now := s.Clock.Now()
	l.EndedAt, l.NextAt = &now, nil
	return l, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := scorestore.UpdateLink(tx, &l); err != nil {
			return err
		}
		if err := scorestore.FreeItems(ctx, tx, l.ID); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "ended a score link", "score-link/"+l.ID, nil); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", l.ID)
	})
}

// Listed is a link with what people need to tell it from others.
type Listed struct {
	scorestore.Link
	Title        string // of its linked set or section
	Source, Book string // names of the interfaces
	Sections     []rosterstore.Section
	BookClasses  map[string]string // by section
	Active       bool              // a run is queued or at work
	// SourceFiles and BookFiles say which side gives and takes files.
	SourceFiles, BookFiles bool
}

// List lists the links that have not ended, or those of a section.
func (s *Service) List(ctx context.Context, sectionID string) ([]Listed, error) {
	links, err := scorestore.Links(ctx, s.Store, sectionID)
	if err != nil {
		return nil, err
	}
	return s.listed(ctx, links)
}

// Find finds one by id.
func (s *Service) Find(ctx context.Context, id string) (Listed, error) {
	l, err := scorestore.FindLink(ctx, s.Store, id)
	if err != nil {
		return Listed{}, err
	}
	all, err := s.listed(ctx, []scorestore.Link{l})
	if err != nil {
		return Listed{}, err
	}
	return all[0], nil
}

func (s *Service) listed(ctx context.Context, links []scorestore.Link) ([]Listed, error) {
	var ids, wanted []string
	for _, l := range links {
		ids = append(ids, l.ID)
	}
	rows, err := scorestore.SectionsOf(ctx, s.Store, ids)
	if err != nil {
		return nil, err
	}
	for _, list := range rows {
		for _, r := range list {
			wanted = append(wanted, r.SectionID)
		}
	}
	found, err := rosterstore.SectionsByID(ctx, s.Store, wanted)
	if err != nil {
		return nil, err
	}
	by := map[string]rosterstore.Section{}
	for _, x := range found {
		by[x.ID] = x
	}
	names, files, err := s.names(ctx)
	if err != nil {
		return nil, err
	}
	active, err := scorestore.Active(ctx, s.Store)
	out := make([]Listed, len(links))
	for i, l := range links {
		out[i] = Listed{
			Link: l, Source: names[l.SourceInterfaceID], Book: names[l.BookInterfaceID],
			BookClasses: map[string]string{}, Active: active[l.ID], Sections: []rosterstore.Section{},
			SourceFiles: files[l.SourceInterfaceID], BookFiles: files[l.BookInterfaceID],
		}
		for _, r := range rows[l.ID] {
			if x, there := by[r.SectionID]; there {
				out[i].Sections = append(out[i].Sections, x)
				out[i].BookClasses[x.ID] = r.BookClass
			}
		}
		if len(out[i].Sections) > 0 {
			out[i].Title = out[i].Sections[0].Title
		}
		if l.SetID != nil {
			out[i].Title = names[*l.SetID]
		}
	}
	return out, err
}

// names are those of interfaces and linked sets, by id; files are the interfaces that give and take files.
func (s *Service) names(ctx context.Context) (names map[string]string, files map[string]bool, err error) {
	names, files = map[string]string{}, map[string]bool{}
	removed, err := connectionstore.RemovedInterfaces(ctx, s.Store)
	for _, c := range removed {
		names[c.ID] = c.Name + " (removed)"
	}
	if err != nil {
		return nil, nil, err
	}
	interfaces, err := connectionstore.Interfaces(ctx, s.Store)
	for _, c := range interfaces {
		names[c.ID], files[c.ID] = c.Name, c.Kind == adapter.KindScoreFile
	}
	if err != nil {
		return nil, nil, err
	}
	for _, list := range []func(context.Context, db.From) ([]linkstore.LinkedSet, error){
		linkstore.LinkedSets, linkstore.UnlinkedSets,
	} {
		sets, err := list(ctx, s.Store)
		if err != nil {
			return nil, nil, err
		}
		for _, x := range sets {
			names[x.ID] = x.Name
		}
	}
	return names, files, nil
}

// State is how a link is, in a word.
func (l Listed) State() string {
	switch {
	case l.EndedAt != nil:
		return "ended"
	case l.Active:
		return "carrying"
	case l.PausedAt != nil:
		return "paused"
	case l.Trouble != "":
		return "unknown"
	case l.LastFailed:
		return "failed"
	case l.RanAt == nil:
		return "never-run"
	case l.Counts[grade.Conflict.String()]+l.Counts[grade.Refused.String()]+l.Counts[grade.Withdrawn.String()] > 0:
		return "needs-person"
	case l.Counts[grade.New.String()]+l.Counts[grade.Update.String()]+l.Counts[grade.Replacing.String()]+
		l.Counts["makes"] > 0:
		return "to-carry"
	}
	return "in-step"
}
