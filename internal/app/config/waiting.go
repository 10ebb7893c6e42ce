package config

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"kanban/internal/store/db"
	"kanban/internal/store/settingstore"
	"kanban/internal/wire/config"
)

// waitingSetting is the setting under which what waits for a register is kept.
const waitingSetting = "config-waiting"

// Waiting is something that came in from files and names what no register has yet.
type Waiting struct {
	Kind config.Kind     `json:"kind"`
	Name string          `json:"name"`
	Body json.RawMessage `json:"body"`
	For  string          `json:"for"` // what is not there, or what else is wrong with it by now
	Who  string          `json:"who"` // took it in
	At   time.Time       `json:"at"`
}

func keyOf(kind config.Kind, name string) key { return key{kind, strings.ToLower(name)} }

func compareKeys(a, b key) int {
	return cmp.Or(cmp.Compare(slices.Index(config.Kinds, a.kind), slices.Index(config.Kinds, b.kind)),
		cmp.Compare(a.name, b.name))
}

// Waiting lists what waits for a register.
func (s *Service) Waiting(ctx context.Context) ([]Waiting, error) { return waiting(ctx, s.Store) }

func waiting(ctx context.Context, from db.From) (all []Waiting, err error) {
	_, err = settingstore.FindSetting(ctx, from, waitingSetting, &all)
	return all, err
}

// exportWaiting adds what waits, unless something of its name is there by now.
func (w *work) exportWaiting(ctx context.Context, out *config.Setup) error {
	all, err := waiting(ctx, w.store)
	if err != nil {
		return err
	}
	there := map[key]bool{}
	for _, p := range config.ItemsOf(*out) {
		there[keyOf(p.Kind, p.Name)] = true
	}
	for _, x := range all {
		if there[keyOf(x.Kind, x.Name)] {
			continue
		}
		if err := config.Whole(out, x.Kind, x.Body); err != nil {
			return err
		}
	}
	out.Sort()
	return nil
}

// keepWaiting keeps what of a set-up has to wait, in place of what waited under the same names.
func keepWaiting(ctx context.Context, tx *db.Tx, over *db.Database, done []taken, who string) error {
	before, err := waiting(ctx, over)
	if err != nil {
		return err
	}
	gone := map[key]bool{}
	for _, t := range done {
		gone[t.key()], gone[keyOf(t.item.Kind, t.item.Name)] = true, true
	}
	kept := slices.DeleteFunc(slices.Clone(before), func(x Waiting) bool { return gone[keyOf(x.Kind, x.Name)] })
	for _, t := range done {
		if t.waits != "" {
			kept = append(kept, Waiting{
				Kind: t.item.Kind, Name: t.item.Name, Body: t.item.Body, For: t.waits, Who: who, At: time.Now().UTC(),
			})
		}
	}
	if len(kept) == 0 && len(before) == 0 {
		return nil
	}
	return settingstore.SaveSetting(ctx, tx, waitingSetting, kept)
}

// Forget lets something wait no longer; it does not come in.
func (s *Service) Forget(ctx context.Context, who string, kind config.Kind, name string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := alone(ctx, tx); err != nil {
			return err
		}
		all, err := waiting(ctx, tx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(x Waiting) bool { return keyOf(x.Kind, x.Name) == keyOf(kind, name) })
		if i < 0 {
			return db.Known(db.ErrNotFound, "finding what waits")
		}
		if err := settingstore.SaveSetting(ctx, tx, waitingSetting, slices.Delete(all, i, i+1)); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "let something of a set-up wait no longer", "config",
			map[string]string{"kind": string(kind), "name": name})
	})
}

// TakeWaiting takes in what waited and can come in by now, as after a register was read. What is wrong
// with the rest is said where it is listed.
func (s *Service) TakeWaiting(ctx context.Context) error {
	if all, err := waiting(ctx, s.Store); err != nil || len(all) == 0 {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := alone(ctx, tx); err != nil {
			return err
		}
		all, err := waiting(ctx, tx)
		if err != nil {
			return err
		}
		slices.SortStableFunc(all, func(a, b Waiting) int {
			return compareKeys(keyOf(a.Kind, a.Name), keyOf(b.Kind, b.Name))
		})
		over, still := s.Store.Within(tx), []Waiting{}
		for _, x := range all {
			w := s.work(over, x.Who)
			done, faults, err := w.take(ctx, tx, []config.Item{{Kind: x.Kind, Name: x.Name, Body: x.Body}})
			switch {
			case err != nil:
				return err
			case len(faults) > 0:
				x.For = faults[0].Error()
				still = append(still, x)
			case done[0].waits != "":
				x.For = done[0].waits
				still = append(still, x)
			}
		}
		return settingstore.SaveSetting(ctx, tx, waitingSetting, still)
	})
}
