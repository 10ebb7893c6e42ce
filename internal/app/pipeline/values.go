package pipeline

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rosterstore"
)

// known remembers people, sections and outlines while several events are looked at.
type known struct {
	s        *Deliveries
	tx       *db.Tx // in which events are being recorded, nil for none
	people   map[string]map[string]any
	sections map[string]rosterstore.Section
	outlines map[string]learning.Outline
	plain    rule.Values // of the event looked at, without what is worked out on demand
}

// next begins to look at another event.
func (k *known) next() { k.plain = nil }

func (s *Deliveries) newKnown() *known {
	return &known{
		s: s, people: map[string]map[string]any{}, sections: map[string]rosterstore.Section{},
		outlines: map[string]learning.Outline{},
	}
}

// prefetch reads whom and what events are about with one query each.
func (k *known) prefetch(ctx context.Context, events []eventstore.Event) error {
	var people, sections []string
	for _, e := range events {
		if e.PersonID != nil && k.people[*e.PersonID] == nil {
			people = append(people, *e.PersonID)
		}
		if e.SectionID != nil {
			if x, ok := k.s.recent.section(*e.SectionID, k.s.Remember); ok {
				k.sections[x.ID] = x
				continue
			}
			sections = append(sections, *e.SectionID)
		}
	}
	if len(people) > 1 {
		list, err := rosterstore.PeopleByID(ctx, k.s.Store, slices.Compact(slices.Sorted(slices.Values(people))))
		if err != nil {
			return err
		}
		for _, p := range list {
			k.people[p.ID] = valuesOf(p)
		}
	}
	if len(sections) > 1 {
		list, err := rosterstore.SectionsByID(ctx, k.s.Store, slices.Compact(slices.Sorted(slices.Values(sections))))
		if err != nil {
			return err
		}
		for _, x := range list {
			k.sections[x.ID] = x
			k.s.recent.keep(x, k.s.Remember)
		}
	}
	return nil
}

// recent are the sections that a process has read lately: their titles hardly change,
// and every event names one.
type recent struct {
	mu  sync.Mutex
	all map[string]recentSection
}

type recentSection struct {
	rosterstore.Section
	at time.Time
}

func (r *recent) section(id string, within time.Duration) (rosterstore.Section, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	x, ok := r.all[id]
	return x.Section, ok && time.Since(x.at) < within
}

func (r *recent) keep(x rosterstore.Section, within time.Duration) {
	if within <= 0 {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.all == nil || len(r.all) > 10_000 {
		r.all = map[string]recentSection{}
	}
	r.all[x.ID] = recentSection{x, time.Now()}
}

func valuesOf(p rosterstore.Person) map[string]any {
	return map[string]any{
		"id": p.ID, "givenName": p.GivenName, "familyName": p.FamilyName, "name": p.Name(),
		"email": p.Email, "userName": p.UserName, "identifier": p.Identifier,
	}
}

// values are what conditions, mappings and texts can refer to. Where somebody stands
// now is worked out only when one of the texts asks for it.
func (k *known) values(ctx context.Context, e eventstore.Event, texts ...string) (rule.Values, error) {
	says := func(word string) bool {
		return slices.ContainsFunc(texts, func(text string) bool { return strings.Contains(text, word) })
	}
	asked, taught, paged := says("progress"), says("teacher"), says("badgesPage")
	named := e.ModuleID != "" && (says("module") || says("activity"))
	if k.plain != nil && !asked && !named && !taught && !paged {
		return k.plain, nil
	}
	event := map[string]any{"id": e.ID, "type": e.Type, "at": e.OccurredAt.UTC().Format(time.RFC3339)}
	for name, v := range e.Data {
		event[name] = v
	}
	v := rule.Values{"event": event}
	if e.PersonID != nil {
		person, err := k.person(ctx, *e.PersonID)
		if err != nil {
			return nil, err
		}
		v["person"] = k.withPage(person, paged)
	}
	if e.SectionID != nil {
		x, err := k.section(ctx, *e.SectionID)
		if err != nil {
			return nil, err
		}
		v["section"] = map[string]any{"id": *e.SectionID, "title": x.Title, "code": x.Code}
		if taught {
			emails, err := k.emails(ctx, x.TeacherIDs)
			if err != nil {
				return nil, err
			}
			v["section"]["teachers"], v["section"]["teacherEmails"] = strings.Join(x.Teachers,
				", "), strings.Join(emails, ", ")
		}
		v["course"] = map[string]any{"id": x.CourseID, "title": x.Course, "code": x.CourseCode}
	}
	if e.CourseID == nil || !asked && !named {
		k.plain = v
		return v, nil
	}
	o, err := k.outline(ctx, *e.CourseID)
	if err != nil {
		return nil, err
	}
	for _, m := range o.Modules {
		if m.ID == e.ModuleID {
			v["module"] = map[string]any{"id": m.ID, "title": m.Title}
		}
	}
	if _, a, ok := o.Find(e.ActivityID); ok {
		v["activity"] = map[string]any{"id": a.ID, "title": a.Title}
	}
	if asked && e.PersonID != nil && e.SectionID != nil {
		v["progress"], err = k.progress(ctx, e, o)
	}
	return v, err
}

// withPage adds the link to the page of somebody's badges where it is asked for; it is empty for whoever has no
// address to which it could be sent.
func (k *known) withPage(person map[string]any, asked bool) map[string]any {
	if !asked || k.s.BadgesPage == nil {
		return person
	}
	id, _ := person["id"].(string)
	email, _ := person["email"].(string)
	link, err := k.s.BadgesPage(id, email)
	if err != nil {
		link = ""
	}
	person = maps.Clone(person)
	person["badgesPage"] = link
	return person
}

func (k *known) person(ctx context.Context, id string) (map[string]any, error) {
	if p, ok := k.people[id]; ok {
		return p, nil
	}
	p, err := rosterstore.FindPerson(ctx, k.s.Store, id)
	if err != nil {
		return nil, err
	}
	k.people[id] = valuesOf(p)
	return k.people[id], nil
}

// emails are the addresses of those of the people who have one.
func (k *known) emails(ctx context.Context, people []string) (out []string, err error) {
	for _, id := range people {
		p, err := k.person(ctx, id)
		if errors.Is(err, db.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if email, _ := p["email"].(string); email != "" {
			out = append(out, email)
		}
	}
	return out, nil
}

// titles gives the titles of activities, with commas between them.
func titles(list []learning.Activity) string {
	var out []string
	for _, a := range list {
		out = append(out, cmp.Or(a.Title, a.ID))
	}
	return strings.Join(out, ", ")
}

func (k *known) section(ctx context.Context, id string) (rosterstore.Section, error) {
	if x, ok := k.sections[id]; ok {
		return x, nil
	}
	if x, ok := k.s.recent.section(id, k.s.Remember); ok {
		return x, nil
	}
	x, err := rosterstore.FindSection(ctx, k.s.Store, id)
	if err != nil && !errors.Is(err, db.ErrNotFound) {
		return x, err
	}
	k.sections[id] = x
	if err == nil {
		k.s.recent.keep(x, k.s.Remember)
	}
	return x, nil
}

func (k *known) outline(ctx context.Context, courseID string) (learning.Outline, error) {
	if o, ok := k.outlines[courseID]; ok {
		return o, nil
	}
	all, err := k.s.Outlines.CompiledOf(ctx, []string{courseID})
	if err != nil {
		return learning.Outline{}, err
	}
	k.outlines[courseID] = learning.Outline{}
	if o := all[courseID]; o.Course != nil {
		k.outlines[courseID] = o.Outline
	}
	return k.outlines[courseID], nil
}

// progress is where the event's person stands now.
func (k *known) progress(ctx context.Context, e eventstore.Event, o learning.Outline) (map[string]any, error) {
	asked := []learningstore.ProgressRow{{PersonID: *e.PersonID, SectionID: *e.SectionID}}
	var all map[learningstore.SectionKey]learning.State
	var err error
	if k.tx != nil { // what it has just written counts
		all, err = learningstore.States(ctx, k.tx, asked)
	} else {
		all, err = learningstore.States(ctx, k.s.Store, asked)
	}
	if err != nil {
		return nil, err
	}
	state := all[asked[0].Key()]
	enrolled, err := rosterstore.IsEnrolled(ctx, k.s.Store, *e.PersonID, *e.SectionID)
	if err != nil {
		return nil, err
	}
	out := map[string]any{
		"percent": int64(learning.Percent(o, state)), "courseDone": learning.CourseDone(o,
			state), "moduleDone": false, "activityDone": false,
		"daysSince": int64(-1), "enrolled": enrolled, "lastTitle": "", "lastAddress": "", "nextTitle": "",
		"nextAddress": "", "missingInModule": "",
	}
	missing := learning.Missing(o, state, "")
	out["missing"], out["missingCount"] = titles(missing), int64(len(missing))
	if len(missing) > 0 {
		out["nextTitle"], out["nextAddress"] = cmp.Or(missing[0].Title, missing[0].ID), missing[0].ID
	}
	if a, ok := learning.Latest(o, state); ok {
		out["lastTitle"], out["lastAddress"] = cmp.Or(a.Title, a.ID), a.ID
	}
	if e.ModuleID != "" {
		out["missingInModule"] = titles(learning.Missing(o, state, e.ModuleID))
	}
	for _, m := range o.Modules {
		if m.ID == e.ModuleID {
			out["moduleDone"] = learning.ModuleDone(m, state)
		}
	}
	if _, a, ok := o.Find(e.ActivityID); ok {
		out["activityDone"] = learning.Done(a, state)
	}
	if last := learning.LastActivity(state); !last.IsZero() {
		out["daysSince"] = int64(k.s.Clock.Now().Sub(last) / (24 * time.Hour))
	}
	return out, nil
}

// textsOf are the expressions and templates of an action.
func textsOf(a rule.Action) []string {
	all := []string{a.If, a.To, a.Subject, a.Text, a.Group}
	for _, v := range a.Fields {
		all = append(all, v)
	}
	return all
}

// isTest reports whether values belong to a test send.
func isTest(values rule.Values) bool {
	yes, _ := values["event"]["test"].(bool)
	return yes
}

// splitName makes a given and a family name out of a whole one, or out of an address.
func splitName(name, email string) (given, family string) {
	if name = strings.TrimSpace(name); name == "" {
		name, _, _ = strings.Cut(email, "@")
		name = strings.ReplaceAll(name, ".", " ")
	}
	i := strings.LastIndexByte(name, ' ')
	if i < 0 {
		return name, name
	}
	return strings.TrimSpace(name[:i]), name[i+1:]
}
