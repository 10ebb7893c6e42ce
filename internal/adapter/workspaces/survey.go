package workspaces

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"kanban/internal/core/roster"
	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

// Space is a group at the service, with who is in it.
type Space struct {
	Ref     string
	Name    string
	Members []string // account ids
}

// Spaces lists every group of the service with its members.
func (w *Workspace) Spaces(ctx context.Context) ([]Space, error) {
	groups, err := w.client.GroupsWithMembers(ctx)
	spaces := make([]Space, len(groups))
	for i, g := range groups {
		spaces[i] = Space{Ref: g.ID, Name: g.DisplayName}
		for _, m := range g.Members {
			spaces[i].Members = append(spaces[i].Members, m.Value)
		}
	}
	return spaces, err
}

// Named lists the groups with a name, without members.
func (w *Workspace) Named(ctx context.Context, name string) ([]Space, error) {
	groups, err := w.client.Groups(ctx, scim.Equal("displayName", name))
	spaces := make([]Space, len(groups))
	for i, g := range groups {
		spaces[i] = Space{Ref: g.ID, Name: g.DisplayName}
	}
	return spaces, err
}

// Survey is a service read whole at one time: every account and every group. It
// answers for many pairings what would be many calls for each of them.
type Survey struct {
	service *Workspace
	groups  map[string]scim.Group
	users   []scim.User
	by      map[string][]int // by "field value": positions of users
}

// Survey reads the service whole.
func (w *Workspace) Survey(ctx context.Context) (*Survey, error) {
	users, err := w.client.Users(ctx, "")
	if err != nil {
		return nil, err
	}
	groups, err := w.client.GroupsWithMembers(ctx)
	if err != nil {
		return nil, err
	}
	s := &Survey{
		service: w, users: users, groups: make(map[string]scim.Group, len(groups)),
		by: make(map[string][]int, 4*len(users)),
	}
	for _, g := range groups {
		s.groups[g.ID] = g
	}
	for i, u := range users {
		s.index("id", u.ID, i)
		s.index("externalId", u.ExternalID, i)
		s.index("userName", strings.ToLower(strings.TrimSpace(u.UserName)), i)
		for _, e := range u.Emails {
			s.index("email", emailKey(e.Value), i)
		}
	}
	return s, nil
}

func (s *Survey) index(field, value string, i int) {
	if value != "" {
		s.by[field+" "+value] = append(s.by[field+" "+value], i)
	}
}

func emailKey(email string) string {
	key, _ := roster.AddressKey(email)
	return key
}

// ReadTarget answers like the service itself, from what was read.
func (s *Survey) ReadTarget(_ context.Context, at TargetGroup, wanted []roster.Wanted, ids []string) (Seen, error) {
	m := membership{all: map[string]bool{}, groups: map[string][]string{}}
	var seen Seen
	if at.Ref != "" {
		g, ok := s.groups[at.Ref]
		if !ok {
			return seen, &call.Problem{Kind: call.NotFound, Detail: "the service no longer has the group " + at.Ref}
		}
		seen.Name, seen.Key = g.DisplayName, g.ExternalID
		m.enlist(g, "")
		for section, ref := range at.Groups {
			m.enlist(s.groups[ref], section)
		}
	}
	taken := map[int]bool{}
	take := func(field, value string) {
		if value == "" {
			return
		}
		for _, i := range s.by[field+" "+value] {
			if !taken[i] {
				taken[i] = true
				seen.Accounts = append(seen.Accounts, m.account(s.users[i]))
			}
		}
	}
	for _, p := range wanted {
		take("externalId", p.Identifier)
		take("email", emailKey(p.Email))
		take("userName", strings.ToLower(strings.TrimSpace(p.UserName)))
	}
	for _, id := range ids {
		take("id", id)
	}
	for id := range m.all {
		take("id", id)
	}
	return seen, nil
}

// Spaces lists every group that was read, with its members, by name.
func (s *Survey) Spaces() []Space {
	spaces := make([]Space, 0, len(s.groups))
	for _, g := range s.groups {
		x := Space{Ref: g.ID, Name: g.DisplayName}
		for _, m := range g.Members {
			x.Members = append(x.Members, m.Value)
		}
		spaces = append(spaces, x)
	}
	slices.SortFunc(spaces, func(a, b Space) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name),
			cmp.Compare(a.Ref, b.Ref))
	})
	return spaces
}

// Accounts lists every account that was read; none is said to be in a target.
func (s *Survey) Accounts() []roster.Account {
	var none membership
	accounts := make([]roster.Account, len(s.users))
	for i, u := range s.users {
		accounts[i] = none.account(u)
	}
	return accounts
}
