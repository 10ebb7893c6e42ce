package connections

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
)

// Remove switches a connection off and hides it, with everything that hangs on it kept, so
// that it can be restored. While something depends on it that is refused, unless its name
// is given (confirmed) by somebody who has seen what that is.
func (s *Service) Remove(ctx context.Context, who, id, confirmed string) error {
	c, err := connectionstore.FindConnection(ctx, s.Store, id)
	if err != nil {
		return err
	}
	all, err := connectionstore.Dependents(ctx, s.Store, id)
	if err != nil {
		return err
	}
	if len(all) > 0 && confirmed != c.Name {
		if confirmed != "" {
			return refusal.Invalid("name",
				"%q is not the connection's name; to remove it with what depends on it, give %q", confirmed, c.Name)
		}
		return refusal.Conflict("",
			"%s is in use: %s. End or change that first, pause the connection instead, or give its name to remove it all the same", c.Name, Describe(all))
	}
	defer adapter.CloseIdle(id)
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.RemoveConnection(ctx, tx, id, who); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "removed the connection", "connection/"+id,
			map[string]any{"name": c.Name, "inUse": Describe(all)}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", id)
	})
}

// Describe says what hangs on a connection in a few words.
func Describe(all []connectionstore.Dependent) string {
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
func (s *Service) Restore(ctx context.Context, who, id, name string) (connectionstore.Connection, error) {
	c, err := connectionstore.FindRemovedConnection(ctx, s.Store, id)
	if err != nil {
		return c, err
	}
	name = cmp.Or(strings.TrimSpace(name), c.Name)
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.RestoreConnection(ctx, tx, id, name); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "restored the connection", "connection/"+id,
			map[string]string{"name": name}); err != nil {
			return err
		}
		return tx.Announce(ctx, "connection", id)
	})
	if err != nil {
		return c, nameTaken(err, name)
	}
	return connectionstore.FindConnection(ctx, s.Store, id)
}
