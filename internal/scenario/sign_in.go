package scenario

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"time"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// ProviderName is the school's own sign-in.
const ProviderName = "Fernmoor sign-in"

// The client that is registered there.
const (
	providerClient = "kanban-sign-in"
	providerSecret = "potting-shed"
)

// Provider is the school's own sign-in, as it is added here.
func (s *Story) Provider() api.EditProvider {
	secret := providerSecret
	return api.EditProvider{
		Name: ProviderName, Issuer: s.At.Identity, ClientID: providerClient, Secret: &secret, On: true,
		Believes: "verified", Admits: "mapped", PersonClaim: "school_id", PersonKey: "identifier",
		Mappings: []api.ProviderMapping{{
			Claim: "groups", Value: "help-desk", Grant: api.NewRoleGrant{Role: "support"},
		}},
	}
}

// SignInElsewhere adds the school's own sign-in, and lets a teacher and the help desk in by it.
func (s *Story) SignInElsewhere(ctx context.Context) error {
	s.heading("The school's own sign-in lets its people in: teachers as the register says, others by their groups")
	p, err := client.Post[api.Provider](ctx, s.Client, "/providers", s.Provider())
	if err != nil {
		return err
	}
	for _, x := range []struct{ account, role string }{{"fern-tea-002", "teacher"}, {"fern-desk", "support"}} {
		who, err := s.signInAt(ctx, p, x.account)
		if err != nil {
			return err
		}
		if len(who.Roles) != 1 || who.Roles[0] != x.role {
			return fmt.Errorf("%s signs in as %v, not as %s", who.Name, who.Roles, x.role)
		}
		s.tell("%-12s signs in there: %s", who.Name, x.role)
	}
	return nil
}

// signInAt signs somebody in at the school's own sign-in, in a browser of their own.
func (s *Story) signInAt(ctx context.Context, p api.Provider, account string) (who api.Caller, err error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return who, err
	}
	browser := &http.Client{Jar: jar, Timeout: 30 * time.Second}
	call := func(method, address string, form url.Values) (*url.URL, []byte, error) {
		req, err := http.NewRequestWithContext(ctx, method, address, strings.NewReader(form.Encode()))
		if err != nil {
			return nil, nil, err
		}
		if form != nil {
			req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		resp, err := browser.Do(req)
		if err != nil {
			return nil, nil, err
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		return resp.Request.URL, body, err
	}
	at, _, err := call(http.MethodGet, s.Client.Address()+"/providers/"+p.ID+"/sign-in", nil)
	if err != nil {
		return who, err
	}
	form := at.Query()
	form.Set("account", account)
	if _, _, err = call(http.MethodPost, s.At.Identity+"/authorize", form); err != nil {
		return who, err
	}
	_, body, err := call(http.MethodGet, s.Client.Address()+"/api/v1/session", nil)
	if err != nil {
		return who, err
	}
	return who, json.Unmarshal(body, &who)
}
