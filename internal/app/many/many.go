// Package many does with many sections or pairings what can be done with one:
// first it shows what would happen to each, the exceptions first, then it does
// exactly that.
//
//	batch, err := service.Look(ctx, who, many.Order{Act: many.Pair, Sections: ids, ConnectionID: id})
//	batch, err = service.Do(ctx, who, batch.ID, false)
package many

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"kanban/internal/app/pairing"
	"kanban/internal/app/syncing"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store"
)

// Service is the use case. Fill every field.
type Service struct {
	Store   *store.Store
	Pairing *pairing.Service
	Syncing *syncing.Service
	Now     func() time.Time
}

// Act is what is done with each.
type Act string

// The acts.
const (
	Pair     Act = "pair"      // sections, with new classes; the first run follows at once
	Run      Act = "run"       // pairings: exactly what their previews show
	Template Act = "template"  // pairings: the policy of a template
	Pause    Act = "pause"     // pairings
	Resume   Act = "resume"    // pairings
	Hold     Act = "hold"      // pairings: learners wait
	Open     Act = "open"      // pairings: learners go in
	NextTerm Act = "next-term" // pairings: their classes go to the sections that follow
	End      Act = "end"       // pairings: everybody stays where they are
	TakeOut  Act = "take-out"  // pairings: everybody whom Kanban put in comes out, then they end
)

// Acts lists them all.
var Acts = []Act{Pair, Run, Template, Pause, Resume, Hold, Open, NextTerm, End, TakeOut}

// Order is what to do with which.
type Order struct {
	Act          Act
	Sections     []string          // for pair
	Pairings     []string          // for all others
	ConnectionID string            // for pair
	Template     string            // for pair and template; the usual one when empty
	Naming       string            // for pair: names the classes instead of the template
	WithoutRun   bool              // for pair and next-term: leave the first run for later
	To           map[string]string // for next-term: section by pairing
	At           *time.Time        // for open: when; now when nil
}

// Item is one of the many.
type Item struct {
	SectionID   string           `json:"sectionId,omitempty"`
	PairingID   string           `json:"pairingId,omitempty"`
	Title       string           `json:"title"`
	Target      string           `json:"target"`
	To          string           `json:"to,omitempty"`      // for next-term: the section that follows
	ToTitle     string           `json:"toTitle,omitempty"` // its title
	Remarks     []pairing.Remark `json:"remarks,omitempty"`
	Counts      roster.Counts    `json:"counts,omitempty"` // people by outcome, where a run follows
	Guard       int              `json:"guard,omitempty"`  // removals, when they are more than the guard allows
	NewAccounts int              `json:"newAccounts,omitempty"`
	Says        string           `json:"says,omitempty"`      // what will happen, in words
	Plan        *roster.Plan     `json:"plan,omitempty"`      // of a pairing that is still to be made or moved
	PreviewID   string           `json:"previewId,omitempty"` // of a pairing that is there
	Outlook     *pairing.Outlook `json:"outlook,omitempty"`   // for pair
	Policy      *roster.Policy   `json:"policy,omitempty"`    // for template

	// What became of it.
	Done    bool   `json:"done,omitempty"`
	Problem string `json:"problem,omitempty"`
	RunID   string `json:"runId,omitempty"`
}

// Blocked reports whether nothing can be done with the item.
func (i Item) Blocked() bool {
	return slices.ContainsFunc(i.Remarks, func(r pairing.Remark) bool { return r.Blocks })
}

// rank puts the exceptions first.
func (i Item) rank() int {
	switch {
	case i.Problem != "":
		return 0
	case i.Blocked():
		return 1
	case i.Guard > 0:
		return 2
	case len(i.Remarks) > 0, i.Counts[roster.OutcomeNeedsPerson] > 0:
		return 3
	}
	return 4
}

func (i *Item) block(code finding.Code, format string, args ...any) {
	i.Remarks = append(i.Remarks, pairing.Remark{Code: code, Detail: fmt.Sprintf(format, args...), Blocks: true})
}

// Batch is many items with what is done with them.
type Batch struct {
	ID        string
	Order     Order
	Items     []Item
	MadeBy    string
	CreatedAt time.Time
	AppliedAt *time.Time
	Runs      []store.Run
}

// Totals adds up what would happen, blocked items left out.
func (b Batch) Totals() (people roster.Counts, newAccounts, guarded, blocked int) {
	people = roster.Counts{}
	for _, i := range b.Items {
		if i.Blocked() {
			blocked++
			continue
		}
		for outcome, n := range i.Counts {
			people[outcome] += n
		}
		newAccounts += i.NewAccounts
		guarded += min(i.Guard, 1)
	}
	return people, newAccounts, guarded, blocked
}

func (b Batch) sort() {
	slices.SortStableFunc(b.Items, func(x, y Item) int { return cmp.Or(cmp.Compare(x.rank(), y.rank()), cmp.Compare(x.Title, y.Title)) })
}

// mostItems is how many one batch may have.
const mostItems = 5000

// Look shows what would happen and keeps it, so that Do does exactly that.
func (s *Service) Look(ctx context.Context, who string, o Order) (Batch, error) {
	b := Batch{ID: store.NewID(), Order: o, MadeBy: who, CreatedAt: s.Now().UTC()}
	n := len(o.Pairings)
	if o.Act == Pair {
		n = len(o.Sections)
	}
	var err error
	switch {
	case !slices.Contains(Acts, o.Act):
		return b, refusal.Invalid("act", "%q is not one of %v", o.Act, Acts)
	case n == 0:
		return b, refusal.Invalid("sections", "nothing is chosen; choose sections or pairings first")
	case n > mostItems:
		return b, refusal.Invalid("sections", "%d are more than the %d that one batch may have; choose fewer", n, mostItems)
	case o.Act == Pair:
		b.Items, err = s.pairs(ctx, o)
	case o.Act == NextTerm:
		b.Items, err = s.moves(ctx, o)
	default:
		b.Items, err = s.others(ctx, o)
	}
	if err != nil {
		return b, err
	}
	b.sort()
	return b, s.keep(ctx, b)
}

func (s *Service) keep(ctx context.Context, b Batch) error {
	options, err := json.Marshal(b.Order)
	if err != nil {
		return err
	}
	items, err := json.Marshal(b.Items)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		kept := store.Batch{ID: b.ID, Act: string(b.Order.Act), Options: options, Items: items, MadeBy: b.MadeBy, CreatedAt: b.CreatedAt}
		return store.Create(tx, &kept, "keeping the batch")
	})
}

// Batch gives one, with its runs.
func (s *Service) Batch(ctx context.Context, id string) (Batch, error) {
	kept, err := s.Store.Batch(ctx, id)
	if err != nil {
		return Batch{}, err
	}
	b := Batch{ID: kept.ID, MadeBy: kept.MadeBy, CreatedAt: kept.CreatedAt, AppliedAt: kept.AppliedAt}
	if err := errors.Join(json.Unmarshal(kept.Options, &b.Order), json.Unmarshal(kept.Items, &b.Items)); err != nil {
		return b, fmt.Errorf("reading the batch: %w", err)
	}
	b.Runs, err = s.Store.BatchRuns(ctx, id)
	return b, err
}

// Do does what a batch shows, once. What is blocked is left out; what cannot be done
// any more says why and keeps none of the others back. Removals above a guard are
// done only with approved.
func (s *Service) Do(ctx context.Context, who, id string, approved bool) (Batch, error) {
	ctx = context.WithoutCancel(ctx) // whoever asked may leave; half of it is not what was shown
	b, err := s.Batch(ctx, id)
	if err != nil {
		return b, err
	}
	err = s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.ApplyBatch(ctx, id); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "did with many: "+string(b.Order.Act), "batch/"+id, map[string]any{"items": len(b.Items), "approved": approved})
	})
	if errors.Is(err, store.ErrTaken) {
		return b, refusal.Conflict("", "this has been done already; look again before doing more")
	}
	if err != nil {
		return b, err
	}
	for n := range b.Items {
		i := &b.Items[n]
		if i.Blocked() {
			continue
		}
		if i.Guard > 0 && !approved {
			i.Problem = fmt.Sprintf("it would take %d people out, which nobody approved", i.Guard)
			continue
		}
		switch err := s.do(ctx, who, b, i, approved); {
		case errors.Is(err, store.ErrTaken):
			i.Problem = "it, or the class, was paired in the meantime"
		case err != nil:
			i.Problem = err.Error()
		}
		i.Done = i.Problem == ""
	}
	b.sort()
	items, err := json.Marshal(b.Items)
	if err != nil {
		return b, err
	}
	if err := s.Store.InTx(ctx, func(tx *store.Tx) error { return tx.KeepItems(ctx, id, items) }); err != nil {
		return b, err
	}
	return s.Batch(ctx, id)
}

func (s *Service) do(ctx context.Context, who string, b Batch, i *Item, approved bool) error {
	yes, no := true, false
	switch b.Order.Act {
	case Pair:
		return s.pair(ctx, who, b, i, approved)
	case NextTerm:
		return s.move(ctx, who, b, i, approved)
	case Run, TakeOut:
		return s.run(ctx, who, b, i, approved)
	case Template:
		_, err := s.Pairing.Change(ctx, who, i.PairingID, 0, pairing.Edit{Policy: i.Policy})
		return err
	case Pause:
		_, err := s.Pairing.Change(ctx, who, i.PairingID, 0, pairing.Edit{Paused: &yes})
		return err
	case Resume:
		_, err := s.Pairing.Change(ctx, who, i.PairingID, 0, pairing.Edit{Paused: &no})
		return err
	case Hold:
		return s.Syncing.HoldClass(ctx, who, i.PairingID)
	case Open:
		return s.Syncing.OpenClass(ctx, who, i.PairingID, b.Order.At)
	}
	return s.Pairing.Unpair(ctx, who, i.PairingID)
}
