package launches

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/app/connections"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/launchstore"
	"kanban/internal/wire/lti"
)

const (
	// registrationLasts is how long a registration address can be used.
	registrationLasts = 7 * 24 * time.Hour
	// registrationsKept is how long it is shown what came of one.
	registrationsKept = 30 * 24 * time.Hour
	toolName          = "Kanban"
)

// Tool is what this installation says of itself at platforms.
func (s *Service) Tool() lti.Tool {
	return lti.Tool{
		Name: toolName, Base: s.Public, Login: s.Public + LoginPath, Launch: s.Public + LaunchPath,
		Keys: s.Public + KeysPath,
	}
}

// NewRegistration makes an address that the administrator of a platform pastes there: the platform registers this
// installation by it, once. name is what the connection is called.
func (s *Service) NewRegistration(ctx context.Context, who, name string) (r launchstore.Registration, address string,
	err error,
) {
	name = strings.TrimSpace(name)
	if name == "" {
		return r, "", refusal.Invalid("name", "is missing: choose the name by which people know the platform")
	}
	token, now := rand.Text(), s.Clock.Now()
	r = launchstore.Registration{
		ID: db.NewID(), Name: name, MadeBy: who, CreatedAt: now, ExpiresAt: now.Add(registrationLasts),
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := launchstore.KeepRegistration(ctx, tx, r, hashed(token)); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "made a registration address", "registration/"+r.ID, map[string]string{"name": name})
	})
	return r, s.Public + RegisterPath + token, err
}

// called finds the connection of a name; there is false when nothing is called so.
func (s *Service) called(ctx context.Context, name string) (c connectionstore.Connection, there bool, err error) {
	all, err := s.Connections.Connections(ctx)
	for _, c := range all {
		if strings.EqualFold(c.Name, name) {
			return c, true, nil
		}
	}
	return c, false, err
}

// Registrations lists registration addresses of the last month, the newest first.
func (s *Service) Registrations(ctx context.Context) ([]launchstore.Registration, error) {
	return launchstore.Registrations(ctx, s.Store, s.Clock.Now().Add(-registrationsKept))
}

// RemoveRegistration removes a registration address that was not used.
func (s *Service) RemoveRegistration(ctx context.Context, who, id string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := launchstore.RemoveRegistration(ctx, tx, id); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "removed a registration address", "registration/"+id, nil)
	})
}

// Joined is a platform that has registered this installation.
type Joined struct {
	Name      string
	Interface connectionstore.Interface
	Waits     bool // for somebody to admit its deployment, which it has not named yet
}

// Join registers this installation at the platform that opened a registration address (LTI Dynamic Registration
// 1.0). The address is used up only when it came to something.
func (s *Service) Join(ctx context.Context, token, configuration, platformToken string) (j Joined, err error) {
	r, err := launchstore.FindRegistration(ctx, s.Store, hashed(token))
	switch now := s.Clock.Now(); {
	case errors.Is(err, db.ErrNotFound):
		return j, refuse("Ask an administrator of Kanban for another one.", "This registration address is not known here, or was removed.")
	case err != nil:
		return j, err
	case r.UsedAt != nil:
		return j, refuse("If the platform has joined, there is nothing more to do. Else ask an administrator of Kanban for another one.",
			"This registration address was used already; each works once.")
	case r.ExpiresAt.Before(now):
		return j, refuse("Ask an administrator of Kanban for another one.", "This registration address ended on %s.",
			r.ExpiresAt.UTC().Format("2 January 2006"))
	case configuration == "":
		return j, refuse("Paste the address into the platform, where tools register themselves (dynamic registration); it is not "+
			"opened by hand. A platform that has no such place is joined by hand: add a connection of the kind LTI 1.3.",
			"The platform did not say where it describes itself (openid_configuration).")
	}
	c, err := lti.ReadConfiguration(ctx, s.client, configuration)
	if err != nil {
		return j, explained(err)
	}
	// Claimed before the platform is asked: two tabs would register twice.
	if err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		return launchstore.ClaimRegistration(ctx, tx, r.ID, s.Clock.Now())
	}); err != nil {
		return j, refuse("Look whether the platform has joined.", "This registration address is used by somebody at this moment.")
	}
	if j, err = s.register(ctx, r, c, platformToken); err != nil {
		released := s.Store.InTx(context.WithoutCancel(ctx), func(tx *db.Tx) error {
			return launchstore.ReleaseRegistration(context.WithoutCancel(ctx), tx, r.ID)
		})
		return j, errors.Join(explained(err), released)
	}
	return j, nil
}

// joinedAlready refuses a platform that has joined the connection of that name before.
func (s *Service) joinedAlready(ctx context.Context, name, issuer string) error {
	of, there, err := s.called(ctx, name)
	if err != nil || !there {
		return err
	}
	all, err := s.Connections.InterfacesOf(ctx, of.ID)
	for _, i := range all {
		if i.Kind == adapter.KindLTI && i.Settings["issuer"] == issuer {
			return refuse("There is nothing more to do. To let it join anew, an administrator of Kanban removes the interface first.",
				"%s has joined already.", of.Name)
		}
	}
	return err
}

// keep makes the interface of a platform: of the connection of that name, or of a new one.
func (s *Service) keep(ctx context.Context, r launchstore.Registration, c lti.Configuration,
	n connections.NewInterface) (
	connectionstore.Interface, error,
) {
	of, there, err := s.called(ctx, r.Name)
	if err != nil {
		return connectionstore.Interface{}, err
	}
	if there {
		made, _, err := s.Connections.Add(ctx, r.MadeBy, of.ID, n)
		return made, err
	}
	_, made, _, err := s.Connections.Connect(ctx, r.MadeBy, connections.NewConnection{
		Name: r.Name, Details: connections.Details{Address: &c.Issuer}, Interfaces: []connections.NewInterface{n},
	})
	if err != nil {
		return connectionstore.Interface{}, err
	}
	return made[0], nil
}

func (s *Service) register(ctx context.Context, r launchstore.Registration, c lti.Configuration,
	token string,
) (j Joined, err error) {
	if err := s.joinedAlready(ctx, r.Name, c.Issuer); err != nil {
		return j, err
	}
	if _, err := s.KeySet(ctx); err != nil { // the platform may read it at once
		return j, err
	}
	done, err := lti.Join(ctx, s.client, c, token, s.Tool())
	if err != nil {
		return j, err
	}
	made, err := s.keep(ctx, r, c, connections.NewInterface{Kind: adapter.KindLTI, Values: map[string]string{
		"issuer": c.Issuer, "clientId": done.ClientID, "authorizeAddress": c.Authorize, "tokenAddress": c.Token,
		"keysAddress": c.Keys,
	}})
	if err != nil {
		return j, fmt.Errorf("keeping the platform that registered Kanban as %s: %w", done.ClientID, err)
	}
	j = Joined{Name: r.Name, Interface: made, Waits: done.Deployment == ""}
	return j, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := launchstore.EndRegistration(ctx, tx, r.ID, made.ID); err != nil {
			return err
		}
		if done.Deployment == "" {
			return nil
		}
		d, err := launchstore.MeetDeployment(ctx, tx, made.ID, done.Deployment, s.Clock.Now())
		if err != nil {
			return err
		}
		return launchstore.AdmitDeployment(ctx, tx, d.ID, r.MadeBy, s.Clock.Now())
	})
}

// Deployments lists those of a platform, those that wait first.
func (s *Service) Deployments(ctx context.Context, interfaceID string) ([]launchstore.ListedDeployment, error) {
	if _, err := s.platform(ctx, interfaceID); err != nil {
		return nil, err
	}
	return launchstore.Deployments(ctx, s.Store, interfaceID)
}

// Admit lets a deployment open pages from now on, or no more.
func (s *Service) Admit(ctx context.Context, who, id string, admitted bool) error {
	by, what := who, "admitted a deployment"
	if !admitted {
		by, what = "", "shut a deployment out"
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := launchstore.AdmitDeployment(ctx, tx, id, by, s.Clock.Now()); err != nil {
			return err
		}
		d, err := launchstore.FindDeployment(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, what, "interface/"+d.InterfaceID,
			map[string]string{"deployment": d.Deployment}); err != nil {
			return err
		}
		return tx.Announce(ctx, "interface", d.InterfaceID)
	})
}

// platform finds an interface that is a platform.
func (s *Service) platform(ctx context.Context, id string) (connectionstore.Interface, error) {
	c, err := s.Connections.FindInterface(ctx, id)
	if err == nil && c.Kind != adapter.KindLTI {
		err = refusal.Invalid("id", "%s is no course platform that opens links (LTI 1.3)", c.Name)
	}
	return c, err
}
