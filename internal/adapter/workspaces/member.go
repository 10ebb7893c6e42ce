package workspaces

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"kanban/internal/core/roster"
	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

// Group says which group of the service is meant: by the register's identifier that
// it carries, or by its name.
type Group struct {
	ExternalID string
	Name       string
}

func (g Group) String() string {
	if g.Name != "" {
		return g.Name
	}
	return g.ExternalID
}

// Someone is a person to put into a group.
type Someone struct {
	AccountID  string // at the service, when it is known
	Identifier string
	Email      string
	UserName   string
	GivenName  string
	FamilyName string
}

// ErrNoGroup means that the service has no such group, or several.
var ErrNoGroup = errors.New("the service has no such group")

// ErrNoAccount means that no account at the service could be recognised as the person's.
var ErrNoAccount = errors.New("the person has no account at the service")

// attribute is a SCIM attribute and what it must be (RFC 7644 section 3.4.2.2), "" for whatever.
type attribute struct{ name, value string }

// FindGroup finds the one group that is meant.
func (w *Workspace) FindGroup(ctx context.Context, g Group) (id string, err error) {
	for _, by := range []attribute{{"externalId", g.ExternalID}, {"displayName", g.Name}} {
		if by.value == "" {
			continue
		}
		found, err := w.client.Groups(ctx, scim.Equal(by.name, by.value))
		if err != nil {
			return "", err
		}
		if len(found) == 1 {
			return found[0].ID, nil
		}
		if len(found) > 1 {
			return "", fmt.Errorf("%w: %d groups have the %s %q", ErrNoGroup, len(found), by.name, by.value)
		}
	}
	return "", fmt.Errorf("%w: %s", ErrNoGroup, g)
}

// GroupNames lists what the groups of the service are called, ordered.
func (w *Workspace) GroupNames(ctx context.Context) ([]string, error) {
	groups, err := w.client.Groups(ctx, "")
	names := make([]string, len(groups))
	for i, g := range groups {
		names[i] = g.DisplayName
	}
	slices.Sort(names)
	return names, err
}

// AccountOf finds whose account the person's is: the known one, else by identifier,
// address and user name, in this order; two are ErrNoAccount, none is "".
func (w *Workspace) AccountOf(ctx context.Context, p Someone) (string, error) {
	if p.AccountID != "" {
		u, err := w.client.User(ctx, p.AccountID)
		if x, ok := call.As(err); !ok || x.Kind != call.NotFound {
			return u.ID, err
		}
	}
	for _, by := range []attribute{
		{"externalId", p.Identifier},
		{"emails.value", p.Email},
		{"userName", p.UserName},
	} {
		if by.value == "" {
			continue
		}
		found, err := w.client.Users(ctx, scim.Equal(by.name, by.value))
		if x, ok := call.As(err); ok && x.Kind == call.Refused {
			continue // the service cannot filter by this key
		}
		if err != nil {
			return "", err
		}
		if len(found) == 1 {
			return found[0].ID, nil
		}
		if len(found) > 1 {
			return "", fmt.Errorf("%w: %d accounts have the %s %q", ErrNoAccount, len(found), by.name, by.value)
		}
	}
	return "", nil
}

// Drop deletes the account that carries a person's identifier, and looks whether it is gone. Where the service deletes
// no accounts it is switched off instead, and off is true.
func (w *Workspace) Drop(ctx context.Context, identifier string) (off bool, err error) {
	account, err := w.carrying(ctx, identifier)
	if err != nil || account == "" {
		return false, err
	}
	err = w.client.DeleteUser(ctx, account)
	if x, ok := call.As(err); ok && (x.Kind == call.Refused || x.Kind == call.NotAllowed ||
		x.Kind == call.NotEnabled) {
		return true, w.client.SetActive(ctx, account, false)
	}
	if err != nil {
		return false, err
	}
	gone, err := w.LookAgain(ctx, func() (bool, error) {
		id, err := w.carrying(ctx, identifier)
		return id == "", err
	})
	if err == nil && !gone {
		err = &call.Problem{Kind: call.Broken, Detail: "the service says that the account is deleted, and it is still there"}
	}
	return false, err
}

// carrying finds the one account that carries an identifier.
func (w *Workspace) carrying(ctx context.Context, identifier string) (string, error) {
	found, err := w.client.Users(ctx, scim.Equal("externalId", identifier))
	found = slices.DeleteFunc(found, func(u scim.User) bool { return identifier == "" || u.ExternalID != identifier })
	switch {
	case err != nil || len(found) == 0:
		return "", err
	case len(found) > 1:
		return "", fmt.Errorf("%w: %d accounts have the externalId %q", ErrNoAccount, len(found), identifier)
	}
	return found[0].ID, nil
}

// Put puts a person into a group, making the account when there is none, and reads
// back that it is so. It gives the account's id. Doing it again is harmless.
func (w *Workspace) Put(ctx context.Context, g Group, p Someone) (account string, err error) {
	group, err := w.FindGroup(ctx, g)
	if err != nil {
		return "", err
	}
	if account, err = w.AccountOf(ctx, p); err != nil {
		return "", err
	}
	if account == "" {
		if p.Email == "" {
			return "", fmt.Errorf("%w, and none can be made without an address", ErrNoAccount)
		}
		newcomer := (&work{Workspace: w}).user(Step{Want: roster.Wanted{
			Identifier: p.Identifier, Email: p.Email,
			GivenName: p.GivenName, FamilyName: p.FamilyName,
		}})
		made, err := w.client.CreateUser(ctx, newcomer)
		if err != nil {
			return "", err
		}
		account = made.ID
	}
	return account, w.change(ctx, group, account, true)
}

// Take takes a person out of a group and reads back that it is so. Whoever is not in
// it, or has no account, is no error.
func (w *Workspace) Take(ctx context.Context, g Group, p Someone) (account string, err error) {
	group, err := w.FindGroup(ctx, g)
	if err != nil {
		return "", err
	}
	if account, err = w.AccountOf(ctx, p); err != nil || account == "" {
		return "", err
	}
	return account, w.change(ctx, group, account, false)
}

func (w *Workspace) change(ctx context.Context, group, account string, in bool) error {
	is := func() (bool, error) {
		g, err := w.client.Group(ctx, group)
		return slices.ContainsFunc(g.Members, func(m scim.Member) bool { return m.Value == account }), err
	}
	if there, err := is(); err != nil || there == in {
		return err
	}
	do := w.client.AddMembers
	if !in {
		do = w.client.RemoveMembers
	}
	if err := do(ctx, group, account); err != nil {
		return err
	}
	if seen, err := w.client.WaitUntilSeen(ctx, func() (bool, error) {
		there, err := is()
		return there == in, err
	}); err != nil || seen {
		return err
	}
	return &call.Problem{
		Kind:   call.Broken,
		Detail: "the service accepted the change, but the group shows another state",
	}
}
