package reacting

import (
	"context"
	"errors"
	"strings"
	"time"

	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store"
)

// known remembers people, sections and outlines while several events are looked at.
type known struct {
	s        *Service
	people   map[string]map[string]any
	sections map[string]store.Section
	outlines map[string]learning.Outline
}

func (s *Service) newKnown() *known {
	return &known{s, map[string]map[string]any{}, map[string]store.Section{}, map[string]learning.Outline{}}
}

// values are what conditions, mappings and texts can refer to. Where somebody stands
// now is worked out only when one of the texts asks for it.
func (k *known) values(ctx context.Context, e store.Event, texts ...string) (rule.Values, error) {
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
		v["person"] = person
	}
	if e.SectionID != nil {
		x, err := k.section(ctx, *e.SectionID)
		if err != nil {
			return nil, err
		}
		v["section"] = map[string]any{"id": *e.SectionID, "title": x.Title, "code": x.Code}
		v["course"] = map[string]any{"id": x.CourseID, "title": x.Course, "code": x.CourseCode}
	}
	asked := strings.Contains(strings.Join(texts, "\n"), "progress")
	if e.CourseID == nil || e.ModuleID == "" && !asked {
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

func (k *known) person(ctx context.Context, id string) (map[string]any, error) {
	if p, ok := k.people[id]; ok {
		return p, nil
	}
	p, err := k.s.Store.Person(ctx, id)
	if err != nil {
		return nil, err
	}
	k.people[id] = map[string]any{"id": p.ID, "givenName": p.GivenName, "familyName": p.FamilyName, "name": p.Name(), "email": p.Email, "userName": p.UserName, "identifier": p.Identifier}
	return k.people[id], nil
}

func (k *known) section(ctx context.Context, id string) (store.Section, error) {
	if x, ok := k.sections[id]; ok {
		return x, nil
	}
	x, err := k.s.Store.Section(ctx, id)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return x, err
	}
	k.sections[id] = x
	return x, nil
}

func (k *known) outline(ctx context.Context, courseID string) (learning.Outline, error) {
	if o, ok := k.outlines[courseID]; ok {
		return o, nil
	}
	o, err := k.s.Store.Outline(ctx, courseID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return o, err
	}
	k.outlines[courseID] = o
	return o, nil
}

// progress is where the event's person stands now.
func (k *known) progress(ctx context.Context, e store.Event, o learning.Outline) (map[string]any, error) {
	state, err := k.s.Store.ProgressOf(ctx, *e.PersonID, *e.SectionID)
	if err != nil {
		return nil, err
	}
	enrolled, err := k.s.Store.IsEnrolled(ctx, *e.PersonID, *e.SectionID)
	if err != nil {
		return nil, err
	}
	out := map[string]any{
		"percent": int64(learning.Percent(o, state)), "courseDone": learning.CourseDone(o, state), "moduleDone": false, "activityDone": false,
		"daysSince": int64(-1), "enrolled": enrolled,
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
		out["daysSince"] = int64(k.s.now().Sub(last) / (24 * time.Hour))
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
