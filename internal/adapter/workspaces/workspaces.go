// Package workspaces puts people into groups of a service that speaks SCIM 2.0.
package workspaces

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

	"github.com/google/uuid"
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
	// details are the attributes for what the service wants to know of a class, by name.
	details map[string]string
}

// memories keep what services say of themselves, by the interface and its address.
var memories sync.Map // string → *scim.Memory

// New uses an interface of kind scim.
func New(c adapter.Interface, o call.Options) *Workspace {
	details := map[string]string{}
	for _, d := range Details {
		details[d.Name] = c.Settings[d.Setting]
	}
	client := scim.NewClient(c.Settings["address"], c.Secret["token"], adapter.Late(c), adapter.Limited(c, o))
	if c.ID != "" {
		memory, _ := memories.LoadOrStore(c.ID+" "+c.Settings["address"], &scim.Memory{})
		client.Remember(memory.(*scim.Memory))
	}
	return &Workspace{details: details, client: client, atOnce: adapter.AtOnce(c), notice: c.Settings["notice"]}
}

// offers is what the service offers; a service that does not say offers nothing beyond the core of the
// standard.
func (w *Workspace) offers(ctx context.Context) scim.ServiceProviderConfig {
	config, _ := w.client.Offers(ctx)
	return config
}

// fewAccounts is up to how many accounts a service is listed whole. Above it
// only those are looked up that could be somebody's.
const fewAccounts = 200

// TargetGroup is where the people of a pairing are at the service.
type TargetGroup struct {
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
		GivenName: u.Name.GivenName, FamilyName: u.Name.FamilyName, Active: u.Active, InTarget: m.all[u.ID],
		Groups: m.groups[u.ID],
	}
}

// membership reads who is where. A group inside the target that was deleted at the
// service has nobody.
func (w *Workspace) membership(ctx context.Context, at TargetGroup) (all scim.Group, m membership, err error) {
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

// ReadTarget gives every account that could belong to one of the people, and every
// member of the target, marked as such.
func (w *Workspace) ReadTarget(ctx context.Context, at TargetGroup, wanted []roster.Wanted, ids []string) (Seen,
	error,
) {
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
		for _, by := range []attribute{
			{"externalId", p.Identifier},
			{"emails.value", p.Email},
			{"userName", p.UserName},
		} {
			if term := scim.Equal(by.name, by.value); by.value != "" && !slices.Contains(terms, term) {
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

// Details are what a service can want to know of a class, each with the setting that names
// the attribute for it.
var Details = []Detail{
	{"level", "classLevel"},
	{"subject", "classSubject"},
	{"starts", "classStarts"},
	{"ends", "classEnds"},
}

// Detail is one thing that a service can want to know of a class.
type Detail struct{ Name, Setting string }

// EnsureTarget makes the group with the details that the service wants, or finds the one made
// before under the same key.
func (w *Workspace) EnsureTarget(ctx context.Context, name, key string, details map[string]string) (ref string,
	err error,
) {
	extensions := map[string]map[string]any{}
	for _, d := range Details {
		if urn, attribute, ok := scim.Attribute(w.details[d.Name]); ok && details[d.Name] != "" {
			if extensions[urn] == nil {
				extensions[urn] = map[string]any{}
			}
			extensions[urn][attribute] = details[d.Name]
		}
	}
	group, err := w.client.CreateGroup(ctx, name, key, extensions)
	return group.ID, err
}

// LookAgain looks at growing intervals until something is seen, for as long as the service
// may be late.
func (w *Workspace) LookAgain(ctx context.Context, see func() (bool, error)) (bool, error) {
	return w.client.WaitUntilSeen(ctx, see)
}

// Rename gives the target another name.
func (w *Workspace) Rename(ctx context.Context, ref, name string) error {
	return w.client.RenameGroup(ctx, ref, name)
}

// CountMembers gives a group's name and how many are in it.
func (w *Workspace) CountMembers(ctx context.Context, ref string) (name string, members int, err error) {
	g, err := w.client.Group(ctx, ref)
	return g.DisplayName, len(g.Members), err
}

// RemoveGroup removes a group; one that is gone already is no error.
func (w *Workspace) RemoveGroup(ctx context.Context, ref string) error {
	return w.client.DeleteGroup(ctx, ref)
}

// Probe reads the service's configuration, its schemas, its users and its groups.
func (w *Workspace) Probe(ctx context.Context) []adapter.Report {
	config, err := w.client.Config(ctx)
	if err == nil {
		_, err = w.client.Users(ctx, scim.Equal("userName", "kanban-probe"))
	}
	in := adapter.ReportOf(adapter.PeopleIn, "Accounts can be read.", err)
	if err == nil && !config.Patch.Supported {
		err = &call.Problem{
			Kind:   call.NotEnabled,
			Detail: "the service says that it does not support PATCH, which adding one member needs",
		}
	}
	if err == nil {
		_, err = w.client.Groups(ctx, scim.Equal("displayName", "kanban-probe"))
	}
	if err == nil {
		err = w.probeAttributes(ctx)
	}
	if err == nil {
		err = w.probeWrite(ctx)
	}
	detail := "Groups can be read and the service supports changing members; that the token may change them is unproven until the first run"
	if config.Bulk.Supported {
		detail += fmt.Sprintf("; accounts are made %d at a time", bulkSize(config))
	}
	if config.ETag.Supported {
		detail += "; versions are checked"
	}
	return []adapter.Report{in, adapter.ReportOf(adapter.PeopleOut, detail+".", err)}
}

// probeWrite changes a group that does not exist, so that nothing comes of it: a service
// that looks at the token's rights first says that it may not.
func (w *Workspace) probeWrite(ctx context.Context) error {
	err := w.client.RenameGroup(ctx, uuid.NewString(), "kanban-probe")
	if p, ok := call.As(err); ok && (p.Kind == call.NotAllowed || p.Kind == call.WrongCredential) {
		return &call.Problem{
			Kind: p.Kind, Status: p.Status,
			Detail: "groups can be read, and may not be changed: " + p.Detail, Err: p.Err,
		}
	}
	return nil
}

// probeAttributes checks that the service knows the attribute that keeps newcomers from being
// told, and those for what it wants to know of a class.
func (w *Workspace) probeAttributes(ctx context.Context) error {
	type named struct{ path, title, lest string }
	wanted := []named{{w.notice, "notice attribute", ", so it may notify newcomers"}}
	for _, d := range Details {
		wanted = append(wanted, named{
			w.details[d.Name], "attribute for the " + d.Name + " of a class",
			", so the service does not get to know it",
		})
	}
	wanted = slices.DeleteFunc(wanted, func(n named) bool { return n.path == "" })
	if len(wanted) == 0 {
		return nil
	}
	var schemas []scim.Schema
	for _, n := range wanted {
		urn, name, ok := scim.Attribute(n.path)
		if !ok {
			return &call.Problem{
				Kind:   call.NotEnabled,
				Detail: fmt.Sprintf("the %s %q is not of the form urn:…:attribute", n.title, n.path),
			}
		}
		if schemas == nil {
			var err error
			if schemas, err = w.client.Schemas(ctx); err != nil {
				return err
			}
		}
		if !scim.Has(schemas, urn, name) {
			return &call.Problem{
				Kind:   call.NotEnabled,
				Detail: "the service does not know the " + n.title + " " + n.path + n.lest,
			}
		}
	}
	return nil
}
