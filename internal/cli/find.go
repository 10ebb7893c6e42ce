package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/google/uuid"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// candidate is a record that a name may mean: its id, and what tells it from the others.
type candidate struct{ id, tells string }

// mostCandidates is how many of the records that a name fits are shown.
const mostCandidates = 20

// ambiguous is the error of a name that fits several records: nothing is done, and they are
// listed so that one can be named by its id.
func ambiguous(noun, name string, all []candidate) error {
	var text strings.Builder
	fmt.Fprintf(&text, "%d %s are called %q; name one by its id:", len(all), noun, name)
	for i, c := range all {
		if i == mostCandidates {
			fmt.Fprintf(&text, "\n  and %d more", len(all)-i)
			break
		}
		fmt.Fprintf(&text, "\n  %s  %s", c.id, c.tells)
	}
	return fmt.Errorf("%w: %s", errUsage, text.String())
}

// apart joins what tells a record from others, without what is empty.
func apart(parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), ", ")
}

// named is a kind of record that is found by its id or a name.
type named[T any] struct {
	path, noun, nouns, list string
	id                      func(T) string
	names                   func(T) []string
	tells                   func(T) string
}

// find gives the one record with a name. An id is never ambiguous.
func (n named[T]) find(ctx context.Context, c *client.Client, name string) (T, error) {
	var none T
	all, err := client.All[T](ctx, c, n.path)
	if err != nil {
		return none, err
	}
	var found []T
	for _, x := range all {
		if n.id(x) == name {
			return x, nil
		}
		if slices.ContainsFunc(n.names(x), func(s string) bool { return strings.EqualFold(s, name) }) {
			found = append(found, x)
		}
	}
	switch len(found) {
	case 0:
		return none, fmt.Errorf("%w: there is no %s %q; see which there are: kanban %s", errUsage, n.noun, name, n.list)
	case 1:
		return found[0], nil
	}
	candidates := make([]candidate, len(found))
	for i, x := range found {
		candidates[i] = candidate{n.id(x), n.tells(x)}
	}
	return none, ambiguous(n.nouns, name, candidates)
}

// findInterface finds one by its name, or by that of its connection when that has only one.
func findInterface(ctx context.Context, c *client.Client, name string) (api.Interface, error) {
	by := func(names func(api.Interface) []string) (api.Interface, error) {
		return named[api.Interface]{
			"/interfaces", "interface", "interfaces", "interfaces list",
			func(x api.Interface) string { return x.ID }, names,
			func(x api.Interface) string { return apart(x.Name, x.Kind) },
		}.find(ctx, c, name)
	}
	x, err := by(func(x api.Interface) []string { return []string{x.Name} })
	if !errors.Is(err, errUsage) {
		return x, err
	}
	return by(func(x api.Interface) []string { return []string{x.Name, x.Connection} })
}

func findConnection(ctx context.Context, c *client.Client, name string) (api.Connection, error) {
	return named[api.Connection]{
		"/connections", "connection", "connections", "connections list",
		func(x api.Connection) string { return x.ID },
		func(x api.Connection) []string { return []string{x.Name} },
		func(x api.Connection) string { return apart(x.Name, x.Owner) },
	}.find(ctx, c, name)
}

func findCourse(ctx context.Context, c *client.Client, name string) (api.Course, error) {
	return named[api.Course]{
		"/courses", "course", "courses", "courses list",
		func(x api.Course) string { return x.ID },
		func(x api.Course) []string { return []string{x.Code, x.Title} },
		func(x api.Course) string {
			return apart(x.Title, x.Code, fmt.Sprintf("%d in its outline", x.Activities))
		},
	}.find(ctx, c, name)
}

func findRule(ctx context.Context, c *client.Client, name string) (api.Rule, error) {
	return named[api.Rule]{
		"/rules", "rule", "rules", "rules list",
		func(x api.Rule) string { return x.ID },
		func(x api.Rule) []string { return []string{x.Name} },
		func(x api.Rule) string { return apart(x.Name, x.Trigger) },
	}.find(ctx, c, name)
}

func findOffer(ctx context.Context, c *client.Client, name string) (api.Offer, error) {
	return named[api.Offer]{
		"/offers", "offer", "offers", "offers list",
		func(x api.Offer) string { return x.ID },
		func(x api.Offer) []string { return []string{x.Name} },
		func(x api.Offer) string { return x.Name },
	}.find(ctx, c, name)
}

func findBadge(ctx context.Context, c *client.Client, name string) (api.Badge, error) {
	return named[api.Badge]{
		"/badges", "badge", "badges", "badges list",
		func(x api.Badge) string { return x.ID },
		func(x api.Badge) []string { return []string{x.Name} },
		func(x api.Badge) string { return x.Name },
	}.find(ctx, c, name)
}

func findIssuer(ctx context.Context, c *client.Client, name string) (api.Issuer, error) {
	return named[api.Issuer]{
		"/issuers", "issuer", "issuers", "badges issuers",
		func(x api.Issuer) string { return x.ID },
		func(x api.Issuer) []string { return []string{x.Name} },
		func(x api.Issuer) string { return x.Name },
	}.find(ctx, c, name)
}

// found is a section that a name fits: the card that it stands on, alone or as part of a
// linked set.
type found struct {
	card api.Section
	part api.SectionRef
}

func (f found) candidate() candidate {
	set := ""
	if f.card.Set != nil {
		set = "linked in " + f.card.Title
	}
	gone := ""
	if f.part.Gone {
		gone = "no longer in the register"
	}
	return candidate{f.part.ID, apart(f.part.Title, f.part.Code, f.part.Course, f.card.Organisation,
		strings.Join(f.part.Terms, " and "), strings.Join(f.card.Teachers,
			" and "), set, gone, words(string(f.card.State), 1))}
}

// sectionsCalled lists the sections that a name fits: an id, a code or a title.
func sectionsCalled(ctx context.Context, c *client.Client, name string) (all []found, err error) {
	cards, err := client.All[api.Section](ctx, c, "/sections?hidden=*&called="+url.QueryEscape(name))
	if err != nil {
		return nil, err
	}
	isID := uuid.Validate(name) == nil
	for _, x := range cards {
		parts := []api.SectionRef{{
			ID: x.ID, Title: x.Title, Code: x.Code, Course: x.Course, Terms: x.Terms,
			Gone: x.Gone,
		}}
		if x.Set != nil {
			parts = x.Set.Sections
		}
		for _, p := range parts {
			if isID && p.ID == name {
				return []found{{x, p}}, nil
			}
			if fits(name, p.ID, p.Code, p.Title) {
				all = append(all, found{x, p})
			}
		}
		if x.Set != nil && len(all) == 0 && strings.EqualFold(x.Title, name) { // the set itself
			return []found{{x, parts[0]}}, nil
		}
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%w: there is no section %q; see which there are: kanban sections list", errUsage, name)
	}
	return all, nil
}

// findSection gives the card of the one section with a name; sections of one linked set are
// on one card.
func findSection(ctx context.Context, c *client.Client, name string) (api.Section, error) {
	all, err := sectionsCalled(ctx, c, name)
	if err != nil {
		return api.Section{}, err
	}
	if slices.ContainsFunc(all, func(f found) bool { return f.card.ID != all[0].card.ID }) {
		return api.Section{}, severalSections(name, all)
	}
	return all[0].card, nil
}

// findPart gives the one section with a name, which may be part of a set.
func findPart(ctx context.Context, c *client.Client, name string) (api.SectionRef, error) {
	all, err := sectionsCalled(ctx, c, name)
	if err != nil {
		return api.SectionRef{}, err
	}
	if len(all) > 1 {
		return api.SectionRef{}, severalSections(name, all)
	}
	return all[0].part, nil
}

func severalSections(name string, all []found) error {
	candidates := make([]candidate, len(all))
	for i, f := range all {
		candidates[i] = f.candidate()
	}
	return ambiguous("sections", name, candidates)
}

// onePerson finds the one person whom a text fits. Somebody's own identifier, address or id
// is meant before it is a part of others'; the service lists those first.
func onePerson(ctx context.Context, c *client.Client, text string) (api.Person, error) {
	if uuid.Validate(text) == nil {
		p, err := client.Get[api.PersonPage](ctx, c, "/people/"+text)
		var problem *client.Problem
		if err == nil || !errors.As(err, &problem) || problem.Status != http.StatusNotFound {
			return p.Person, err
		}
	}
	page, err := client.Get[api.Page[api.Person]](ctx, c,
		fmt.Sprintf("/people?limit=%d&text=%s", mostCandidates+1, url.QueryEscape(text)))
	if err != nil {
		return api.Person{}, err
	}
	var exact []api.Person
	for _, p := range page.Items {
		if strings.EqualFold(p.Identifier, text) || strings.EqualFold(p.Email, text) ||
			strings.EqualFold(p.UserName, text) {
			exact = append(exact, p)
		}
	}
	if len(exact) == 0 {
		exact = page.Items
	}
	switch {
	case len(exact) == 0:
		return api.Person{}, fmt.Errorf("%w: nobody fits %q; look with: kanban people find TEXT", errUsage, text)
	case len(exact) == 1:
		return exact[0], nil
	case len(exact) > mostCandidates:
		return api.Person{}, fmt.Errorf("%w: more than %d people fit %q; give more of the name, or an identifier",
			errUsage, mostCandidates, text)
	}
	candidates := make([]candidate, len(exact))
	for i, p := range exact {
		candidates[i] = candidate{p.ID, apart(p.Name, p.Identifier, p.Email, p.Register)}
	}
	return api.Person{}, ambiguous("people", text, candidates)
}
