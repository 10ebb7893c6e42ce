package scenario

import (
	"context"
	"fmt"
	"net/url"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// ProviderName is the school's own sign-in.
const ProviderName = "Fernmoor sign-in"

// SignInElsewhere adds the school's own sign-in, and lets a teacher and the help desk in by it.
func (s *Story) SignInElsewhere(ctx context.Context) error {
	s.heading("The school's own sign-in lets its people in: teachers as the register says, others by their groups")
	secret := "potting-shed"
	p, err := client.Post[api.Provider](ctx, s.Client, "/providers", api.EditProvider{
		Name: ProviderName, Issuer: s.At.Identity, ClientID: "kanban-sign-in", Secret: &secret, On: true,
		Believes: "verified", Admits: "mapped", PersonClaim: "school_id", PersonKey: "identifier",
		Mappings: []api.ProviderMapping{{
			Claim: "groups", Value: "help-desk", Grant: api.NewRoleGrant{Role: "support"},
		}},
	})
	if err != nil {
		return err
	}
	for _, x := range []struct{ account, name, role string }{
		{"fern-tea-002", "Otto Onion", "teacher"}, {"fern-desk", "Dora Desk", "support"},
	} {
		if err := s.signInAt(ctx, p, x.account, fmt.Sprintf(`"roles":[%q]`, x.role)); err != nil {
			return err
		}
		s.tell("%-12s signs in there: %s", x.name, x.role)
	}
	return nil
}

// signInAt signs somebody in at the school's own sign-in, in a browser of their own,
// and looks what they are here then.
func (s *Story) signInAt(ctx context.Context, p api.Provider, account, is string) error {
	browser, err := s.browser()
	if err != nil {
		return err
	}
	at, err := visit{s.Client.Address() + "/providers/" + p.ID + "/sign-in", nil, account}.in(ctx, browser)
	if err != nil {
		return err
	}
	form := at.Query()
	form.Set("account", account)
	if _, err := (visit{s.At.Identity + "/authorize", form, ""}).in(ctx, browser); err != nil {
		return err
	}
	_, err = visit{s.Client.Address() + "/api/v1/session", url.Values(nil), is}.in(ctx, browser)
	return err
}
