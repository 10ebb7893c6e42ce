package rule

import (
	"fmt"
	"slices"
)

// MostInChain is how many events may lead from one to the next by what rules do: one that
// is further down sets nothing off any more.
const MostInChain = 5

// Link is a rule, or a stage that awards a badge, as far as it can set others off.
type Link struct {
	Draft
	// Badges gives the names of badges by their ids.
	Badges map[string]string
	// Also are triggers of which events follow beside those that its actions make.
	Also []Trigger
}

// product is a kind of event that follows from what a rule does.
type product struct {
	trigger Trigger
	scope   Scope // what is known of where it happens
	badge   string
}

// products are the kinds of event that follow from a rule: people who are enrolled join,
// those who are taken out leave, and a badge is awarded. What a service may report because
// it was called cannot be known.
func (l Link) products() (out []product) {
	for _, t := range l.Also {
		out = append(out, product{trigger: t})
	}
	within := Scope{Course: l.Scope.Course, Section: l.Scope.Section}
	add := func(a Action, kind string) {
		where := within
		if a.SectionID != "" {
			where = Scope{Section: a.SectionID}
		}
		switch kind {
		case Award:
			out = append(out, product{BadgeAwarded, within, a.BadgeID})
		case Enrol:
			out = append(out, product{SectionJoined, where, ""}, product{SectionMoved, where, ""})
		case Unenrol:
			out = append(out, product{SectionLeft, where, ""})
		}
	}
	for _, a := range l.Actions {
		add(a, a.Kind)
		if len(l.UndoneBy) > 0 {
			add(a, Opposite(a.Kind))
		}
	}
	return out
}

// setOffBy reports whether a kind of event can set the rule off, or make it revert what
// it did. It is true where that cannot be told.
func (x *Expressions) setOffBy(l Link, p product, badges map[string]string) bool {
	differs := func(a, b string) bool { return a != "" && b != "" && a != b }
	if differs(l.Scope.Section, p.scope.Section) || differs(l.Scope.Course, p.scope.Course) || l.Scope.Module != "" ||
		l.Scope.Activity != "" {
		return false
	}
	if slices.Contains(l.UndoneBy, string(p.trigger)) {
		return true
	}
	if Trigger(l.Trigger) != p.trigger {
		return false
	}
	domains := Domains(p.trigger)
	if p.badge != "" {
		domains["event.badgeId"] = Domain{OneOf: []any{p.badge}}
		domains["event.badge"] = Domain{OneOf: []any{badges[p.badge]}}
	}
	return x.CheckPossible(l.Condition, p.trigger, domains) == nil
}

// ends reports whether a rule that an event of its own sets off comes to an end by that:
// whoever is in the section, or holds the badge, is enrolled or awarded no second time.
func (l Link) ends(p product) bool {
	takes := func(a Action) bool { return a.Kind == Unenrol }
	return p.trigger != SectionLeft && len(l.UndoneBy) == 0 && !slices.ContainsFunc(l.Actions, takes)
}

// Circle gives the names along a way on which what a rule does sets itself off again, from
// it back to it; nil when there is none.
func (x *Expressions) Circle(links []Link, start int) []string {
	came := map[int]int{}
	queue := []int{start}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, p := range links[at].products() {
			for next, l := range links {
				if _, seen := came[next]; seen || next == at && l.ends(p) || !x.setOffBy(l, p, links[at].Badges) {
					continue
				}
				came[next] = at
				if next != start {
					queue = append(queue, next)
					continue
				}
				way := []string{links[start].Name}
				for back := at; back != start; back = came[back] {
					way = append(way, links[back].Name)
				}
				way = append(way, links[start].Name)
				slices.Reverse(way)
				return way
			}
		}
	}
	return nil
}

// Chain is how many events led to one by what rules did, as it stands in what the event
// holds.
func Chain(data map[string]any) int {
	switch n := data["chain"].(type) {
	case float64:
		return int(n)
	case int:
		return n
	}
	return 0
}

// ChainTooLong says that an event is too far down a chain.
func ChainTooLong(n int) error {
	return fmt.Errorf("%d events led to this one by what rules did, and each sets off the next; after %d a chain is stopped", n, MostInChain)
}
