// Package connecting configures outside systems and finds out what works.
package connecting

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/adapter/hooks"
	"kanban/internal/adapter/mails"
	"kanban/internal/adapter/registers"
	"kanban/internal/adapter/services"
	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/core/schedule"
	"kanban/internal/store"
	"kanban/internal/wire/call"
	"kanban/internal/wire/webhook"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *store.Store
	// Source is the public address of this installation, named in probe events.
	Source string
	// Call bounds outside calls.
	Call call.Options
}

func owner(id string) string { return "connection/" + id }

// Open gives a connection with its secrets.
func (s *Service) Open(ctx context.Context, id string) (adapter.Connection, error) {
	c, err := s.Store.Connection(ctx, id)
	if err != nil {
		return adapter.Connection{}, err
	}
	return s.Unlock(c)
}

// Unlock gives a connection that has been read with its secrets.
func (s *Service) Unlock(c store.Connection) (adapter.Connection, error) {
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
func (s *Service) Create(ctx context.Context, who, kindName, name string, values map[string]string) (store.Connection, Made, error) {
	kind, ok := adapter.Lookup(kindName)
	if !ok {
		return store.Connection{}, nil, refusal.Invalid("kind", "%q is not a kind of connection; use one of %s", kindName, strings.Join(kindNames(), ", "))
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
	c := store.Connection{ID: store.NewID(), Kind: kindName, Version: 1}
	if err := s.fill(&c, kind, name, values); err != nil {
		return c, nil, err
	}
	err := s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := store.Create(tx, &c, "making the connection"); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "made the connection", "connection/"+c.ID, map[string]string{"name": c.Name, "kind": c.Kind}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", c.ID)
	})
	return c, made, nameTaken(err, name)
}

func nameTaken(err error, name string) error {
	if errors.Is(err, store.ErrTaken) {
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
var signing = map[string][]string{adapter.KindWebhook: {"secret"}, adapter.KindEvents: {"secret", "earlier"}}

// fill checks the values and puts them into c, sealing the secret ones.
func (s *Service) fill(c *store.Connection, kind adapter.Kind, name string, values map[string]string) error {
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
		return refusal.Invalid("values."+field.Field, "%s", strings.TrimPrefix(strings.ReplaceAll(err.Error(), "\n", "; "), field.Field+": "))
	}
	return err
}

// Update changes name and values; values not given stay, secrets among them.
func (s *Service) Update(ctx context.Context, who, id string, version int, name *string, values map[string]string, paused *bool) (store.Connection, error) {
	c, err := s.Store.Connection(ctx, id)
	if err != nil {
		return c, err
	}
	if version != 0 && version != c.Version {
		return c, fmt.Errorf("changing the connection: %w", store.ErrStale)
	}
	opened, err := s.Unlock(c)
	if err != nil {
		return c, err
	}
	kind, _ := adapter.Lookup(c.Kind)
	merged := map[string]string{}
	for _, from := range []map[string]string{opened.Settings, opened.Secret, trimmed(values)} {
		for k, v := range from {
			merged[k] = v
		}
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
	var due []store.Pairing // that run after reads: what was read while it was paused happens now
	if paused != nil {
		if c.PausedAt != nil && !*paused {
			all, err := s.Store.PairingsIn(ctx, "", c.ID, nil)
			if err != nil {
				return c, err
			}
			for _, p := range all {
				if p.PausedAt == nil && p.Policy.Schedule.Kind == schedule.AfterRead {
					due = append(due, p)
				}
			}
		}
		c.PausedAt = nil
		if *paused {
			now := time.Now().UTC()
			c.PausedAt = &now
		}
	}
	changed := make([]string, 0, len(values))
	for k := range values {
		changed = append(changed, k) // names only: values may be secrets
	}
	slices.Sort(changed)
	err = s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.UpdateConnection(&c); err != nil {
			return err
		}
		if adapter.DatesOf(opened.Settings) != adapter.DatesOf(c.Settings) { // its dates mean something else now
			if err := tx.ReadAnew(ctx, c.ID); err != nil {
				return err
			}
		}
		if err := tx.Ask(ctx, who, true, due...); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "changed the connection", "connection/"+c.ID, map[string]any{"values": changed, "paused": c.PausedAt != nil}); err != nil {
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
		if v, given := values[f.Name]; given && (f.Address || f.Name == "server") && hostOf(v) != hostOf(was.Settings[f.Name]) {
			moved = f.Title
		}
	}
	for _, f := range kind.Fields {
		if moved != "" && f.Secret && !f.Made && was.Secret[f.Name] != "" && values[f.Name] == "" {
			return refusal.Invalid("values."+f.Name, "enter it again: %q leads to another host now, and what was entered for the old one is not sent there", moved)
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

// Remove switches a connection off and hides it, with everything that hangs on it kept, so
// that it can be restored. While something depends on it that is refused, unless its name
// is given (confirmed) by somebody who has seen what that is.
func (s *Service) Remove(ctx context.Context, who, id, confirmed string) error {
	c, err := s.Store.Connection(ctx, id)
	if err != nil {
		return err
	}
	all, err := s.Store.Dependents(ctx, id)
	if err != nil {
		return err
	}
	if len(all) > 0 && confirmed != c.Name {
		if confirmed != "" {
			return refusal.Invalid("name", "%q is not the connection's name; to remove it with what depends on it, give %q", confirmed, c.Name)
		}
		return refusal.Conflict("", "%s is in use: %s. End or change that first, pause the connection instead, or give its name to remove it all the same", c.Name, Describe(all))
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.RemoveConnection(ctx, id, who); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "removed the connection", "connection/"+id, map[string]any{"name": c.Name, "inUse": Describe(all)}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", id)
	})
}

// Describe says what hangs on a connection in a few words.
func Describe(all []store.Dependent) string {
	var parts []string
	for _, kind := range []string{"pairing", "rule", "offer", "section", "person"} {
		n, first := 0, ""
		for _, d := range all {
			if d.Kind == kind {
				n += d.N
				first = cmp.Or(first, d.Name)
			}
		}
		word := kind + "s"
		if kind == "person" {
			word = "people"
		}
		switch {
		case n == 1 && first != "":
			parts = append(parts, fmt.Sprintf("the %s %s", kind, first))
		case n == 1:
			parts = append(parts, "1 "+kind)
		case n > 1 && first != "":
			parts = append(parts, fmt.Sprintf("%d %s (%s, …)", n, word, first))
		case n > 1:
			parts = append(parts, fmt.Sprintf("%d %s", n, word))
		}
	}
	return cmp.Or(strings.Join(parts, ", "), "nothing")
}

// Restore brings a removed connection back, as it was. When its name is somebody else's by
// now it needs another one.
func (s *Service) Restore(ctx context.Context, who, id, name string) (store.Connection, error) {
	c, err := s.Store.RemovedConnection(ctx, id)
	if err != nil {
		return c, err
	}
	name = cmp.Or(strings.TrimSpace(name), c.Name)
	err = s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.RestoreConnection(ctx, id, name); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "restored the connection", "connection/"+id, map[string]string{"name": name}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", id)
	})
	if err != nil {
		return c, nameTaken(err, name)
	}
	return s.Store.Connection(ctx, id)
}

// Probe asks the outside system about every capability and keeps the answer.
func (s *Service) Probe(ctx context.Context, id string) ([]adapter.Report, error) {
	c, err := s.Open(ctx, id)
	if err != nil {
		return nil, err
	}
	// One patient look: a probe that retries for long helps nobody.
	o := s.Call
	o.Retries = 1
	var reports []adapter.Report
	switch c.Kind {
	case adapter.KindOneRoster:
		reports = registers.New(c, o).Probe(ctx)
	case adapter.KindSCIM:
		reports = workspaces.New(c, o).Probe(ctx)
	case adapter.KindHTTP:
		reports = services.New(c, o).Probe(ctx)
	case adapter.KindPickup:
		reports = []adapter.Report{{Capability: adapter.PeopleOut, State: adapter.Works, Detail: "Enrolments are kept for the platform to fetch."}}
	case adapter.KindWebhook:
		reports = hooks.New(c, o).Probe(ctx, s.Source, time.Now())
	case adapter.KindSMTP:
		reports = mails.New(c, 10*time.Second).Probe(ctx)
	case adapter.KindCSV:
		reports = []adapter.Report{folderReport(c.Settings["folder"])}
	case adapter.KindXAPI, adapter.KindEvents:
		if reports, err = s.Heard(ctx, c.ID, c.Kind); err != nil {
			return nil, err
		}
	}
	return reports, s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.KeepProbe(ctx, id, reports, time.Now().UTC()); err != nil {
			return err
		}
		if !slices.ContainsFunc(reports, func(r adapter.Report) bool { return r.State != adapter.Works }) { // it answers again
			if _, err := tx.Worked(ctx, id, ""); err != nil {
				return err
			}
		}
		return tx.Announce(ctx, "connection", id)
	})
}

// folderReport tells whether the folder of a register of files can be read.
func folderReport(folder string) adapter.Report {
	if folder == "" {
		return adapter.Report{Capability: adapter.PeopleIn, State: adapter.Works, Detail: "Packages are uploaded by hand."}
	}
	_, err := os.ReadDir(folder)
	if err != nil {
		return adapter.Report{Capability: adapter.PeopleIn, State: adapter.Broken, Code: finding.Broken, Detail: err.Error()}
	}
	return adapter.Report{Capability: adapter.PeopleIn, State: adapter.Works, Detail: "The folder can be read."}
}

// Heard reports on a course platform, or on a service that reports events, which
// cannot be asked: it works when something has come from it.
func (s *Service) Heard(ctx context.Context, id, kind string) ([]adapter.Report, error) {
	if kind == adapter.KindEvents {
		came, err := s.Store.EventsFrom(ctx, id)
		r := adapter.Report{Capability: adapter.EventsIn, State: adapter.Unproven, Detail: "No event has come yet. Enter the address and the secret at the service."}
		if came {
			r.State, r.Detail = adapter.Works, "Events have come."
		}
		return []adapter.Report{r}, err
	}
	came, err := s.Store.StatementsFrom(ctx, id)
	r := adapter.Report{Capability: adapter.LearningEventsIn, State: adapter.Unproven, Detail: "No statement has come yet. Enter the endpoint, the key and the secret at the platform."}
	if came > 0 {
		r.State, r.Detail = adapter.Works, fmt.Sprintf("%d statements have come.", came)
	}
	return []adapter.Report{r}, err
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
	c, err := s.Store.ConnectionByKey(ctx, kind, key)
	if errors.Is(err, store.ErrNotFound) {
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
