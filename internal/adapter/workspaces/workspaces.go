// Package workspaces puts people into groups of a service that speaks SCIM 2.0.
package workspaces

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"kanban/internal/adapter"
	"kanban/internal/core/roster"
	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

// Workspace is a connected service.
type Workspace struct {
	client *scim.Client
	atOnce int
	notice string // the attribute that says whether newcomers are told, or ""

	once   sync.Once
	config scim.ServiceProviderConfig
}

// New uses a connection of kind scim.
func New(c adapter.Connection, o call.Options) *Workspace {
	return &Workspace{
		client: scim.NewClient(c.Settings["address"], c.Secret["token"], adapter.Late(c), adapter.Limited(c, o)),
		atOnce: adapter.AtOnce(c), notice: c.Settings["notice"],
	}
}

// offers reads once what the service offers; a service that does not say offers
// nothing beyond the core of the standard.
func (w *Workspace) offers(ctx context.Context) scim.ServiceProviderConfig {
	w.once.Do(func() { w.config, _ = w.client.Config(ctx) })
	return w.config
}

// fewAccounts is up to how many accounts a service is listed whole. Above it
// only those are looked up that could be somebody's.
const fewAccounts = 200

// Place is where the people of a pairing are at the service.
type Place struct {
	Ref    string            // of the group for all, empty until it is made
	Groups map[string]string // by section of a linked set: the group for its people
}

// Seen is what a service has about a pairing.
type Seen struct {
	Name     string // of the group for all
	Key      string // that group's external id: whoever made it has given it
	Accounts []roster.Account
}

// membership tells who is where.
type membership struct {
	all    map[string]bool
	groups map[string][]string // by account: sections in whose group it is
}

// enlist notes the members of one group; section is empty for the group for all.
func (m *membership) enlist(g scim.Group, section string) {
	for _, x := range g.Members {
		switch {
		case section == "":
			m.all[x.Value] = true
		case !slices.Contains(m.groups[x.Value], section):
			m.groups[x.Value] = append(m.groups[x.Value], section)
		}
	}
}

func (m *membership) account(u scim.User) roster.Account {
	return roster.Account{
		ID: u.ID, UserName: u.UserName, Email: u.Email(), Emails: u.Addresses(), ExternalID: u.ExternalID,
		GivenName: u.Name.GivenName, FamilyName: u.Name.FamilyName, Active: u.Active, InTarget: m.all[u.ID], Groups: m.groups[u.ID],
	}
}

// membership reads who is where. A group inside the target that was deleted at the
// service has nobody.
func (w *Workspace) membership(ctx context.Context, at Place) (all scim.Group, m membership, err error) {
	m = membership{all: map[string]bool{}, groups: map[string][]string{}}
	if at.Ref == "" {
		return all, m, nil
	}
	group, err := w.client.Group(ctx, at.Ref)
	if err != nil {
		return all, m, err
	}
	m.enlist(group, "")
	for _, section := range slices.Sorted(maps.Keys(at.Groups)) {
		g, err := w.client.Group(ctx, at.Groups[section])
		if p, ok := call.As(err); ok && p.Kind == call.NotFound {
			continue
		}
		if err != nil {
			return all, m, err
		}
		m.enlist(g, section)
	}
	return group, m, nil
}

// Look gives every account that could belong to one of the people, and every
// member of the target, marked as such.
func (w *Workspace) Look(ctx context.Context, at Place, wanted []roster.Wanted, ids []string) (Seen, error) {
	all, m, err := w.membership(ctx, at)
	if err != nil {
		return Seen{}, err
	}
	total, err := w.client.CountUsers(ctx)
	if err != nil {
		return Seen{}, err
	}
	var users []scim.User
	if total <= max(fewAccounts, 2*len(wanted)) {
		users, err = w.client.Users(ctx, "")
	} else {
		for id := range m.all {
			ids = append(ids, id)
		}
		users, err = w.lookUp(ctx, wanted, ids)
		if errors.Is(err, errNoFilter) { // slower, but nobody is overlooked
			users, err = w.client.Users(ctx, "")
		}
	}
	seen := Seen{all.DisplayName, all.ExternalID, make([]roster.Account, len(users))}
	for i, u := range users {
		seen.Accounts[i] = m.account(u)
	}
	return seen, err
}

// filterLength bounds a filter, in bytes, so that the address stays one that
// servers take.
const filterLength = 1500

// lookUp asks for accounts by every key that people could be recognised by, then
// one by one for known accounts and members that were not among them.
func (w *Workspace) lookUp(ctx context.Context, wanted []roster.Wanted, ids []string) ([]scim.User, error) {
	var terms []string
	for _, p := range wanted {
		for _, t := range [][2]string{{"externalId", p.Identifier}, {"emails.value", p.Email}, {"userName", p.UserName}} {
			if term := scim.Equal(t[0], t[1]); t[1] != "" && !slices.Contains(terms, term) {
				terms = append(terms, term)
			}
		}
	}
	found := map[string]scim.User{}
	var mu sync.Mutex
	group, groupCtx := errgroup.WithContext(ctx)
	group.SetLimit(w.atOnce)
	keep := func(users []scim.User) {
		mu.Lock()
		defer mu.Unlock()
		for _, u := range users {
			found[u.ID] = u
		}
	}
	for _, part := range parts(terms, filterLength) {
		group.Go(func() error {
			users, err := w.ask(groupCtx, part)
			keep(users)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	slices.Sort(ids)
	missing := slices.DeleteFunc(slices.Compact(ids), func(id string) bool {
		_, there := found[id]
		return there || id == ""
	})
	group, groupCtx = errgroup.WithContext(ctx)
	group.SetLimit(w.atOnce)
	for _, id := range missing {
		group.Go(func() error {
			u, err := w.client.User(groupCtx, id)
			if p, ok := call.As(err); ok && p.Kind == call.NotFound {
				return nil // an account that is gone is nobody's
			}
			if err == nil {
				keep([]scim.User{u})
			}
			return err
		})
	}
	err := group.Wait()
	users := make([]scim.User, 0, len(found))
	for _, u := range found {
		users = append(users, u)
	}
	return users, err
}

// errNoFilter means that a service cannot look users up by one of the keys.
var errNoFilter = errors.New("the service cannot filter users by every key")

// ask looks for users who fit one of the terms. A service that cannot join them
// is asked for each.
func (w *Workspace) ask(ctx context.Context, terms []string) ([]scim.User, error) {
	users, err := w.client.Users(ctx, scim.Any(terms...))
	p, ok := call.As(err)
	switch {
	case !ok || p.Kind != call.Refused:
		return users, err
	case len(terms) == 1:
		return nil, errNoFilter
	}
	var all []scim.User
	for _, t := range terms {
		users, err := w.ask(ctx, []string{t})
		if err != nil {
			return nil, err
		}
		all = append(all, users...)
	}
	return all, nil
}

// parts cuts filter terms into lists whose filter is at most as long as said.
func parts(terms []string, length int) (out [][]string) {
	room := 0
	for _, t := range terms {
		if room -= len(t) + len(" or "); room < 0 || len(out) == 0 {
			out, room = append(out, nil), length-len(t)
		}
		out[len(out)-1] = append(out[len(out)-1], t)
	}
	return out
}

// EnsureTarget makes the group, or finds the one made before under the same key.
func (w *Workspace) EnsureTarget(ctx context.Context, name, key string) (ref string, err error) {
	group, err := w.client.CreateGroup(ctx, name, key)
	return group.ID, err
}

// LookAgain looks at growing intervals until something is seen, for as long as the service
// may be late.
func (w *Workspace) LookAgain(ctx context.Context, see func() (bool, error)) (bool, error) {
	return w.client.Look(ctx, see)
}

// Rename gives the target another name.
func (w *Workspace) Rename(ctx context.Context, ref, name string) error {
	return w.client.RenameGroup(ctx, ref, name)
}

// Probe reads the service's configuration, its schemas, its users and its groups.
func (w *Workspace) Probe(ctx context.Context) []adapter.Report {
	config, err := w.client.Config(ctx)
	if err == nil {
		_, err = w.client.Users(ctx, scim.Equal("userName", "kanban-probe"))
	}
	in := adapter.ReportOf(adapter.PeopleIn, "Accounts can be read.", err)
	if err == nil && !config.Patch.Supported {
		err = &call.Problem{Kind: call.NotEnabled, Detail: "the service says that it does not support PATCH, which adding one member needs"}
	}
	if err == nil {
		_, err = w.client.Groups(ctx, scim.Equal("displayName", "kanban-probe"))
	}
	if err == nil {
		err = w.probeNotice(ctx)
	}
	detail := "Groups can be read and the service supports changing members"
	if config.Bulk.Supported {
		detail += fmt.Sprintf("; accounts are made %d at a time", bulkSize(config))
	}
	if config.ETag.Supported {
		detail += "; versions are checked"
	}
	return []adapter.Report{in, adapter.ReportOf(adapter.PeopleOut, detail+".", err)}
}

// probeNotice checks that the service knows the attribute that keeps newcomers
// from being told.
func (w *Workspace) probeNotice(ctx context.Context) error {
	if w.notice == "" {
		return nil
	}
	urn, name, ok := scim.Attribute(w.notice)
	if !ok {
		return &call.Problem{Kind: call.NotEnabled, Detail: fmt.Sprintf("the notice attribute %q is not of the form urn:…:User:attribute", w.notice)}
	}
	schemas, err := w.client.Schemas(ctx)
	if err != nil {
		return err
	}
	for _, s := range schemas {
		if strings.EqualFold(s.ID, urn) {
			for _, a := range s.Attributes {
				if strings.EqualFold(a.Name, name) {
					return nil
				}
			}
		}
	}
	return &call.Problem{Kind: call.NotEnabled, Detail: "the service does not know the notice attribute " + w.notice + ", so it may tell newcomers"}
}
