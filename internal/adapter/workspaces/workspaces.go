// Package workspaces puts people into groups of a service that speaks SCIM 2.0.
package workspaces

import (
	"context"

	"kanban/internal/adapter"
	"kanban/internal/core/roster"
	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

// Workspace is a connected service.
type Workspace struct{ client *scim.Client }

// New uses a connection of kind scim.
func New(c adapter.Connection, o call.Options) *Workspace {
	return &Workspace{scim.NewClient(c.Settings["address"], c.Secret["token"], o)}
}

// Accounts lists every account of the service and marks the members of a
// target; with an empty ref there are none.
func (w *Workspace) Accounts(ctx context.Context, ref string) ([]roster.Account, error) {
	users, err := w.client.Users(ctx, "")
	if err != nil {
		return nil, err
	}
	members := map[string]bool{}
	if ref != "" {
		group, err := w.client.Group(ctx, ref)
		if err != nil {
			return nil, err
		}
		for _, m := range group.Members {
			members[m.Value] = true
		}
	}
	accounts := make([]roster.Account, len(users))
	for i, u := range users {
		accounts[i] = roster.Account{
			ID: u.ID, UserName: u.UserName, Email: u.Email(), ExternalID: u.ExternalID,
			GivenName: u.Name.GivenName, FamilyName: u.Name.FamilyName, Active: u.Active, InTarget: members[u.ID],
		}
	}
	return accounts, nil
}

// EnsureTarget makes the group, or finds the one made before under the same key.
func (w *Workspace) EnsureTarget(ctx context.Context, name, key string) (ref string, err error) {
	group, err := w.client.CreateGroup(ctx, name, key)
	return group.ID, err
}

// Add puts a person into the target, making an account first when accountID is
// empty. It returns the account's id. Doing it again is harmless.
func (w *Workspace) Add(ctx context.Context, ref, accountID string, want roster.Wanted) (string, error) {
	if accountID == "" {
		user, err := w.client.CreateUser(ctx, scim.User{
			ExternalID: want.Identifier, UserName: want.Email, Active: true,
			Name:   scim.Name{GivenName: want.GivenName, FamilyName: want.FamilyName},
			Emails: []scim.Email{{Value: want.Email, Type: "work", Primary: true}},
		})
		if err != nil {
			return "", err
		}
		accountID = user.ID
	}
	return accountID, w.client.AddMember(ctx, ref, accountID)
}

// Update writes name and address of an account that Kanban made.
func (w *Workspace) Update(ctx context.Context, accountID string, want roster.Wanted) error {
	return w.client.UpdateUser(ctx, accountID, scim.Name{GivenName: want.GivenName, FamilyName: want.FamilyName}, want.Email)
}

// Remove takes a person out of the target and, if asked, switches the account off.
func (w *Workspace) Remove(ctx context.Context, ref, accountID string, deactivate bool) error {
	if err := w.client.RemoveMember(ctx, ref, accountID); err != nil || !deactivate {
		return err
	}
	return w.client.SetActive(ctx, accountID, false)
}

// Probe reads the service's configuration, its users and its groups.
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
	return []adapter.Report{in, adapter.ReportOf(adapter.PeopleOut, "Groups can be read and the service supports changing members.", err)}
}
