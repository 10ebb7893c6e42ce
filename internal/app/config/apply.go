package config

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"maps"
	"slices"

	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/wire/config"
)

// What becomes of a thing.
const (
	Add    = "add"
	Change = "change"
	Wait   = "wait" // it comes in once a register has what it names
)

// Changed is what becomes of one thing of the files.
type Changed struct {
	Kind   config.Kind
	Name   string
	What   string
	Fields []config.ValueChange // for Change: what of it differs
	Notes  []string             // what goes with it, such as that it arrives off
	Waits  string               // for Wait: for what
}

// Reference names a thing.
type Reference struct {
	Kind config.Kind
	Name string
}

// Comparison is what files would change.
type Comparison struct {
	Changes []Changed
	Same    int            // things of the files that are here just so
	Only    []Reference    // what is here and not in the files, of the kinds that they are about; it stays
	Faults  []config.Fault // everything for which the files are refused
	// Fingerprint tells this comparison from one of other files, or of another state here.
	Fingerprint string
}

// errUndo ends a transaction of which only the result is wanted.
var errUndo = errors.New("looked only")

// Compare says what files would change, and changes nothing.
func (s *Service) Compare(ctx context.Context, who string, files map[string][]byte) (Comparison, error) {
	return s.both(ctx, who, files, "", false)
}

// Apply takes files in: all of what Compare shows for them or, when anything is wrong, nothing. seen is
// the fingerprint of the comparison that was looked at; when it is another one by now, it is refused.
func (s *Service) Apply(ctx context.Context, who string, files map[string][]byte, seen string) (Comparison, error) {
	return s.both(ctx, who, files, seen, true)
}

func (s *Service) both(ctx context.Context, who string, files map[string][]byte, seen string, apply bool,
) (out Comparison, err error) {
	items, faults := config.Read(files)
	if items == nil && len(faults) > 0 {
		return Comparison{Faults: faults}, nil
	}
	err = db.Again(func() error {
		return s.Store.InTx(ctx, func(tx *db.Tx) error {
			if err := alone(ctx, tx); err != nil {
				return err
			}
			if out, err = s.takeIn(ctx, tx, who, items, seen, faults); err != nil {
				return err
			}
			if !apply || len(out.Faults) > 0 {
				return errUndo
			}
			return audit(ctx, tx, who, out)
		})
	})
	if errors.Is(err, errUndo) {
		err = nil
	}
	return out, err
}

// alone keeps others from taking files in until the transaction ends.
func alone(ctx context.Context, tx *db.Tx) error {
	_, err := db.Exec(ctx, tx, `SELECT pg_advisory_xact_lock(hashtextextended('config', 0))`)
	return db.Known(err, "taking in a set-up")
}

// takeIn takes items in within a transaction, and says what that has changed. It is done twice: the first
// time to see for which of them anything differs, and what is wrong beside what is there twice; the
// second time only those.
func (s *Service) takeIn(ctx context.Context, tx *db.Tx, who string, items []config.Item, seen string,
	twice []config.Fault,
) (out Comparison, err error) {
	over := s.Store.Within(tx)
	before, err := s.state(ctx, over)
	if err != nil {
		return out, err
	}
	mark := fingerprint(items, before)
	out.Fingerprint = mark
	if seen != "" && seen != mark {
		return out, refusal.Conflict("", "something was changed since you compared, here or in the files; compare again")
	}
	var changed []config.Item
	err = tx.Nested(ctx, func() error {
		done, faults, err := s.work(over, who).take(ctx, tx, items)
		if err != nil {
			return err
		}
		if err := keepWaiting(ctx, tx, s.Store.Within(tx), done, who); err != nil {
			return err
		}
		after, err := s.state(ctx, over)
		if err != nil {
			return err
		}
		out = compared(before, after, done)
		out.Faults, out.Fingerprint = append(slices.Clone(twice), faults...), mark
		config.SortFaults(out.Faults)
		for _, t := range done {
			if !before.same(after, t.key()) {
				changed = append(changed, t.item)
			}
		}
		return errUndo
	})
	if !errors.Is(err, errUndo) || len(out.Faults) > 0 {
		if errors.Is(err, errUndo) {
			err = nil
		}
		return out, err
	}
	done, faults, err := s.work(over, who).take(ctx, tx, changed)
	if err != nil {
		return out, err
	}
	if out.Faults = faults; len(faults) > 0 {
		return out, nil
	}
	return out, keepWaiting(ctx, tx, over, done, who)
}

// key finds a thing in a state.
type key struct {
	kind config.Kind
	name string // in small letters
}

// thing is one thing of a state.
type thing struct {
	name string
	body json.RawMessage
}

// state is a set-up by its things.
type state map[key]thing

func (s *Service) state(ctx context.Context, over *db.Database) (state, error) {
	setup, err := s.work(over, "").export(ctx)
	if err != nil {
		return nil, err
	}
	out := state{}
	for _, p := range config.ItemsOf(setup) {
		text, err := json.Marshal(p.Thing)
		if err != nil {
			return nil, err
		}
		out[keyOf(p.Kind, p.Name)] = thing{p.Name, text}
	}
	return out, nil
}

// same reports whether a thing is in both states, or in none, and reads the same.
func (s state) same(other state, k key) bool {
	a, inA := s[k]
	b, inB := other[k]
	return inA == inB && string(a.body) == string(b.body)
}

// compared says what a set of items has changed from one state to another.
func compared(before, after state, done []taken) (out Comparison) {
	given, kinds := map[key]bool{}, map[config.Kind]bool{}
	for _, t := range done {
		k := t.key()
		given[k], kinds[t.item.Kind] = true, true
		if before.same(after, k) {
			out.Same++
			continue
		}
		c := Changed{Kind: t.item.Kind, Name: after[k].name, What: Add, Notes: t.notes, Waits: t.waits}
		if was, there := before[k]; there {
			c.What, c.Fields = Change, config.ValueChanges(was.body, after[k].body)
		}
		if t.waits != "" {
			c.What = Wait
		}
		out.Changes = append(out.Changes, c)
	}
	for k, x := range before {
		if kinds[k.kind] && !given[k] {
			out.Only = append(out.Only, Reference{k.kind, x.name})
		}
	}
	slices.SortFunc(out.Only, func(a, b Reference) int {
		return compareKeys(keyOf(a.Kind, a.Name), keyOf(b.Kind, b.Name))
	})
	return out
}

// fingerprint tells items and the state that they meet from others.
func fingerprint(items []config.Item, before state) string {
	h := sha256.New()
	for _, i := range items {
		_, _ = h.Write([]byte(string(i.Kind) + "\x00" + i.Name + "\x00" + string(i.Body) + "\x00"))
	}
	for _, k := range slices.SortedFunc(maps.Keys(before), compareKeys) {
		_, _ = h.Write([]byte(string(k.kind) + "\x00" + k.name + "\x00" + string(before[k].body) + "\x00"))
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// audit notes that a set-up came in, beside what each use case notes.
func audit(ctx context.Context, tx *db.Tx, who string, c Comparison) error {
	if len(c.Changes) == 0 {
		return nil
	}
	var all []map[string]string
	for _, x := range c.Changes {
		all = append(all, map[string]string{"kind": string(x.Kind), "name": x.Name, "what": x.What})
	}
	if err := tx.Audit(ctx, who, "took a set-up in from files", "config", map[string]any{"changes": all}); err != nil {
		return err
	}
	return tx.Enqueue(ctx, jobs.TakeWaiting{})
}
