// Package connections configures outside systems and finds out what works.
package connections

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/core/clock"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/core/schedule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/mirror"
	"kanban/internal/store/pairingstore"
	"kanban/internal/wire/call"
	"kanban/internal/wire/webhook"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	// Source is the public address of this installation, named in probe events.
	Source string
	// Call bounds outside calls.
	Call  call.Options
	Clock clock.Clock
}

func owner(id string) string { return "connection/" + id }

// Open gives a connection with its secrets.
func (s *Service) Open(ctx context.Context, id string) (adapter.Connection, error) {
	c, err := connectionstore.FindConnection(ctx, s.Store, id)
	if err != nil {
		return adapter.Connection{}, err
	}
	return s.Unlock(c)
}

// Unlock gives a connection that has been read with its secrets.
func (s *Service) Unlock(c connectionstore.Connection) (adapter.Connection, error) {
	out := adapter.Connection{ID: c.ID, Name: c.Name, Kind: c.Kind, Settings: c.Settings, Secret: map[string]string{}}
	text, err := s.Store.Unseal(c.Secret, owner(c.ID))
	if err != nil || len(text) == 0 {
		return out, err
	}
	return out, json.Unmarshal(text, &out.Secret)
}

// Made are the values that Kanban made for the other side; shown once.
type Made map[string]string

// Create makes a connection out of values by field name.
func (s *Service) Create(ctx context.Context, who, kindName, name string,
	values map[string]string,
) (connectionstore.Connection, Made, error) {
	kind, ok := adapter.Lookup(kindName)
	if !ok {
		return connectionstore.Connection{}, nil, refusal.Invalid("kind",
			"%q is not a kind of connection; use one of %s", kindName, strings.Join(kindNames(), ", "))
	}
	values = trimmed(values)
	made := Made{}
	for _, f := range kind.Fields {
		switch {
		case f.Made && values[f.Name] == "":
			if values[f.Name] = rand.Text(); kindName == adapter.KindEvents {
				values[f.Name] = webhook.NewSecret()
			}
			made[f.Name] = values[f.Name]
		case f.Default != "" && values[f.Name] == "":
			values[f.Name] = f.Default
		}
	}
	c := connectionstore.Connection{ID: db.NewID(), Kind: kindName, Version: 1}
	if err := s.fill(&c, kind, name, values); err != nil {
		return c, nil, err
	}
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &c, "making the connection"); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "made the connection", "connection/"+c.ID,
			map[string]string{"name": c.Name, "kind": c.Kind}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", c.ID)
	})
	return c, made, nameTaken(err, name)
}

func nameTaken(err error, name string) error {
	if errors.Is(err, db.ErrTaken) {
		return refusal.Invalid("name", "another one is called %q already; choose another name", name)
	}
	return err
}

func trimmed(values map[string]string) map[string]string {
	out := make(map[string]string, len(values))
	for k, v := range values {
		out[k] = strings.TrimSpace(v)
	}
	return out
}

func kindNames() []string {
	var names []string
	for _, k := range adapter.Kinds {
		names = append(names, k.Name)
	}
	return names
}

// signing names the fields that hold signing secrets, by kind.
var signing = map[string][]string{
	adapter.KindWebhook: {"secret", "earlier"},
	adapter.KindEvents:  {"secret", "earlier"},
}

// fill checks the values and puts them into c, sealing the secret ones.
func (s *Service) fill(c *connectionstore.Connection, kind adapter.Kind, name string,
	values map[string]string,
) error {
	if name = strings.TrimSpace(name); name == "" {
		return refusal.Invalid("name", "is missing: choose the name by which people know the system")
	}
	if err := kind.Check(values); err != nil {
		return fieldRefusal(err)
	}
	for _, field := range signing[kind.Name] {
		if err := webhook.CheckSecret(values[field]); err != nil && (values[field] != "" || field == "secret") {
			return refusal.Invalid("values."+field, "%v", err)
		}
	}
	if kind.Name == adapter.KindEvents {
		if err := checkExpressions(values); err != nil {
			return err
		}
	}
	c.Name, c.Settings = name, map[string]string{}
	secrets := map[string]string{}
	for _, f := range kind.Fields {
		if v := values[f.Name]; v != "" && f.Secret {
			secrets[f.Name] = v
		} else if v != "" {
			c.Settings[f.Name] = v
		}
	}
	if len(secrets) == 0 {
		return nil
	}
	text, err := json.Marshal(secrets)
	if err == nil {
		c.Secret, err = s.Store.Seal(text, owner(c.ID))
	}
	return err
}

// checkExpressions refuses what cannot be asked of a reported event.
func checkExpressions(values map[string]string) error {
	x := rule.NewExpressions()
	for _, name := range rule.MappingNames {
		if err := x.CheckMapping(name, values[name]); err != nil {
			return refusal.Invalid("values."+name, "%v", err)
		}
	}
	return nil
}

// fieldRefusal names the first wrong field and tells about all.
func fieldRefusal(err error) error {
	var field *adapter.FieldError
	if errors.As(err, &field) {
		return refusal.Invalid("values."+field.Field, "%s",
			strings.TrimPrefix(strings.ReplaceAll(err.Error(), "\n", "; "), field.Field+": "))
	}
	return err
}

// Change is what is to be changed of a connection; what is nil or not among Values stays,
// secrets among them.
type Change struct {
	Name   *string
	Values map[string]string
	Paused *bool
	// Untested lets a new credential replace one that works though a test fails with it.
	Untested bool
}

// pause pauses a connection or lets it go on; nil leaves it as it is. It gives the pairings
// that run after reads: what was read while it was paused happens now.
func (s *Service) pause(ctx context.Context, c *connectionstore.Connection, paused *bool) (due []pairingstore.Pairing,
	err error,
) {
	if paused == nil {
		return nil, nil
	}
	if c.PausedAt != nil && !*paused {
		all, err := pairingstore.PairingsIn(ctx, s.Store, "", c.ID, nil)
		if err != nil {
			return nil, err
		}
		for _, p := range all {
			if p.PausedAt == nil && p.Policy.Schedule.Kind == schedule.AfterRead {
				due = append(due, p)
			}
		}
	}
	c.PausedAt = nil
	if *paused {
		now := s.Clock.Now()
		c.PausedAt = &now
	}
	return due, nil
}

// Update changes a connection. A new credential, or an address that it goes with, is tested
// before it replaces what works.
func (s *Service) Update(ctx context.Context, who, id string, version int, change Change) (connectionstore.Connection,
	error,
) {
	name, values := change.Name, change.Values
	c, err := connectionstore.FindConnection(ctx, s.Store, id)
	if err != nil {
		return c, err
	}
	if version != 0 && version != c.Version {
		return c, fmt.Errorf("changing the connection: %w", db.ErrStale)
	}
	opened, err := s.Unlock(c)
	if err != nil {
		return c, err
	}
	kind, _ := adapter.Lookup(c.Kind)
	merged := map[string]string{}
	for _, from := range []map[string]string{opened.Settings, opened.Secret, trimmed(values)} {
		maps.Copy(merged, from)
	}
	if err := entersAgain(kind, opened, trimmed(values)); err != nil {
		return c, err
	}
	newName := c.Name
	if name != nil {
		newName = *name
	}
	if err := s.fill(&c, kind, newName, merged); err != nil {
		return c, err
	}
	if !change.Untested {
		if err := s.stillWorks(ctx, c, opened, kind); err != nil {
			return c, err
		}
	}
	due, err := s.pause(ctx, &c, change.Paused)
	if err != nil {
		return c, err
	}
	changed := slices.Sorted(maps.Keys(values)) // names only: values may be secrets
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.UpdateConnection(tx, &c); err != nil {
			return err
		}
		if adapter.DatesOf(opened.Settings) != adapter.DatesOf(c.Settings) { // its dates mean something else now
			if err := mirror.ReadAnew(ctx, tx, c.ID); err != nil {
				return err
			}
		}
		if err := pairingstore.AskComparison(ctx, tx, who, true, due...); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "changed the connection", "connection/"+c.ID,
			map[string]any{"values": changed, "paused": c.PausedAt != nil}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", c.ID)
	})
	return c, nameTaken(err, newName)
}

// entersAgain refuses to send a stored secret to another host than the one for which it was
// entered. What only signs stays here.
func entersAgain(kind adapter.Kind, was adapter.Connection, values map[string]string) error {
	if kind.Name == adapter.KindWebhook {
		return nil
	}
	moved := ""
	for _, f := range kind.Fields {
		if v, given := values[f.Name]; given && (f.Address || f.Name == "server") &&
			hostOf(v) != hostOf(was.Settings[f.Name]) {
			moved = f.Title
		}
	}
	for _, f := range kind.Fields {
		if moved != "" && f.Secret && !f.Made && was.Secret[f.Name] != "" && values[f.Name] == "" {
			return refusal.Invalid("values."+f.Name,
				"enter it again: %q leads to another host now, and what was entered for the old one is not sent there", moved)
		}
	}
	return nil
}

// hostOf is the host and port of an address, or of a server without a scheme.
func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return strings.ToLower(address)
	}
	return strings.ToLower(u.Scheme + "://" + u.Host)
}

// Authenticate finds the connection under whose key and secret statements come.
func (s *Service) Authenticate(ctx context.Context, key, secret string) (adapter.Connection, bool, error) {
	return s.AuthenticateKind(ctx, adapter.KindXAPI, key, secret)
}

// AuthenticateKind finds the connection of a kind with this key and secret.
func (s *Service) AuthenticateKind(ctx context.Context, kind, key, secret string) (adapter.Connection, bool, error) {
	if key == "" {
		return adapter.Connection{}, false, nil
	}
	c, err := connectionstore.ConnectionByKey(ctx, s.Store, kind, key)
	if errors.Is(err, db.ErrNotFound) {
		return adapter.Connection{}, false, nil
	}
	if err != nil {
		return adapter.Connection{}, false, err
	}
	opened, err := s.Unlock(c)
	if err != nil {
		return opened, false, err
	}
	return opened, subtle.ConstantTimeCompare([]byte(opened.Secret["secret"]), []byte(secret)) == 1, nil
}
