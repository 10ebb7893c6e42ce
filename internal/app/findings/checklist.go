package findings

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/settingstore"
)

// Step is one step of setting something up.
type Step struct {
	Title string
	Done  bool
	Next  string // what to do, when it is not done
}

// Checklist says what of a set-up is done. It is live when everything is.
type Checklist []Step

// Live reports whether every step is done.
func (c Checklist) Live() bool {
	for _, s := range c {
		if !s.Done {
			return false
		}
	}
	return len(c) > 0
}

// Interface gives the checklist of an interface.
func (s *Service) Interface(ctx context.Context, c connectionstore.Interface) (Checklist, error) {
	list := Checklist{
		{"Address and credentials entered", true, ""},
		{"Tested", c.ProbedAt != nil, "Test it: kanban interfaces probe"},
	}
	list = append(list, working(c)...)
	switch {
	case adapter.IsRegister(c.Kind):
		read, err := runstore.LastRead(ctx, s.Store, c.ID)
		if err != nil {
			return nil, err
		}
		list = append(list, Step{"Read at least once", read != nil, "Read it now: kanban interfaces read"})
	case c.Kind == adapter.KindSCIM:
		n, err := pairingstore.CountPairings(ctx, s.Store, c.ID)
		if err != nil {
			return nil, err
		}
		list = append(list,
			Step{
				"Knows how to keep new members from being notified", c.Settings["notice"] != "",
				"Enter the service's notice attribute, or accept that it may notify people",
			},
			Step{"Used by a pairing", n > 0, "Pair a section with it: kanban pairings add"})
	}
	rests, err := s.Rests(ctx, c.ID)
	for _, r := range rests {
		if r.RestsUntil != nil && r.RestsUntil.After(s.Clock.Now()) {
			what := "The service"
			if r.Operation != "" {
				what = r.Title
			}
			list = append(list, Step{what + " does not rest", false, describeRest(r, true)})
		}
	}
	if err == nil && adapter.SignsIn(c.Settings) {
		var now *connectionstore.Grant
		now, _, err = connectionstore.Grants(ctx, s.Store, c.ID)
		list = append(list, Step{
			"Somebody has signed in at the service", now != nil && !now.Ended(),
			fmt.Sprintf("Sign in there: kanban interfaces sign-in %q", c.Name),
		})
	}
	return append(list, Step{"Not paused", !c.Paused(), "Resume it"}), err
}

// working has one step per capability that was tested.
func working(c connectionstore.Interface) (list Checklist) {
	var reports []adapter.Report
	if len(c.Probe) == 0 || json.Unmarshal(c.Probe, &reports) != nil {
		return nil
	}
	for _, r := range reports {
		e, _ := finding.Lookup(r.Code)
		next := e.Remedy
		if r.State == adapter.Unproven {
			next = r.Detail
		}
		list = append(list, Step{capabilities[r.Capability] + ": works", r.State == adapter.Works, next})
	}
	return list
}

var capabilities = map[adapter.Capability]string{
	adapter.PeopleIn: "People in", adapter.PeopleOut: "People out", adapter.LearningEventsIn: "Learning events in",
	adapter.EventsIn: "Events in", adapter.MessagesOut: "Messages out",
}

// Rule gives the checklist of a rule.
func (s *Service) Rule(ctx context.Context, r rulestore.Rule) (Checklist, error) {
	list := Checklist{{"Says what happens, if and then", true, ""}}
	seen := map[string]bool{}
	for _, a := range r.Actions {
		if a.InterfaceID == "" || seen[a.InterfaceID] {
			continue
		}
		seen[a.InterfaceID] = true
		c, err := connectionstore.FindInterface(ctx, s.Store, a.InterfaceID)
		if errors.Is(err, db.ErrNotFound) {
			list = append(list, Step{"Its interface exists", false, "Choose another interface for the action"})
			continue
		}
		if err != nil {
			return nil, err
		}
		list = append(list, Step{
			c.Name + " works", !c.Paused() && Checklist(working(c)).Live(),
			"Test and mend the interface: kanban interfaces probe " + fmt.Sprintf("%q", c.Name),
		})
	}
	where, err := s.ruleScope(ctx, r)
	if err != nil {
		return nil, err
	}
	list = append(list, where...)
	if s.Rules != nil {
		way, err := s.Rules.Circle(ctx, r)
		if err != nil {
			return nil, err
		}
		if way != nil {
			list = append(list, Step{
				"Does not set itself off again", false,
				"Change a condition on the way: " + strings.Join(way, " → "),
			})
		}
	}
	if r.AskedAt != nil {
		list = append(list, Step{
			"What it needs is at the service", len(r.Missing) == 0,
			"Make it there, or choose another: " + strings.Join(r.Missing, ", "),
		})
	}
	tried, err := s.tried(ctx, r)
	if err != nil {
		return nil, err
	}
	return append(list,
		Step{"Tried out as it is now" + tried, r.TriedAt != nil, fmt.Sprintf("Try it: kanban rules try %q", r.Name)},
		Step{"Switched on", r.OnSince != nil, fmt.Sprintf("Switch it on: kanban rules on %q", r.Name)}), nil
}

// ruleScope looks whether what a rule is limited to exists.
func (s *Service) ruleScope(ctx context.Context, r rulestore.Rule) (list Checklist, err error) {
	places, err := rulestore.TitlesOfScopes(ctx, s.Store, []rule.Scope{r.Scope})
	if err != nil {
		return nil, err
	}
	if r.Scope.Module != "" {
		list = append(list, Step{
			"An outline has its module", places[0].Module != "",
			fmt.Sprintf("No outline has the module %q: choose another, or set the outline: kanban courses outline",
				r.Scope.Module),
		})
	}
	if r.Scope.Activity != "" {
		list = append(list, Step{
			"An outline has its activity", places[0].Activity != "",
			fmt.Sprintf("No outline has the activity %q: choose another, or set the outline: kanban courses outline",
				r.Scope.Activity),
		})
	}
	if r.Scope.Course != "" && progressTriggers[r.Trigger] {
		o, err := learningstore.Outline(ctx, s.Store, r.Scope.Course)
		if err != nil && !errors.Is(err, db.ErrNotFound) {
			return nil, err
		}
		list = append(list, Step{
			"The course has an outline", len(o.Modules) > 0,
			"Set its outline: kanban courses outline",
		})
	}
	return list, nil
}

// tried says which version of a rule was tried out on which event.
func (s *Service) tried(ctx context.Context, r rulestore.Rule) (string, error) {
	if r.TriedAt == nil {
		return "", nil
	}
	text := fmt.Sprintf(": version %d, on %s", r.Version, r.TriedAt.Format("2 January 2006"))
	if r.TriedEvent == nil {
		return text + ", with a made-up event", nil
	}
	events, err := eventstore.EventsByID(ctx, s.Store, []string{*r.TriedEvent})
	if err != nil || len(events) == 0 || events[0].PersonID == nil {
		return text, err
	}
	p, err := rosterstore.FindPerson(ctx, s.Store, *events[0].PersonID)
	if errors.Is(err, db.ErrNotFound) {
		return text, nil
	}
	return fmt.Sprintf("%s, with what %s did on %s", text, p.Name(),
		events[0].OccurredAt.Format("2 January 2006")), err
}

// progressTriggers are those that need an outline.
var progressTriggers = map[string]bool{
	"activity.completed": true, "module.completed": true, "course.completed": true,
	"progress.crossed": true, "person.inactive": true, "person.not-begun": true,
}

// Pairing gives the checklist of a pairing.
func (s *Service) Pairing(ctx context.Context, p pairingstore.Pairing) (Checklist, error) {
	c, err := connectionstore.FindInterface(ctx, s.Store, p.InterfaceID)
	if err != nil {
		return nil, err
	}
	works := !c.Paused() && Checklist(working(c)).Live()
	people := len(p.Mend)
	return Checklist{
		{"Paired with a class at " + c.Name, true, ""},
		{c.Name + " works", works, "Test and mend the interface"},
		{
			"Compared, so that a run can be looked at beforehand", p.ComparedAt != nil,
			"Open the preview: kanban pairings preview",
		},
		{"First run made by hand", p.RanAt != nil, "Run it: kanban pairings run"},
		{"Last run came to its end", p.RanAt != nil && !p.LastFailed, "See what stopped the last run, and resume it"},
		{"Nobody needs a person", people == 0, fmt.Sprintf("%d people need a person: kanban findings list", people)},
		{"Not paused", p.PausedAt == nil, "Resume it"},
	}, nil
}

// Freshness says how old what is known about a pairing is, and what keeps it
// from becoming newer.
type Freshness struct {
	ReadAt     *time.Time // when the register was read last
	ComparedAt *time.Time
	RanAt      *time.Time
	NextRead   *time.Time // when the register is read next by itself
	StoppedBy  string     // empty when nothing has stopped it
}

// Freshness of a pairing. readEvery is how often registers are read by
// themselves, 0 for never.
func (s *Service) Freshness(ctx context.Context, p pairingstore.Pairing, readEvery time.Duration) (f Freshness,
	err error,
) {
	f.ComparedAt, f.RanAt = p.ComparedAt, p.RanAt
	section, err := rosterstore.FindSection(ctx, s.Store, p.SectionID)
	if err != nil {
		return f, err
	}
	register, err := connectionstore.FindInterface(ctx, s.Store, section.Interface)
	if err != nil {
		return f, err
	}
	if f.ReadAt, err = runstore.LastRead(ctx, s.Store, register.ID); err != nil {
		return f, err
	}
	runs, err := runstore.Runs(ctx, s.Store, runstore.Wanted{InterfaceID: register.ID, Limit: 1})
	if err != nil {
		return f, err
	}
	m, err := settingstore.FindMaintenance(ctx, s.Store)
	if err != nil {
		return f, err
	}
	service, err := connectionstore.FindInterface(ctx, s.Store, p.InterfaceID)
	switch {
	case err != nil:
		return f, err
	case m.Since != nil:
		f.StoppedBy = "everything is paused by " + m.By
	case section.Gone:
		f.StoppedBy = "the section is no longer in the register"
	case section.Ended(s.Clock.Now()):
		f.StoppedBy = "the section's term is over"
	case register.Paused():
		f.StoppedBy = register.Name + " is paused"
	case len(runs) > 0 && runs[0].State == runstore.Failed:
		f.StoppedBy = "the last read of " + register.Name + " failed: " + runs[0].Error
	case service.Paused():
		f.StoppedBy = service.Name + " is paused"
	case p.PausedAt != nil:
		f.StoppedBy = "the pairing is paused"
	case service.Trouble != "":
		f.StoppedBy = "it could not be compared: " + service.Trouble
	case readEvery == 0:
		f.StoppedBy = "registers are read by hand only; whoever starts the service can have them read by themselves (kanban serve --read-every 15m)"
	}
	if f.ReadAt != nil && readEvery > 0 && !register.Paused() {
		next := f.ReadAt.Add(readEvery)
		f.NextRead = &next
	}
	return f, nil
}
