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
	"unicode/utf8"

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

// owner is what an interface's secrets are sealed for. It keeps the word that stood there when the
// first of them were sealed.
func owner(id string) string { return "connection/" + id }

// Open gives an interface with its secrets.
func (s *Service) Open(ctx context.Context, id string) (adapter.Interface, error) {
	c, err := connectionstore.FindInterface(ctx, s.Store, id)
	if err != nil {
		return adapter.Interface{}, err
	}
	return s.Opened(ctx, c)
}

// Opened gives an interface that has been read with its secrets, as it calls its service: one that is let
// in by signing in with the token that was granted.
func (s *Service) Opened(ctx context.Context, c connectionstore.Interface) (adapter.Interface, error) {
	out, err := s.Unlock(c)
	if err != nil || !adapter.SignsIn(c.Settings) {
		return out, err
	}
	plain := out
	out.Bearer = func(ctx context.Context, refused string) (string, error) {
		return s.grantedToken(ctx, plain, refused)
	}
	_, err = out.Bearer(ctx, "") // whoever opens it learns at once that nobody has signed in
	return out, err
}

// Unlock gives an interface that has been read with its secrets.
func (s *Service) Unlock(c connectionstore.Interface) (adapter.Interface, error) {
	out := adapter.Interface{
		ID: c.ID, Name: c.Name, Kind: c.Kind, Settings: c.Settings, Secret: map[string]string{},
		System: adapter.System{
			ID: c.ConnectionID, AtOnce: c.Connection.AtOnce, PerMinute: c.Connection.PerMinute,
		},
	}
	text, err := s.Store.Unseal(c.Secret, owner(c.ID))
	if err != nil || len(text) == 0 {
		return out, err
	}
	return out, json.Unmarshal(text, &out.Secret)
}

// Made are the values that Kanban made for the other side; shown once.
type Made map[string]string

// NewInterface is an interface that is to be made.
type NewInterface struct {
	Kind   string
	Label  string // what tells it from the others; chosen when empty and there are others
	Values map[string]string
	// Held makes it without the credentials that the other side gives, and paused until a person has
	// entered them and lets it go on.
	Held bool
}

// prepared is an interface that is to be made, checked, with the values that were made for the
// other side.
type prepared struct {
	row  connectionstore.Interface
	made Made
}

// prepare checks an interface that is to be made. at names the place of its values in what was
// asked for, such as "interfaces[0]."; address is that of the connection.
func (s *Service) prepare(at, address string, n NewInterface) (prepared, error) {
	kind, ok := adapter.Lookup(n.Kind)
	if !ok {
		return prepared{}, refusal.Invalid(at+"kind",
			"%q is not a kind of interface; use one of %s", n.Kind, strings.Join(kindNames(), ", "))
	}
	values := under(address, kind, trimmed(n.Values))
	out := prepared{made: Made{}}
	for _, f := range kind.Fields {
		switch {
		case f.Made && values[f.Name] == "":
			if values[f.Name] = rand.Text(); n.Kind == adapter.KindEvents {
				values[f.Name] = webhook.NewSecret()
			}
			out.made[f.Name] = values[f.Name]
		case f.Default != "" && values[f.Name] == "":
			values[f.Name] = f.Default
		}
	}
	out.row = connectionstore.Interface{ID: db.NewID(), Kind: n.Kind, Label: strings.TrimSpace(n.Label), Version: 1}
	if n.Held {
		now := s.Clock.Now()
		out.row.PausedAt = &now
		missing, _ := kind.Missing(values)
		kind = kind.Lacking(missing...)
	}
	return out, s.fill(&out.row, kind, at, values)
}

// Add makes an interface of a connection, out of values by field name.
func (s *Service) Add(ctx context.Context, who, connectionID string, n NewInterface) (connectionstore.Interface, Made,
	error,
) {
	of, err := connectionstore.FindConnection(ctx, s.Store, connectionID)
	if err != nil {
		return connectionstore.Interface{}, nil, err
	}
	p, err := s.prepare("", of.Address, n)
	if err != nil {
		return p.row, nil, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		c, err := connectionstore.LockConnection(ctx, tx, connectionID)
		if err != nil {
			return err
		}
		return keep(ctx, tx, who, c, &p.row)
	})
	return p.row, p.made, err
}

// under puts the connection's scheme and host before addresses that are given as a path only, so
// that they are entered once.
func under(address string, kind adapter.Kind, values map[string]string) map[string]string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return values
	}
	for _, f := range kind.Fields {
		if v := values[f.Name]; f.Address && strings.HasPrefix(v, "/") && !strings.HasPrefix(v, "//") {
			values[f.Name] = u.Scheme + "://" + u.Host + v
		}
	}
	return values
}

// keep stores an interface of a connection that nobody else changes meanwhile. One without a label
// gets one when there are others.
func keep(ctx context.Context, tx *db.Tx, who string, of connectionstore.Connection, c *connectionstore.Interface,
) error {
	others, err := connectionstore.InterfacesOf(ctx, tx, of.ID)
	if err != nil {
		return err
	}
	if c.Label == "" && len(others) > 0 {
		c.Label = freeLabel(c.Kind, others)
	}
	if err := checkLabel(c.Label, c.ID, others); err != nil {
		return err
	}
	c.ConnectionID, c.Connection, c.Name = of.ID, of, connectionstore.FullName(of.Name, c.Label)
	if err := connectionstore.CreateInterface(tx, c); err != nil {
		return nameTaken(err, "label", c.Name)
	}
	if err := tx.Audit(ctx, who, "made the interface", "interface/"+c.ID,
		map[string]string{"name": c.Name, "kind": c.Kind}); err != nil {
		return err
	}
	return tx.Announce(ctx, "interface", c.ID)
}

// freeLabel is a label for one more interface of a kind: what the kind is for, with a number when
// that is another one's.
func freeLabel(kind string, others []connectionstore.Interface) string {
	k, _ := adapter.Lookup(kind)
	for n := 1; ; n++ {
		label := k.Short
		if n > 1 {
			label = fmt.Sprintf("%s %d", k.Short, n)
		}
		if checkLabel(label, "", others) == nil {
			return label
		}
	}
}

// checkLabel refuses a label that is another one's.
func checkLabel(label, id string, others []connectionstore.Interface) error {
	for _, o := range others {
		if o.ID != id && strings.EqualFold(o.Label, label) {
			if label == "" {
				return refusal.Invalid("label",
					"is missing: the connection has another interface without one; say what this one is for")
			}
			return refusal.Invalid("label", "another interface of this connection is called %q; choose another label", label)
		}
	}
	return nil
}

// nameTaken says so when a name is somebody else's; field is where it was given.
func nameTaken(err error, field, name string) error {
	if errors.Is(err, db.ErrTaken) {
		return refusal.Invalid(field, "another one is called %q already; choose another name", name)
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

// fill checks the values and puts them into c, sealing the secret ones. at names the place of the
// values in what was asked for.
func (s *Service) fill(c *connectionstore.Interface, kind adapter.Kind, at string, values map[string]string) error {
	if err := kind.Check(values); err != nil {
		return fieldRefusal(at, err)
	}
	for _, f := range kind.Fields {
		if !slices.Contains(signing[kind.Name], f.Name) || values[f.Name] == "" && !f.Required && !f.Made {
			continue
		}
		if err := webhook.CheckSecret(values[f.Name]); err != nil {
			return refusal.Invalid(at+"values."+f.Name, "%v", err)
		}
	}
	if kind.Name == adapter.KindEvents {
		if err := checkExpressions(at, values); err != nil {
			return err
		}
	}
	c.Settings = map[string]string{}
	secrets := map[string]string{}
	for _, f := range kind.Fields {
		if v := values[f.Name]; v != "" && f.Secret {
			secrets[f.Name] = v
		} else if v != "" {
			c.Settings[f.Name] = v
		}
	}
	if c.Secret = nil; len(secrets) == 0 {
		return nil
	}
	text, err := json.Marshal(secrets)
	if err == nil {
		c.Secret, err = s.Store.Seal(text, owner(c.ID))
	}
	return err
}

// checkExpressions refuses what cannot be asked of a reported event.
func checkExpressions(at string, values map[string]string) error {
	x := rule.NewExpressions()
	for _, name := range rule.MappingNames {
		if err := x.CheckMapping(name, values[name]); err != nil {
			return refusal.Invalid(at+"values."+name, "%v", err)
		}
	}
	return nil
}

// fieldRefusal names the first wrong field and tells about all.
func fieldRefusal(at string, err error) error {
	var field *adapter.FieldError
	if errors.As(err, &field) {
		return refusal.Invalid(at+"values."+field.Field, "%s",
			strings.TrimPrefix(strings.ReplaceAll(err.Error(), "\n", "; "), field.Field+": "))
	}
	return err
}

// Change is what is to be changed of an interface; what is nil or not among Values stays,
// secrets among them.
type Change struct {
	Label  *string
	Values map[string]string
	Paused *bool
	// Untested lets a new credential replace one that works though a test fails with it.
	Untested bool
	// Held is for what nobody has looked at where it comes in: nothing is tested, and an interface that
	// leads to another host than before is paused and loses what was entered for the old one.
	Held bool
}

// pause pauses an interface or lets it go on; nil leaves it as it is. It gives the pairings
// that run after reads: what was read while it was paused happens now.
func (s *Service) pause(ctx context.Context, c *connectionstore.Interface, paused *bool) (due []pairingstore.Pairing,
	err error,
) {
	if paused == nil {
		return nil, nil
	}
	if c.PausedAt != nil && !*paused {
		if due, err = s.afterRead(ctx, c.ID); err != nil {
			return nil, err
		}
	}
	c.PausedAt = nil
	if *paused {
		now := s.Clock.Now()
		c.PausedAt = &now
	}
	return due, nil
}

// afterRead lists the pairings with an interface that run after reads.
func (s *Service) afterRead(ctx context.Context, interfaceID string) (due []pairingstore.Pairing, err error) {
	all, err := pairingstore.PairingsIn(ctx, s.Store, "", interfaceID, nil)
	for _, p := range all {
		if p.PausedAt == nil && p.Policy.Schedule.Kind == schedule.AfterRead {
			due = append(due, p)
		}
	}
	return due, err
}

// Update changes an interface. A new credential, or an address that it goes with, is tested
// before it replaces what works.
func (s *Service) Update(ctx context.Context, who, id string, version int, change Change) (connectionstore.Interface,
	error,
) {
	c, err := connectionstore.FindInterface(ctx, s.Store, id)
	if err != nil {
		return c, err
	}
	if version != 0 && version != c.Version {
		return c, fmt.Errorf("changing the interface: %w", db.ErrStale)
	}
	opened, err := s.Unlock(c)
	if err != nil {
		return c, err
	}
	kind, _ := adapter.Lookup(c.Kind)
	values := under(c.Connection.Address, kind, trimmed(change.Values))
	if err := s.revalue(ctx, &c, kind, opened, values, &change); err != nil {
		return c, err
	}
	due, err := s.pause(ctx, &c, change.Paused)
	if err != nil {
		return c, err
	}
	changed := slices.Sorted(maps.Keys(values)) // names only: values may be secrets
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := relabel(ctx, tx, &c, change.Label); err != nil {
			return err
		}
		if err := connectionstore.UpdateInterface(tx, &c); err != nil {
			return nameTaken(err, "label", c.Name)
		}
		if movedField(kind, opened, values, "") != "" { // what was granted is not sent to another host
			if err := dropGrants(ctx, tx, c.ID); err != nil {
				return err
			}
		}
		if adapter.DatesOf(opened.Settings) != adapter.DatesOf(c.Settings) { // its dates mean something else now
			if err := mirror.ReadAnew(ctx, tx, c.ID); err != nil {
				return err
			}
		}
		if err := pairingstore.AskComparison(ctx, tx, who, true, due...); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "changed the interface", "interface/"+c.ID,
			map[string]any{"values": changed, "paused": c.PausedAt != nil}); err != nil {
			return err
		}
		return tx.Announce(ctx, "interface", c.ID)
	})
	return c, err
}

// revalue gives an interface other values; opened is as it was.
func (s *Service) revalue(ctx context.Context, c *connectionstore.Interface, kind adapter.Kind,
	opened adapter.Interface, values map[string]string, change *Change,
) error {
	if change.Held && movedField(kind, opened, values, "") != "" {
		yes := true
		change.Paused, c.Probe, c.ProbedAt = &yes, nil, nil // what was found was found elsewhere
		drop(kind, &opened)
	}
	merged, err := merge(kind, opened, values)
	if err != nil {
		return err
	}
	if kind, err = s.mayLack(*c, kind, opened, merged, change.Paused); err != nil {
		return err
	}
	if err := s.fill(c, kind, "", merged); err != nil {
		return err
	}
	if change.Untested || change.Held || adapter.SignsIn(c.Settings) { // signing in is tested by itself
		return nil
	}
	return s.stillWorks(ctx, *c, opened, kind)
}

// drop takes the secrets away that would go to another host. What only signs stays here.
func drop(kind adapter.Kind, was *adapter.Interface) {
	if signs(kind) {
		return
	}
	was.Secret = maps.Clone(was.Secret)
	for _, f := range kind.Fields {
		if f.Secret && !f.Made {
			delete(was.Secret, f.Name)
		}
	}
}

// signs reports whether a kind's secrets never leave, since they only sign what does.
func signs(kind adapter.Kind) bool { return kind.Name == adapter.KindWebhook }

// mayLack gives the kind of an interface as it is to be checked: while it is paused it may go on
// lacking the credentials that nobody has entered yet, and it goes on only with them.
func (s *Service) mayLack(c connectionstore.Interface, kind adapter.Kind, was adapter.Interface,
	merged map[string]string, pause *bool,
) (adapter.Kind, error) {
	paused := c.PausedAt != nil
	if pause != nil {
		paused = *pause
	}
	before := maps.Clone(was.Settings)
	maps.Copy(before, was.Secret)
	lacked, _ := kind.Missing(before)
	_, titles := kind.Missing(merged)
	switch {
	case len(lacked) == 0:
	case paused:
		return kind.Lacking(lacked...), nil
	case len(titles) > 0:
		return kind, refusal.Conflict("", "%s has no credential yet; enter first: %s", c.Name, strings.Join(titles, ", "))
	}
	return kind, nil
}

// merge puts changed values over those that an interface has.
func merge(kind adapter.Kind, was adapter.Interface, values map[string]string) (map[string]string, error) {
	merged := map[string]string{}
	for _, from := range []map[string]string{was.Settings, was.Secret, values} {
		maps.Copy(merged, from)
	}
	keepEarlier(kind, was, values, merged)
	return merged, entersAgain(kind, was, values)
}

// relabel gives an interface another label, nil for the one that it has, and names it anew.
func relabel(ctx context.Context, tx *db.Tx, c *connectionstore.Interface, label *string) error {
	of, err := connectionstore.LockConnection(ctx, tx, c.ConnectionID)
	if err != nil {
		return err
	}
	if label != nil {
		others, err := connectionstore.InterfacesOf(ctx, tx, of.ID)
		if err != nil {
			return err
		}
		if c.Label = strings.TrimSpace(*label); utf8.RuneCountInString(c.Label) > mostLetters {
			return refusal.Invalid("label", "is longer than %d letters; choose a shorter one", mostLetters)
		}
		if err := checkLabel(c.Label, c.ID, others); err != nil {
			return err
		}
	}
	c.Connection, c.Name = of, connectionstore.FullName(of.Name, c.Label)
	return nil
}

// keepEarlier keeps the signing secret that is replaced as the earlier one, so that whatever is signed with
// it meanwhile is taken still; unless the earlier one is given, or taken away, in the same change.
func keepEarlier(kind adapter.Kind, was adapter.Interface, values, merged map[string]string) {
	_, given := values["earlier"]
	if before := was.Secret["secret"]; signing[kind.Name] != nil && !given && before != "" &&
		values["secret"] != "" && values["secret"] != before {
		merged["earlier"] = before
	}
}

// entersAgain refuses to send a stored secret to another host than the one for which it was
// entered.
func entersAgain(kind adapter.Kind, was adapter.Interface, values map[string]string) error {
	if signs(kind) {
		return nil
	}
	for _, f := range kind.Fields {
		if f.Secret && !f.Made && was.Secret[f.Name] != "" && values[f.Name] == "" {
			if moved := movedField(kind, was, values, f.Name); moved != "" {
				return refusal.Invalid("values."+f.Name,
					"enter it again: %q leads to another host now, and what was entered for the old one is not sent there", moved)
			}
		}
	}
	return nil
}

// movedField is the title of the field that leads a secret to another host than before, empty when none
// does; with secret empty, any of them.
func movedField(kind adapter.Kind, was adapter.Interface, values map[string]string, secret string) (title string) {
	for _, f := range kind.Fields {
		v, given := values[f.Name]
		if !given || !f.Address && f.Name != "server" || hostOf(v) == hostOf(was.Settings[f.Name]) {
			continue
		}
		if f.SignIn && (!adapter.SignsInSomewhere(was.Settings) || secret != "" && !kind.Field(secret).SignIn) {
			continue // nobody could sign in before, or the secret does not go there
		}
		title = f.Title
	}
	return title
}

// hostOf is the host and port of an address, or of a server without a scheme.
func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return strings.ToLower(address)
	}
	return strings.ToLower(u.Scheme + "://" + u.Host)
}

// Authenticate finds the interface under whose key and secret statements come.
func (s *Service) Authenticate(ctx context.Context, key, secret string) (adapter.Interface, bool, error) {
	return s.AuthenticateKind(ctx, adapter.KindXAPI, key, secret)
}

// AuthenticateKind finds the interface of a kind with this key and secret.
func (s *Service) AuthenticateKind(ctx context.Context, kind, key, secret string) (adapter.Interface, bool, error) {
	if key == "" {
		return adapter.Interface{}, false, nil
	}
	c, err := connectionstore.InterfaceByKey(ctx, s.Store, kind, key)
	if errors.Is(err, db.ErrNotFound) {
		return adapter.Interface{}, false, nil
	}
	if err != nil {
		return adapter.Interface{}, false, err
	}
	opened, err := s.Unlock(c)
	if err != nil {
		return opened, false, err
	}
	return opened, secret != "" &&
		subtle.ConstantTimeCompare([]byte(opened.Secret["secret"]), []byte(secret)) == 1, nil
}
