package reacting

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"unicode"

	"kanban/internal/core/learning"
	"kanban/internal/core/progression"
	"kanban/internal/core/refusal"
	"kanban/internal/store"
	"kanban/internal/wire/call"
	"kanban/internal/wire/cartridge"
	"kanban/internal/wire/xapi"
)

// ReadCartridge gives the outline in a Common Cartridge, which is a package or its
// manifest alone. The folders at the top become modules, the leaves below them
// activities; prefix and a leaf's identifier give the IRI under which its statements
// come.
func ReadCartridge(prefix string, content []byte) (learning.Outline, error) {
	manifest, err := cartridge.Manifest(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return learning.Outline{}, refusal.Invalid("manifest", "%v", err)
	}
	items, err := cartridge.Parse(bytes.NewReader(manifest))
	if err != nil {
		return learning.Outline{}, refusal.Invalid("manifest", "%v", err)
	}
	var o learning.Outline
	for _, i := range items {
		m := learning.Module{ID: i.ID, Title: i.Title}
		if i.Resource != "" { // a leaf at the top is a module of its own
			i.Items = []cartridge.Item{{ID: i.ID, Title: i.Title, Resource: i.Resource, Items: i.Items}}
		}
		m.Activities = leaves(i.Items, prefix)
		o.Modules = append(o.Modules, m)
	}
	return o, nil
}

// leaves gives the activities of a folder. What stands below an activity is nested in
// it; folders inside modules only sort them.
func leaves(items []cartridge.Item, prefix string) (out []learning.Activity) {
	for _, i := range items {
		below := leaves(i.Items, prefix)
		if i.Resource == "" {
			out = append(out, below...)
			continue
		}
		out = append(out, learning.Activity{ID: prefix + i.ID, Title: i.Title, Kind: kindOf(i.Resource), Activities: below})
	}
	return out
}

// kindOf reads a resource type by its prefix, as versions differ.
func kindOf(resource string) learning.Kind {
	switch {
	case strings.HasPrefix(resource, "imsqti_") && strings.HasSuffix(resource, "/assessment"):
		return learning.Assessment
	case strings.HasPrefix(resource, "assignment_"):
		return learning.Assignment
	}
	return learning.Lesson
}

// mostFetched is how large a package at an address may be, in bytes.
const mostFetched = 64 << 20

// FetchCartridge reads the outline of a manifest or package at an address. Redirects are
// not followed.
func (s *Service) FetchCartridge(ctx context.Context, prefix, address string) (learning.Outline, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return learning.Outline{}, refusal.Invalid("address", "%q is not a full http or https address", address)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return learning.Outline{}, refusal.Invalid("address", "%v", err)
	}
	o := s.Call
	o.MaxBody = mostFetched
	answer, err := call.New(o).Do(ctx, req)
	if err != nil {
		return learning.Outline{}, refusal.Invalid("address", "the manifest could not be fetched: %v", err)
	}
	return ReadCartridge(prefix, answer.Body)
}

// ReadTable gives the outline in a CSV table, or says which of its rows are wrong.
func ReadTable(in io.Reader) (learning.Outline, error) {
	r := csv.NewReader(in)
	r.FieldsPerRecord = -1
	rows, err := r.ReadAll()
	if err != nil {
		return learning.Outline{}, refusal.Invalid("table", "%v", err)
	}
	o, wrong := learning.FromTable(rows)
	if len(wrong) == 0 {
		return o, nil
	}
	const most = 10
	var lines []string
	for _, w := range wrong[:min(len(wrong), most)] {
		lines = append(lines, w.Error())
	}
	if len(wrong) > most {
		lines = append(lines, fmt.Sprintf("and %d more", len(wrong)-most))
	}
	return learning.Outline{}, refusal.Invalid("table", "%s", strings.Join(lines, "; "))
}

// LoadCartridge replaces a course's outline by that of a Common Cartridge.
func (s *Service) LoadCartridge(ctx context.Context, who, courseID, prefix string, content []byte) (learning.Outline, error) {
	o, err := ReadCartridge(prefix, content)
	if err != nil {
		return o, err
	}
	return o, s.SetOutline(ctx, who, courseID, o)
}

// SetOutline replaces a course's outline. Everybody's progress is worked out anew in
// the background, and what that completes or reopens becomes events.
func (s *Service) SetOutline(ctx context.Context, who, courseID string, o learning.Outline) error {
	o.Learned = false // somebody stands for it now
	if err := s.checkOutline(ctx, courseID, o); err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		if _, err := tx.LockOutline(ctx, courseID); err != nil {
			return err
		}
		if err := tx.SetOutline(ctx, who, courseID, o); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, store.ResolveStatements{}, store.RecountCourse{CourseID: courseID}); err != nil {
			return err
		}
		if err := tx.Announce(ctx, "outline", courseID); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "set an outline", "course/"+courseID, map[string]int{"modules": len(o.Modules)})
	})
}

func (s *Service) checkOutline(ctx context.Context, courseID string, o learning.Outline) error {
	if err := o.Check(); err != nil {
		return refusal.Invalid("outline", "%v", err)
	}
	return s.knowsCourse(ctx, courseID)
}

func (s *Service) knowsCourse(ctx context.Context, id string) error {
	courses, err := s.Store.Courses(ctx)
	if err != nil {
		return err
	}
	for _, c := range courses {
		if c.ID == id {
			return nil
		}
	}
	return refusal.Invalid("courseId", "there is no course %q; list them with: kanban courses list", id)
}

// OutlinePreview says whom another outline would complete or reopen.
type OutlinePreview struct {
	People    int // with progress in the course
	Completes int // people for whom the course would become done
	Reopens   int // people for whom it would be open again
	Touched   []OutlineTouch
	// Misses are the stages and rules that are about something which would not be in the
	// outline any more.
	Misses []string
}

// OutlineTouch is what would change for one person in one section.
type OutlineTouch struct {
	PersonID, Person, Section string
	Before, After             int // percent
	Completed, Reopened       []string
}

// mostTouched bounds how many people a preview names.
const mostTouched = 500

// PreviewOutline says whom another outline would complete or reopen, without changing
// anything.
func (s *Service) PreviewOutline(ctx context.Context, courseID string, o learning.Outline) (OutlinePreview, error) {
	if err := s.checkOutline(ctx, courseID, o); err != nil {
		return OutlinePreview{}, err
	}
	now, version, err := s.Store.OutlineNow(ctx, courseID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return OutlinePreview{}, err
	}
	title := map[string]string{}
	for _, outline := range []learning.Outline{now, o} {
		for _, m := range outline.Modules {
			title[m.ID+"/"] = cmp.Or(m.Title, m.ID)
			for _, a := range m.All() {
				title[m.ID+"/"+a.ID] = cmp.Or(a.Title, a.ID)
			}
		}
	}
	title["/"] = "the course"
	misses, err := s.misses(ctx, courseID, now, o)
	if err != nil {
		return OutlinePreview{}, err
	}
	out := OutlinePreview{Misses: misses}
	known := s.newKnown()
	for after := (store.Standing{}); ; {
		list, err := s.Store.Outdated(ctx, courseID, version+1, after, 1000)
		if err != nil || len(list) == 0 {
			return out, err
		}
		after = list[len(list)-1]
		states, err := s.Store.States(ctx, list)
		if err != nil {
			return out, err
		}
		for _, g := range list {
			out.People++
			state := states[[2]string{g.PersonID, g.SectionID}]
			t := OutlineTouch{PersonID: g.PersonID, Before: learning.Percent(now, state), After: learning.Percent(o, state)}
			for _, d := range learning.Reoutline(now, o, state) {
				name := title[d.ModuleID+"/"+d.ActivityID]
				switch d.Kind {
				case learning.CourseCompleted:
					out.Completes++
					t.Completed = append(t.Completed, name)
				case learning.ModuleCompleted, learning.ActivityCompleted:
					t.Completed = append(t.Completed, name)
				case learning.CourseReopened:
					out.Reopens++
					t.Reopened = append(t.Reopened, name)
				case learning.ModuleReopened, learning.ActivityReopened:
					t.Reopened = append(t.Reopened, name)
				}
			}
			if len(t.Completed)+len(t.Reopened) == 0 && t.Before == t.After || len(out.Touched) >= mostTouched {
				continue
			}
			if p, err := known.person(ctx, g.PersonID); err == nil {
				t.Person, _ = p["name"].(string)
			}
			if x, err := known.section(ctx, g.SectionID); err == nil {
				t.Section = x.Title
			}
			out.Touched = append(out.Touched, t)
		}
	}
}

// misses says which stages and rules that are on are about a module or an activity of a
// course that another outline would not have any more.
func (s *Service) misses(ctx context.Context, courseID string, now, next learning.Outline) (out []string, err error) {
	modules, activities := map[string]string{}, map[string]string{} // titles of what goes
	for _, m := range now.Modules {
		modules[m.ID] = cmp.Or(m.Title, m.ID)
		for _, a := range m.All() {
			activities[a.ID] = cmp.Or(a.Title, a.ID)
		}
	}
	for _, m := range next.Modules {
		delete(modules, m.ID)
		for _, a := range m.All() {
			delete(activities, a.ID)
		}
	}
	progressions, err := s.Store.ProgressionsOn(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range progressions {
		ladder := p.Ladder()
		for _, stage := range p.Stages {
			for _, c := range stage.Criteria {
				lost := modules[c.ModuleID]
				if c.Kind == progression.Score {
					lost = activities[c.ActivityID]
				}
				if lost != "" && ladder.Of(c) == courseID {
					out = append(out, fmt.Sprintf("the stage %s of %s asks for %s", stage.Title, p.Name, lost))
				}
			}
		}
	}
	rules, err := s.Store.RulesOn(ctx)
	for _, r := range rules {
		elsewhere := r.Scope.Course != "" && r.Scope.Course != courseID
		if lost := cmp.Or(modules[r.Scope.Module], activities[r.Scope.Activity]); lost != "" && !elsewhere {
			out = append(out, fmt.Sprintf("the rule %s is only for %s", r.Name, lost))
		}
	}
	slices.Sort(out)
	return out, err
}

// learn adds activities that are in no outline to the outline of their course, where
// nobody gave one: the statement names the course among its groupings, and the module
// as its parent. It gives the courses of all activities.
func (s *Service) learn(ctx context.Context, items []*item, placed store.Placed) (store.Placed, error) {
	type lesson struct {
		moduleID, moduleTitle string
		activity              learning.Activity
	}
	lessons := map[string][]lesson{} // by course
	for _, x := range items {
		st := x.statement
		if x.note != "" || len(placed.Courses[st.Object.ID]) > 0 || st.Context == nil || len(st.Context.ContextActivities.Parent) == 0 {
			continue
		}
		course, err := s.courseMeant(ctx, x.person.ID, st.Context.ContextActivities.Grouping)
		if err != nil {
			return placed, err
		}
		if course == "" {
			continue
		}
		parent := st.Context.ContextActivities.Parent[0]
		lessons[course] = append(lessons[course], lesson{parent.ID, nameOf(parent), learning.Activity{ID: st.Object.ID, Title: nameOf(st.Object), Kind: kindOfType(st.Object)}})
	}
	for _, course := range slices.Sorted(maps.Keys(lessons)) {
		err := s.Store.InTx(ctx, func(tx *store.Tx) error {
			o, err := tx.LockOutline(ctx, course)
			if err != nil {
				return err
			}
			changed := false
			for _, l := range lessons[course] {
				var ok bool
				o, ok = learning.Learn(o, l.moduleID, l.moduleTitle, l.activity)
				changed = changed || ok
			}
			if !changed || o.Check() != nil {
				return nil
			}
			if err := tx.SetOutline(ctx, "what was reported", course, o); err != nil {
				return err
			}
			return tx.Enqueue(ctx, store.RecountCourse{CourseID: course})
		})
		if err != nil {
			return placed, err
		}
	}
	if len(lessons) == 0 {
		return placed, nil
	}
	var ids []string
	for _, x := range items {
		ids = append(ids, x.statement.Object.ID)
	}
	return s.Store.CoursesWith(ctx, distinct(ids))
}

// courseMeant finds the one course of a person that a statement's groupings name: by
// code or title, as their name or at the end of their address.
func (s *Service) courseMeant(ctx context.Context, personID string, groupings xapi.Activities) (string, error) {
	if len(groupings) == 0 {
		return "", nil
	}
	enrolled, err := s.Store.SectionsOf(ctx, []string{personID}, nil)
	if err != nil {
		return "", err
	}
	mine := map[string]bool{}
	for _, e := range enrolled {
		mine[e.CourseID] = true
	}
	all, err := s.Store.Courses(ctx)
	if err != nil {
		return "", err
	}
	names := map[string]bool{}
	for _, g := range groupings {
		names[slug(nameOf(g))] = true
		names[slug(g.ID[strings.LastIndexByte(strings.TrimRight(g.ID, "/"), '/')+1:])] = true
	}
	delete(names, "")
	found := ""
	for _, c := range all {
		if mine[c.ID] && (names[slug(c.Title)] || names[slug(c.Code)]) {
			if found != "" {
				return "", nil // two could be meant
			}
			found = c.ID
		}
	}
	return found, nil
}

// slug makes names comparable: small letters and digits only.
func slug(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, text)
}

func nameOf(o xapi.Object) string {
	if o.Definition != nil {
		for _, language := range slices.Sorted(maps.Keys(o.Definition.Name)) {
			return o.Definition.Name[language]
		}
	}
	id := strings.TrimRight(o.ID, "/")
	return id[strings.LastIndexByte(id, '/')+1:]
}

func kindOfType(o xapi.Object) learning.Kind {
	if o.Definition == nil {
		return learning.Lesson
	}
	kind := strings.ToLower(o.Definition.Type)
	switch {
	case strings.HasSuffix(kind, "/assessment"), strings.HasSuffix(kind, "/quiz"), strings.HasSuffix(kind, "/question"):
		return learning.Assessment
	case strings.HasSuffix(kind, "/assignment"):
		return learning.Assignment
	}
	return learning.Lesson
}

// SetVerbs replaces the institution's own verbs. Statements from which nothing
// followed are looked at again.
func (s *Service) SetVerbs(ctx context.Context, who string, own []learning.VerbRule) error {
	if err := learning.CheckVerbs(own); err != nil {
		return refusal.Invalid("verbs", "%v", err)
	}
	defer func() {
		s.verbs.mu.Lock()
		s.verbs.verbs = nil
		s.verbs.mu.Unlock()
	}()
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.Set(ctx, verbsSetting, own); err != nil {
			return err
		}
		var verbs []string
		for _, r := range own {
			verbs = append(verbs, r.Verb)
		}
		if err := tx.Reconsider(ctx, noSuchVerb, verbs); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, store.ResolveStatements{}); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "set the institution's verbs", "installation", map[string]int{"verbs": len(own)})
	})
}

// Progress is where a person stands in the course of a section, by its present outline.
func (s *Service) Progress(ctx context.Context, personID, sectionID string) (learning.Overview, error) {
	if _, err := s.Store.Person(ctx, personID); err != nil {
		return learning.Overview{}, err
	}
	x, err := s.Store.Section(ctx, sectionID)
	if err != nil {
		return learning.Overview{}, err
	}
	o, err := s.Store.Outline(ctx, x.CourseID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return learning.Overview{}, err
	}
	state, err := s.Store.ProgressOf(ctx, personID, sectionID)
	return learning.Look(o, state), err
}
