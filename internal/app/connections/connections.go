package connections

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
)

// NewConnection is an outside system that is to be connected, with its first interfaces.
type NewConnection struct {
	Name       string
	Details    Details
	Interfaces []NewInterface
}

// Details is what is known of an outside system besides its name; what is nil stays as it is.
type Details struct {
	Owner     *string // who minds it
	Address   *string // of its own pages
	Notes     *string
	AtOnce    *int // calls at a time through all its interfaces, 0 for no limit of its own
	PerMinute *int // the same in a minute
	RestAfter *int // failures in a row until it rests, 0 for the usual number
}

// EditConnection is what is to be changed of a connection; what is nil stays as it is.
type EditConnection struct {
	Name    *string
	Details Details
	Paused  *bool
}

// mostLetters bounds names, labels and owners; mostNotes bounds notes and addresses.
const (
	mostLetters = 200
	mostNotes   = 4000
)

// Connect makes a connection with its first interfaces, all or nothing. Made has one entry for each
// interface, in their order.
func (s *Service) Connect(ctx context.Context, who string, n NewConnection) (c connectionstore.Connection,
	interfaces []connectionstore.Interface, made []Made, err error,
) {
	c = connectionstore.Connection{ID: db.NewID(), Version: 1}
	if err := change(&c, EditConnection{Name: &n.Name, Details: n.Details}); err != nil {
		return c, nil, nil, err
	}
	all := make([]prepared, len(n.Interfaces))
	for i, x := range n.Interfaces {
		if all[i], err = s.prepare(fmt.Sprintf("interfaces[%d].", i), c.Address, x); err != nil {
			return c, nil, nil, err
		}
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &c, "making the connection"); err != nil {
			return nameTaken(err, "name", c.Name)
		}
		for i := range all {
			if err := keep(ctx, tx, who, c, &all[i].row); err != nil {
				return err
			}
		}
		if err := tx.Audit(ctx, who, "made the connection", "connection/"+c.ID,
			map[string]string{"name": c.Name}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", c.ID)
	})
	for _, p := range all {
		interfaces, made = append(interfaces, p.row), append(made, p.made)
	}
	return c, interfaces, made, err
}

// change puts new details into a connection and checks them.
func change(c *connectionstore.Connection, e EditConnection) error {
	for _, x := range []struct {
		field string
		given *string
		into  *string
		most  int
	}{
		{"name", e.Name, &c.Name, mostLetters},
		{"owner", e.Details.Owner, &c.Owner, mostLetters},
		{"address", e.Details.Address, &c.Address, mostNotes},
		{"notes", e.Details.Notes, &c.Notes, mostNotes},
	} {
		if x.given == nil {
			continue
		}
		if *x.into = strings.TrimSpace(*x.given); utf8.RuneCountInString(*x.into) > x.most {
			return refusal.Invalid(x.field, "is longer than %d letters", x.most)
		}
	}
	for _, x := range []struct {
		field string
		given *int
		into  *int
	}{
		{"atOnce", e.Details.AtOnce, &c.AtOnce},
		{"perMinute", e.Details.PerMinute, &c.PerMinute},
		{"restAfter", e.Details.RestAfter, &c.RestAfter},
	} {
		if x.given == nil {
			continue
		}
		if *x.into = *x.given; *x.into < 0 || *x.into > 1_000_000 {
			return refusal.Invalid(x.field, "must be a whole number from 0 to a million; 0 means no limit of its own")
		}
	}
	if c.Name == "" {
		return refusal.Invalid("name", "is missing: choose the name by which people know the system")
	}
	u, err := url.Parse(c.Address)
	switch {
	case c.Address == "":
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		return refusal.Invalid("address", "is not a full address; enter where people open the system, for example https://platform.school.example")
	case u.User != nil:
		return refusal.Invalid("address", "holds a user name; leave that away")
	}
	return nil
}

// EditConnection changes what holds for all interfaces of a connection. version must be the one
// that was read, 0 for any.
func (s *Service) EditConnection(ctx context.Context, who, id string, version int, e EditConnection,
) (connectionstore.Connection, error) {
	c, err := connectionstore.FindConnection(ctx, s.Store, id)
	if err != nil {
		return c, err
	}
	if version != 0 && version != c.Version {
		return c, fmt.Errorf("changing the connection: %w", db.ErrStale)
	}
	if err := change(&c, e); err != nil {
		return c, err
	}
	var due []pairingstore.Pairing
	if e.Paused != nil {
		if due, err = s.pauseConnection(ctx, &c, *e.Paused); err != nil {
			return c, err
		}
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.UpdateConnection(ctx, tx, &c); err != nil {
			return nameTaken(err, "name", c.Name)
		}
		if err := pairingstore.AskComparison(ctx, tx, who, true, due...); err != nil {
			return err
		}
		tx.Due = true // deliveries that waited for it
		if err := tx.Audit(ctx, who, "changed the connection", "connection/"+c.ID,
			map[string]any{"name": c.Name, "paused": c.PausedAt != nil}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", c.ID)
	})
	return c, err
}

// pauseConnection pauses all interfaces of a connection or lets them go on, and gives the pairings
// that are due then. Those that are paused by themselves stay so.
func (s *Service) pauseConnection(ctx context.Context, c *connectionstore.Connection, paused bool,
) (due []pairingstore.Pairing, err error) {
	if (c.PausedAt != nil) == paused {
		return nil, nil
	}
	if paused {
		now := s.Clock.Now()
		c.PausedAt = &now
		return nil, nil
	}
	c.PausedAt = nil
	all, err := connectionstore.InterfacesOf(ctx, s.Store, c.ID)
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		if x.PausedAt != nil {
			continue
		}
		more, err := s.afterRead(ctx, x.ID)
		if err != nil {
			return nil, err
		}
		due = append(due, more...)
	}
	return due, nil
}

// ConnectionDependents lists what hangs on all interfaces of a connection, once each.
func (s *Service) ConnectionDependents(ctx context.Context, id string) (out []connectionstore.Dependent, err error) {
	all, err := connectionstore.InterfacesOf(ctx, s.Store, id)
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		more, err := connectionstore.Dependents(ctx, s.Store, x.ID)
		if err != nil {
			return nil, err
		}
		for _, d := range more {
			i := slices.IndexFunc(out, func(o connectionstore.Dependent) bool {
				return o.Kind == d.Kind && o.Name == d.Name
			})
			switch {
			case i < 0:
				out = append(out, d)
			case d.Name == "": // counted: sections and people of two registers
				out[i].N += d.N
			}
		}
	}
	return out, nil
}

// RemoveConnection switches a connection with all its interfaces off and hides it, so that it can be
// restored. While something depends on it that is refused, unless its name is given (confirmed).
func (s *Service) RemoveConnection(ctx context.Context, who, id, confirmed string) error {
	c, err := connectionstore.FindConnection(ctx, s.Store, id)
	if err != nil {
		return err
	}
	used, err := s.ConnectionDependents(ctx, id)
	if err != nil {
		return err
	}
	if err := mayRemove(c.Name, "connection", confirmed, used); err != nil {
		return err
	}
	var removed []connectionstore.Interface
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if _, err := connectionstore.LockConnection(ctx, tx, id); err != nil {
			return err
		}
		if removed, err = connectionstore.InterfacesOf(ctx, tx, id); err != nil {
			return err
		}
		if err := connectionstore.RemoveConnection(ctx, tx, id, who); err != nil {
			return err
		}
		for _, x := range removed {
			if err := connectionstore.RemoveInterface(ctx, tx, x.ID, who); err != nil {
				return err
			}
			if err := tx.Announce(ctx, "interface", x.ID); err != nil {
				return err
			}
		}
		if err := tx.Audit(ctx, who, "removed the connection", "connection/"+id,
			map[string]any{"name": c.Name, "inUse": Describe(used)}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", id)
	})
	if err == nil {
		for _, x := range removed {
			adapter.CloseIdle(x.ID)
		}
	}
	return err
}

// RestoreConnection brings a removed connection back, with the interfaces that were removed together
// with it. When its name is somebody else's by now it needs another one.
func (s *Service) RestoreConnection(ctx context.Context, who, id, name string) (connectionstore.Connection, error) {
	c, err := connectionstore.FindRemovedConnection(ctx, s.Store, id)
	if err != nil {
		return c, err
	}
	e := EditConnection{Name: &c.Name}
	if strings.TrimSpace(name) != "" {
		e.Name = &name
	}
	if err := change(&c, e); err != nil {
		return c, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		interfaces, err := connectionstore.RestoreConnection(ctx, tx, id, c.Name)
		if err != nil {
			return nameTaken(err, "name", c.Name)
		}
		for _, x := range interfaces {
			if err := tx.Announce(ctx, "interface", x); err != nil {
				return err
			}
		}
		if err := tx.Audit(ctx, who, "restored the connection", "connection/"+id,
			map[string]string{"name": c.Name}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", id)
	})
	if err != nil {
		return c, err
	}
	return connectionstore.FindConnection(ctx, s.Store, id)
}

// mayRemove refuses to remove what something depends on, unless its name is given.
func mayRemove(name, what, confirmed string, used []connectionstore.Dependent) error {
	switch {
	case len(used) == 0 || confirmed == name:
		return nil
	case confirmed != "":
		return refusal.Invalid("name",
			"%q is not the %s's name; to remove it with what depends on it, give %q", confirmed, what, name)
	}
	return refusal.Conflict("",
		"%s is in use: %s. End or change that first, pause the %s instead, or give its name to remove it all the same",
		name, Describe(used), what)
}
