// Package batches does with many sections or pairings what can be done with one:
// first it shows what would happen to each, the exceptions first, then it does
// exactly that.
//
//	batch, err := service.Prepare(ctx, who, batches.Order{Act: batches.Pair, Sections: ids, InterfaceID: id})
//	batch, err = service.Do(ctx, who, batch.ID, false)
package batches

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"kanban/internal/app/linking"
	"kanban/internal/app/pairings"
	"kanban/internal/app/runs"
	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/runstore"
)

// Service is the use case. Fill every field.
type Service struct {
	Store    *db.Database
	Pairings *pairings.Service
	Runs     *runs.Service
	Linking  *linking.Service
	Clock    clock.Clock
}

// Act is what is done with each.
type Act string

// The acts.
const (
	Link     Act = "link"      // sections: each set is handled as one from then on
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
var Acts = []Act{Link, Pair, Run, Template, Pause, Resume, Hold, Open, NextTerm, End, TakeOut}

// Order is what to do with which.
type Order struct {
	Act         Act
	Sets        []linking.Wish    // for link
	Sections    []string          // for pair
	Pairings    []string          // for all others
	InterfaceID string            // for pair
	Template    string            // for pair and template; the usual one when empty
	Naming      string            // for pair: names the classes instead of the template
	Names       map[string]string // for pair: of single classes, by section; as Naming says when absent
	Details     map[string]string // for pair: what the register does not say about new classes
	WithoutRun  bool              // for pair and next-term: leave the first run for later
	KeepNames   bool              // for next-term: classes keep their names
	To          map[string]string // for next-term: section by pairing
	At          *time.Time        // for open: when; now when nil
}

// Item is one of the many.
type Item struct {
	Result
	SectionID   string            `json:"sectionId,omitempty"`
	Title       string            `json:"title"`
	To          string            `json:"to,omitempty"`      // for next-term: the section that follows
	ToTitle     string            `json:"toTitle,omitempty"` // its title
	Rename      string            `json:"rename,omitempty"`  // for next-term: the name that the class gets
	Remarks     []pairings.Remark `json:"remarks,omitempty"`
	Counts      roster.Counts     `json:"counts,omitempty"` // people by outcome, where a run follows
	Guard       int               `json:"guard,omitempty"`  // removals, when they are more than the guard allows
	NewAccounts int               `json:"newAccounts,omitempty"`
	NewPeople   []string          `json:"newPeople,omitempty"` // ids of those for whom accounts would be made
	Says        string            `json:"says,omitempty"`      // what will happen, in words
	Plan        *roster.Plan      `json:"plan,omitempty"`      // of a pairing that is still to be made or moved
	PreviewID   string            `json:"previewId,omitempty"` // of a pairing that is there
	Outlook     *pairings.Outlook `json:"outlook,omitempty"`   // for pair
	Policy      *roster.Policy    `json:"policy,omitempty"`    // for template
	Set         *linking.Wish     `json:"set,omitempty"`       // for link
}

// Result is what became of an item, as it is kept while the batch goes on.
type Result struct {
	PairingID string `json:"pairingId,omitempty"` // that it is about, or that was made
	Target    string `json:"target,omitempty"`    // name of the class, as it is then
	Done      bool   `json:"done,omitempty"`
	Problem   string `json:"problem,omitempty"`
	RunID     string `json:"runId,omitempty"`
	SetID     string `json:"setId,omitempty"`
	Named     bool   `json:"named,omitempty"` // for next-term: the class has its new name
}

// Blocked reports whether nothing can be done with the item.
func (i Item) Blocked() bool {
	return slices.ContainsFunc(i.Remarks, func(r pairings.Remark) bool { return r.Blocks })
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
	i.Remarks = append(i.Remarks, pairings.Remark{Code: code, Detail: fmt.Sprintf(format, args...), Blocks: true})
}

// Batch is many items with what is done with them.
type Batch struct {
	ID        string
	Order     Order
	Items     []Item
	MadeBy    string
	CreatedAt time.Time
	AppliedAt *time.Time
	EndedAt   *time.Time // when all of its items had been tried
	Tried     int        // items
	Runs      []runstore.Run

	approved bool
	doneBy   string
	tried    map[int]bool // by place in Items, until it has ended
}

// Totals adds up what would happen, blocked items left out.
func (b Batch) Totals() (people roster.Counts, newAccounts, guarded, blocked int) {
	people = roster.Counts{}
	once := map[string]bool{} // somebody in two classes gets one account
	for _, i := range b.Items {
		if i.Blocked() {
			blocked++
			continue
		}
		for outcome, n := range i.Counts {
			people[outcome] += n
		}
		for _, id := range i.NewPeople {
			if once[id] {
				newAccounts--
			}
			once[id] = true
		}
		newAccounts += i.NewAccounts
		guarded += min(i.Guard, 1)
	}
	return people, newAccounts, guarded, blocked
}

func (b Batch) sort() {
	slices.SortStableFunc(b.Items, func(x, y Item) int {
		return cmp.Or(cmp.Compare(x.rank(), y.rank()),
			cmp.Compare(x.Title, y.Title))
	})
}

// mostItems is how many one batch may have.
const mostItems = 5000

// Prepare shows what would happen and keeps it, so that Do does exactly that.
func (s *Service) Prepare(ctx context.Context, who string, o Order) (Batch, error) {
	b := Batch{ID: db.NewID(), Order: o, MadeBy: who, CreatedAt: s.Clock.Now()}
	n := len(o.Pairings)
	switch o.Act {
	case Pair:
		n = len(o.Sections)
	case Link:
		n = len(o.Sets)
	}
	var err error
	switch {
	case !slices.Contains(Acts, o.Act):
		return b, refusal.Invalid("act", "%q is not one of %v", o.Act, Acts)
	case n == 0:
		return b, refusal.Invalid("sections", "nothing is chosen; choose sections or pairings first")
	case n > mostItems:
		return b, refusal.Invalid("sections", "%d are more than the %d that one batch may have; choose fewer", n,
			mostItems)
	case o.Act == Pair:
		for id := range o.Names {
			if !slices.Contains(o.Sections, id) {
				return b, refusal.Invalid("names", "a name is given for %q, which is not among the sections", id)
			}
		}
		b.Items, err = s.pairs(ctx, o)
	case o.Act == Link:
		b.Items, err = s.sets(ctx, o)
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
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		kept := runstore.Batch{
			ID: b.ID, Act: string(b.Order.Act), Options: options, Items: items, MadeBy: b.MadeBy,
			CreatedAt: b.CreatedAt,
		}
		return db.Create(tx, &kept, "keeping the batch")
	})
}

// Batch gives one, with its runs.
func (s *Service) Batch(ctx context.Context, id string) (Batch, error) {
	kept, err := runstore.FindBatch(ctx, s.Store, id)
	if err != nil {
		return Batch{}, err
	}
	b := Batch{
		ID: kept.ID, MadeBy: kept.MadeBy, CreatedAt: kept.CreatedAt, AppliedAt: kept.AppliedAt,
		EndedAt: kept.EndedAt, approved: kept.Approved, doneBy: kept.DoneBy,
	}
	if err := errors.Join(json.Unmarshal(kept.Options, &b.Order), json.Unmarshal(kept.Items, &b.Items)); err != nil {
		return b, fmt.Errorf("reading the batch: %w", err)
	}
	b.Tried = len(b.Items)
	if b.EndedAt == nil {
		if err := s.results(ctx, &b); err != nil {
			return b, err
		}
	}
	b.Runs, err = runstore.BatchRuns(ctx, s.Store, id)
	return b, err
}

// Done is what the runs of a batch did, by what became of people, and how far they are.
func (b Batch) Done() (did map[string]int, done, total int) {
	did = map[string]int{}
	for _, r := range b.Runs {
		done, total = done+r.Done, total+r.Total
		for name, n := range Did(r) {
			did[name] += n
		}
	}
	return did, done, total
}

// Did is what a run did, by what became of people; empty while it is under way.
func Did(r runstore.Run) map[string]int {
	did := map[string]int{}
	for _, name := range roster.Results {
		if n := r.Counts[name]; n > 0 && !r.Active() {
			did[name] = n
		}
	}
	return did
}

// Batches lists those that were done, the newest first, older than before if given.
func (s *Service) Batches(ctx context.Context, before string, limit int) ([]runstore.ListedBatch, error) {
	return runstore.Batches(ctx, s.Store, before, limit)
}

// Do has what a batch shows done, once: CarryOut does it, whoever asked may leave.
// Removals above a guard are done only with approved.
func (s *Service) Do(ctx context.Context, who, id string, approved bool) (Batch, error) {
	b, err := s.Batch(ctx, id)
	if err != nil {
		return b, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := runstore.ApplyBatch(ctx, tx, id, who, approved); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, jobs.CarryOutBatch{BatchID: id}); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "did with many: "+string(b.Order.Act), "batch/"+id,
			map[string]any{"items": len(b.Items), "approved": approved})
	})
	if errors.Is(err, db.ErrTaken) {
		return b, refusal.Conflict("", "this has been done already; look again before doing more")
	}
	if err != nil {
		return b, err
	}
	return s.Batch(ctx, id)
}

func (s *Service) do(ctx context.Context, b Batch, n int) error {
	who, i, yes, no := b.doneBy, &b.Items[n], true, false
	switch b.Order.Act {
	case Link:
		return s.link(ctx, b, n)
	case Pair:
		return s.pair(ctx, b, n)
	case NextTerm:
		return s.move(ctx, b, n)
	case Run, TakeOut:
		return s.run(ctx, b, i)
	case Template:
		_, err := s.Pairings.Change(ctx, who, i.PairingID, 0, pairings.Edit{Policy: i.Policy})
		return err
	case Pause:
		_, err := s.Pairings.Change(ctx, who, i.PairingID, 0, pairings.Edit{Paused: &yes})
		return err
	case Resume:
		_, err := s.Pairings.Change(ctx, who, i.PairingID, 0, pairings.Edit{Paused: &no})
		return err
	case Hold:
		return s.Runs.HoldClass(ctx, who, i.PairingID)
	case Open:
		return s.Runs.OpenClass(ctx, who, i.PairingID, b.Order.At)
	}
	return s.Pairings.Unpair(ctx, who, i.PairingID)
}
