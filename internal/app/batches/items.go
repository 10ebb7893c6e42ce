package batches

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"kanban/internal/app/pairings"
	"kanban/internal/app/runs"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rollover"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
)

// atOnce is how many pairings are compared at a time.
const atOnce = 8

// planned fills in what a run of the item's pairing would do.
func (i *Item) planned(plan roster.Plan, policy roster.Policy) {
	i.Counts = plan.Counts()
	if n, tripped := plan.GuardTripped(policy); tripped {
		i.Guard = n
	}
	for _, e := range plan.Entries {
		if e.Reason == finding.NewAccount {
			i.NewAccounts++
			i.NewPeople = append(i.NewPeople, e.PersonID)
		}
	}
}

// pairs looks at sections that are to be paired.
func (s *Service) pairs(ctx context.Context, o Order) ([]Item, error) {
	wishes := make([]pairings.Wish, len(o.Sections))
	for n, id := range o.Sections {
		wishes[n] = pairings.Wish{
			SectionID: id, InterfaceID: o.InterfaceID, Template: o.Template, Naming: o.Naming,
			Details: o.Details, TargetName: o.Names[id],
		}
	}
	list, err := s.Pairings.PreviewAll(ctx, wishes)
	if err != nil {
		return nil, err
	}
	at, err := s.Runs.DirectoryOf(ctx, o.InterfaceID, len(list))
	if err != nil {
		return nil, err
	}
	var items []Item
	seen := map[string]bool{}
	for _, x := range list {
		if id := x.Pairing().SectionID; !seen[id] { // several sections of one set are one item
			seen[id] = true
			items = append(items, Item{
				Result: Result{Target: x.Name}, SectionID: id, Title: x.Card.Title(),
				Remarks: x.Remarks, Outlook: &x,
			})
		}
	}
	return items, each(ctx, items, func(ctx context.Context, i *Item) error {
		p := i.Outlook.Pairing()
		if i.Blocked() || o.WithoutRun {
			return nil
		}
		plan, err := s.Runs.Plan(ctx, p, at)
		if err == nil {
			i.Plan = &plan
			i.planned(plan, p.Policy)
		}
		return err
	})
}

// each works on items, several at a time.
func each(ctx context.Context, items []Item, do func(context.Context, *Item) error) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for n := range items {
		group.Go(func() error { return do(ctx, &items[n]) })
	}
	return group.Wait()
}

// pair makes one pairing and starts its first run.
func (s *Service) pair(ctx context.Context, b Batch, n int) error {
	i := &b.Items[n]
	return s.during(ctx, b, n, func(tx *db.Tx) error {
		p, err := s.Pairings.Make(ctx, tx, b.doneBy, *i.Outlook)
		if err != nil {
			return err
		}
		i.PairingID = p.ID
		if i.Plan == nil {
			return nil
		}
		r, err := s.Runs.StartPlanned(ctx, tx, b.doneBy, p, *i.Plan, b.approved, b.ID)
		i.RunID = r.ID
		return err
	})
}

// during does an item in one transaction with keeping that it was done.
func (s *Service) during(ctx context.Context, b Batch, n int, do func(*db.Tx) error) error {
	i := &b.Items[n]
	before := i.Result
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := do(tx); err != nil {
			return err
		}
		i.Done = true
		return keepResult(ctx, tx, b, n)
	})
	if err != nil {
		i.Result = before
	}
	return err
}

// sets looks at sections that are to be linked.
func (s *Service) sets(ctx context.Context, o Order) ([]Item, error) {
	list, err := s.Linking.ConsequencesOf(ctx, o.Sets)
	if err != nil {
		return nil, err
	}
	items := make([]Item, len(list))
	used := map[string]string{} // name of the set, by section
	for n, c := range list {
		i := &items[n]
		*i = Item{SectionID: c.Sections[0].ID, Title: c.Name, Says: c.Says(), Set: &o.Sets[n]}
		var classes []string
		for _, p := range c.Pairings {
			classes = append(classes, p.TargetName)
		}
		i.Target = strings.Join(classes, ", ")
		for _, r := range c.Refused {
			i.block(r.Code, "%s: %s", r.Section.Title, r.Detail)
		}
		for _, x := range c.Sections {
			if other, twice := used[x.ID]; twice {
				i.block(finding.LinkTwice, "%s is to be linked in %s already, above", x.Title, other)
			}
			used[x.ID] = c.Name
		}
	}
	return items, nil
}

// link makes one set.
func (s *Service) link(ctx context.Context, b Batch, n int) error {
	i := &b.Items[n]
	before := i.Result
	set, err := s.Linking.LinkWith(ctx, b.doneBy, *i.Set, func(tx *db.Tx, set linkstore.LinkedSet) error {
		i.SetID, i.Done = set.ID, true
		return keepResult(ctx, tx, b, n)
	})
	if err != nil {
		i.Result = before
		return err
	}
	i.SetID = set.ID
	return nil
}

// acts are what a section's state must allow for what is done to its pairing.
var acts = map[Act]roster.Act{
	Run: roster.ActRun, Pause: roster.ActPause, Resume: roster.ActResume, Hold: roster.ActHold,
	Open: roster.ActOpen, End: roster.ActEnd, TakeOut: roster.ActEnd,
}

// others looks at pairings with which anything else is to be done.
func (s *Service) others(ctx context.Context, o Order) ([]Item, error) {
	items, err := s.items(ctx, o.Pairings, acts[o.Act])
	if err != nil {
		return nil, err
	}
	var policy roster.Policy
	if o.Act == Template {
		if policy, err = s.Pairings.PolicyOf(ctx, o.Template); err != nil {
			return nil, err
		}
	}
	return items, each(ctx, items, func(ctx context.Context, i *Item) error {
		if i.Blocked() {
			return nil
		}
		p, err := pairingstore.FindPairing(ctx, s.Store, i.PairingID)
		if err != nil {
			return err
		}
		var preview pairingstore.Preview
		switch o.Act {
		case Template:
			i.Policy, i.Says = &policy, "follows the template from its next run on"
		case Run:
			preview, err = s.Runs.Preview(ctx, p.ID)
		case TakeOut:
			preview, err = s.Runs.Ending(ctx, p.ID)
		case End:
			i.Says = "everybody stays where they are, and nothing keeps the class in step"
		case Open:
			i.Says = "its learners go in"
			if o.At != nil {
				i.Says += " on " + o.At.Local().Format("2 January 15:04")
			}
			if !p.Policy.Hold {
				i.block("", "it is open already")
			}
		case Hold:
			i.Says = fmt.Sprintf("learners who are in stay in (%d people now); all others wait",
				p.Counts[roster.OutcomeInStep])
			if p.Policy.Hold {
				i.block("", "it is held back already")
			}
		}
		if r, ok := refusal.As(err); ok {
			i.block(r.Code, "%s", r.Detail)
			return nil
		}
		if err == nil && preview.ID != "" {
			i.PreviewID = preview.ID
			i.planned(preview.Plan, p.Policy)
			if o.Act == TakeOut {
				i.Guard = 0 // taking people out is what it is for
			}
		}
		return err
	})
}

// run does what the preview of an item shows, once for the batch.
func (s *Service) run(ctx context.Context, b Batch, i *Item) error {
	if n := slices.IndexFunc(b.Runs, func(r runstore.Run) bool {
		return r.PairingID != nil &&
			*r.PairingID == i.PairingID
	}); n >= 0 {
		i.RunID = b.Runs[n].ID
		return nil
	}
	r, err := s.Runs.StartIn(ctx, b.doneBy, i.PreviewID, b.approved, b.ID)
	i.RunID = r.ID
	return err
}

// items gives the cards of pairings; those whose state does not allow the act are
// blocked.
func (s *Service) items(ctx context.Context, ids []string, act roster.Act) ([]Item, error) {
	cards, err := s.Pairings.Cards(ctx, pairings.Filter{})
	if err != nil {
		return nil, err
	}
	of := make(map[string]pairings.Card, len(cards))
	for _, c := range cards {
		if c.Pairing != nil {
			of[c.Pairing.ID] = c
		}
	}
	var items []Item
	seen := map[string]bool{}
	for _, id := range ids {
		c, ok := of[id]
		if !ok {
			return nil, refusal.Invalid("pairings", "there is no pairing %q that has not ended", id)
		}
		if seen[id] {
			continue
		}
		seen[id] = true
		i := Item{
			Result: Result{PairingID: id, Target: c.Pairing.TargetName}, SectionID: c.Section.ID,
			Title: c.Title(),
		}
		if act != "" && !c.Allows(act) {
			i.block("", "it is %s, which does not allow this", c.State.About().Word)
		}
		items = append(items, i)
	}
	return items, nil
}

// Proposals finds the sections that follow those of pairings, all of them when ids
// is empty: those whose term ends within ahead days, or has ended. It gives a move for
// each, and the pairings by section.
func (s *Service) Proposals(ctx context.Context, ids []string, ahead int) ([]rollover.Move, map[string]string,
	error,
) {
	cards, err := s.Pairings.Cards(ctx, pairings.Filter{})
	if err != nil {
		return nil, nil, err
	}
	until := s.Clock.Now().AddDate(0, 0, ahead)
	wanted := make(map[string]bool, len(ids))
	for _, id := range ids {
		wanted[id] = true
	}
	var ending, all []rollover.Section
	pairings := map[string]string{} // by section
	for _, c := range cards {
		if c.Section.List != "" {
			continue // it belongs to no term
		}
		x := rollover.Section{
			ID: c.Section.ID, Title: c.Title(), Code: c.Section.Code, CourseCode: c.Section.CourseCode,
			Teachers: c.Section.TeacherIDs,
			Begins:   c.Section.BeginsOn, Ends: c.Section.EndsOn, Taken: c.Pairing != nil || c.Section.Gone,
		}
		all = append(all, x)
		if c.Pairing == nil {
			continue
		}
		if wanted[c.Pairing.ID] || len(ids) == 0 && c.Section.EndsOn != nil && c.Section.EndsOn.Before(until) {
			ending = append(ending, x)
			pairings[x.ID] = c.Pairing.ID
		}
	}
	return rollover.Propose(ending, all, s.Clock.Now()), pairings, nil
}

// moves looks at pairings whose classes are to go to the sections that follow.
func (s *Service) moves(ctx context.Context, o Order) ([]Item, error) {
	items, err := s.items(ctx, o.Pairings, roster.ActMove)
	if err != nil {
		return nil, err
	}
	cards, err := s.Pairings.Cards(ctx, pairings.Filter{})
	if err != nil {
		return nil, err
	}
	proposed, pairingOf, err := s.Proposals(ctx, o.Pairings, 0)
	if err != nil {
		return nil, err
	}
	to := map[string]string{}
	for _, m := range proposed {
		to[pairingOf[m.From.ID]] = m.To.ID
	}
	bySection := make(map[string][]pairings.Card, len(cards)) // one for each service with which it is paired
	for _, c := range cards {
		bySection[c.Section.ID] = append(bySection[c.Section.ID], c)
	}
	for p, section := range o.To {
		to[p] = section
	}
	looking := map[string]runs.DirectoryReader{}
	used := map[string]string{}
	for n := range items {
		i := &items[n]
		p, err := pairingstore.FindPairing(ctx, s.Store, i.PairingID)
		if err != nil {
			return nil, err
		}
		if looking[p.InterfaceID] == nil {
			if looking[p.InterfaceID], err = s.Runs.DirectoryOf(ctx, p.InterfaceID, len(items)); err != nil {
				return nil, err
			}
		}
		next := bySection[to[i.PairingID]]
		switch {
		case i.Blocked():
			continue
		case len(next) == 0:
			i.block(finding.OtherTerm, "no section follows it: choose one, or end the pairing")
			continue
		case used[next[0].Section.ID] != "":
			i.block(finding.AlreadyPaired, "%s is to follow %s already", next[0].Title(), used[next[0].Section.ID])
			continue
		}
		c := next[0]
		used[c.Section.ID], i.To, i.ToTitle = i.Title, c.Section.ID, c.Title()
		s.follow(i, next, p)
		if i.Blocked() {
			continue
		}
		if err := s.plannedMove(ctx, i, p, c, looking[p.InterfaceID]); err != nil {
			return nil, err
		}
		if o.KeepNames {
			continue
		}
		if err := s.renamed(ctx, i, p, bySection[i.SectionID], c); err != nil {
			return nil, err
		}
	}
	return items, nil
}

// plannedMove works out what moving a pairing's class to a section does.
func (s *Service) plannedMove(ctx context.Context, i *Item, p pairingstore.Pairing, to pairings.Card,
	at runs.DirectoryReader,
) error {
	moved := p
	moved.SectionID, moved.SetID = to.Section.ID, to.Section.SetID
	plan, err := s.Runs.Plan(ctx, moved, at)
	if err != nil {
		return err
	}
	i.Plan = &plan
	i.planned(plan, p.Policy)
	i.Says = fmt.Sprintf("%s takes over the class; %d people of %s are removed, %d stay, %d are added", i.ToTitle,
		i.Counts[roster.OutcomeRemove], i.Title, i.Counts[roster.OutcomeInStep]+i.Counts[roster.OutcomeUpdate],
		i.Counts[roster.OutcomeAdd])
	return nil
}

// renamed works out what the class of a pairing is called after its move.
func (s *Service) renamed(ctx context.Context, i *Item, p pairingstore.Pairing, from []pairings.Card,
	to pairings.Card,
) (err error) {
	if len(from) > 0 {
		if i.Rename, err = s.Pairings.FollowingName(ctx, p.TargetName, from[0], to); err != nil {
			return err
		}
	}
	if i.Rename != "" {
		i.Says += "; it is called " + i.Rename + " then"
	} else {
		i.Says += "; it keeps its name " + p.TargetName
	}
	return nil
}

// follow says why a section, given as it stands with each service, cannot take a class over.
func (s *Service) follow(i *Item, cards []pairings.Card, p pairingstore.Pairing) {
	switch c := cards[0]; {
	case c.Section.Gone:
		i.block(finding.SectionGone, "%s is no longer in the register", c.Title())
	case c.Section.Ended(s.Clock.Now()):
		i.block(finding.SectionEnded, "%s ended on %s", c.Title(), c.Section.EndsOn.Format("2 January 2006"))
	case c.Section.ID == p.SectionID:
		i.block(finding.AlreadyPaired, "it is the section that has the class now")
	case slices.ContainsFunc(cards, func(o pairings.Card) bool {
		return o.Pairing != nil && o.Pairing.InterfaceID == p.InterfaceID
	}):
		i.block(finding.AlreadyPaired, "%s has a class at this service already", c.Title())
	}
}

// move gives one class to the section that follows and starts the run; then the class gets
// its new name.
func (s *Service) move(ctx context.Context, b Batch, n int) error {
	i := &b.Items[n]
	p, err := pairingstore.FindPairing(ctx, s.Store, i.PairingID)
	if err != nil {
		return err
	}
	if !i.Done {
		if err := s.Pairings.AtRest(ctx, p); err != nil {
			return err
		}
		section, err := rosterstore.FindSection(ctx, s.Store, i.To)
		if err != nil {
			return err
		}
		err = s.during(ctx, b, n, func(tx *db.Tx) error {
			p, err := s.Runs.MoveOn(ctx, tx, b.doneBy, p, section.ID, section.SetID)
			if err != nil || b.Order.WithoutRun {
				return err
			}
			r, err := s.Runs.StartPlanned(ctx, tx, b.doneBy, p, *i.Plan, b.approved, b.ID)
			i.RunID = r.ID
			return err
		})
		if err != nil {
			return err
		}
	}
	if i.Rename == "" {
		return nil
	}
	for range 5 { // the run that has begun may write the pairing at the same time
		if err = s.Runs.Rename(ctx, b.doneBy, p.ID, 0, i.Rename); !errors.Is(err, db.ErrStale) {
			break
		}
	}
	i.Named = true
	if err != nil {
		return fmt.Errorf("the class has moved, and could not be renamed to %s: %w", i.Rename, err)
	}
	i.Target = i.Rename
	return nil
}
