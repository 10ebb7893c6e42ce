package connections

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
)

// Remove switches an interface off and hides it, with everything that hangs on it kept, so
// that it can be restored. While something depends on it that is refused, unless its name
// is given (confirmed) by somebody who has seen what that is.
func (s *Service) Remove(ctx context.Context, who, id, confirmed string) error {
	c, err := connectionstore.FindInterface(ctx, s.Store, id)
	if err != nil {
		return err
	}
	all, err := connectionstore.Dependents(ctx, s.Store, id)
	if err != nil {
		return err
	}
	if err := mayRemove(c.Name, "interface", confirmed, all); err != nil {
		return err
	}
	defer adapter.CloseIdle(id)
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.RemoveInterface(ctx, tx, id, who); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "removed the interface", "interface/"+id,
			map[string]any{"name": c.Name, "inUse": Describe(all)}); err != nil {
			return err
		}
		return tx.Announce(ctx, "interface", id)
	})
}

// Describe says what hangs on an interface in a few words.
func Describe(all []connectionstore.Dependent) string {
	var parts []string
	for _, kind := range []string{"pairing", "score link", "rule", "offer", "section", "person"} {
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

// Restore brings a removed interface back, as it was. When its label is another one's by now it
// needs a new one.
func (s *Service) Restore(ctx context.Context, who, id, label string) (connectionstore.Interface, error) {
	c, err := connectionstore.FindRemovedInterface(ctx, s.Store, id)
	if err != nil {
		return c, err
	}
	label = cmp.Or(strings.TrimSpace(label), c.Label)
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		of, err := connectionstore.LockConnection(ctx, tx, c.ConnectionID)
		if errors.Is(err, db.ErrNotFound) {
			return refusal.Conflict("", "the connection %s was removed as a whole; restore that", c.Connection.Name)
		}
		if err != nil {
			return err
		}
		others, err := connectionstore.InterfacesOf(ctx, tx, of.ID)
		if err != nil {
			return err
		}
		if err := checkLabel(label, id, others); err != nil {
			return err
		}
		name := connectionstore.FullName(of.Name, label)
		if err := connectionstore.RestoreInterface(ctx, tx, id, label, name); err != nil {
			return nameTaken(err, "label", name)
		}
		if err := tx.Audit(ctx, who, "restored the interface", "interface/"+id,
			map[string]string{"name": name}); err != nil {
			return err
		}
		return tx.Announce(ctx, "interface", id)
	})
	if err != nil {
		return c, err
	}
	return connectionstore.FindInterface(ctx, s.Store, id)
}
