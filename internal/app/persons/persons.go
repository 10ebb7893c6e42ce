// Package persons makes one person of those who have records in several registers: it shows who looks like one,
// merges when somebody says so, and splits again.
package persons

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/clock"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/personstore"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	Clock clock.Clock
}

// atOnce is how many people are merged in one transaction.
const atOnce = 200

// settled is how long after a merge whatever was at work then has come to its end.
const settled = time.Minute

// Most is how many pairs can be merged with one call.
const Most = 20000

// LookFor looks which records of a register look like one person's with those of every other register.
func (s *Service) LookFor(ctx context.Context, interfaceID string) error {
	all, err := personstore.Registers(ctx, s.Store)
	if err != nil || len(all) < 2 {
		return err
	}
	m := roster.DefaultMatching()
	if m.Domains, err = personstore.DomainRules(ctx, s.Store); err != nil {
		return err
	}
	var mine []roster.Record
	if slices.Contains(all, interfaceID) {
		if mine, err = personstore.Comparable(ctx, s.Store, interfaceID); err != nil {
			return err
		}
	}
	for _, other := range all {
		if other == interfaceID {
			continue
		}
		theirs, err := personstore.Comparable(ctx, s.Store, other)
		if err != nil {
			return err
		}
		a, b, first, second := interfaceID, other, mine, theirs
		if other < interfaceID {
			a, b, first, second = other, interfaceID, theirs, mine
		}
		pairs := roster.SamePeople(first, second, m)
		if err := s.Store.InTx(ctx, func(tx *db.Tx) error {
			if err := personstore.KeepSame(ctx, tx, a, b, pairs); err != nil {
				return err
			}
			return tx.Announce(ctx, topic, "")
		}); err != nil {
			return err
		}
	}
	return nil
}

// topic is that of the news that people are others than before, or look like others.
const topic = "person"

// Same lists what looks like one person, and how many pairs there are by how sure that is.
func (s *Service) Same(ctx context.Context, f personstore.SameFilter) ([]personstore.Same, map[string]int, error) {
	list, err := personstore.SamePeople(ctx, s.Store, f)
	if err != nil {
		return nil, nil, err
	}
	if f.After != "" && len(list) == 0 {
		there, err := personstore.SamePeople(ctx, s.Store, personstore.SameFilter{IDs: []string{f.After}})
		if err != nil {
			return nil, nil, err
		}
		if len(there) == 0 {
			return nil, nil, refusal.Invalid("cursor",
				"what it follows is not in the list any more; begin with the first page")
		}
	}
	counts, err := personstore.CountSame(ctx, s.Store)
	return list, counts, err
}

// Records lists what registers have of a person.
func (s *Service) Records(ctx context.Context, personID string) ([]personstore.Record, error) {
	return personstore.Records(ctx, s.Store, personID)
}

// Now gives the id that somebody has now.
func (s *Service) Now(ctx context.Context, id string) (string, error) {
	now, err := personstore.PeopleNow(ctx, s.Store, id)
	return now[id], err
}

// Merges lists those that hold, the newest first, of one person if given.
func (s *Service) Merges(ctx context.Context, personID, before string, limit int) ([]personstore.Merge, error) {
	return personstore.Merges(ctx, s.Store, personID, before, limit)
}

// Outcome says what became of a pair that was to be merged.
type Outcome struct {
	PersonID, OtherID string
	Name, Other       string
	MergeID           string // empty when they were not
	Why               string // they were not
	Clashes           []personstore.Clash
}

// Wish is two persons who are to become one.
type Wish struct {
	PersonID string // who remains
	OtherID  string
	Evidence []string
	Accounts map[string]string // by interface, the account that is used where both have one
}

// MergeTwo makes one person of two, whether or not they were proposed; what spoke for it is kept if they were.
func (s *Service) MergeTwo(ctx context.Context, who string, w Wish) (Outcome, error) {
	var err error
	if w.PersonID, err = s.Now(ctx, w.PersonID); err == nil {
		w.OtherID, err = s.Now(ctx, w.OtherID)
	}
	if err != nil {
		return Outcome{}, err
	}
	list, err := personstore.SamePeople(ctx, s.Store, personstore.SameFilter{PersonID: w.PersonID})
	if err != nil {
		return Outcome{}, err
	}
	for _, x := range list {
		if x.A.PersonID == w.OtherID || x.B.PersonID == w.OtherID {
			w.Evidence = x.Signs
		}
	}
	all, err := s.Merge(ctx, who, []Wish{w})
	if err != nil || len(all) == 0 {
		return Outcome{}, err
	}
	return all[0], nil
}

// Merge makes one person of two each. Whoever cannot be merged is left as they are, and it is said why.
func (s *Service) Merge(ctx context.Context, who string, wishes []Wish) (all []Outcome, err error) {
	if len(wishes) > Most {
		return nil, refusal.Invalid("pairs", "%d are more than the %d that can be merged at once", len(wishes),
			Most)
	}
	for len(wishes) > 0 {
		var now []Wish
		if now, err = s.next(ctx, wishes); err != nil {
			return all, err
		}
		wishes = wishes[len(now):]
		some, err := s.merge(ctx, who, now)
		all = append(all, some...)
		if err != nil {
			return all, err
		}
	}
	return all, nil
}

// next gives the first of some wishes, with the ids that people have now, of whom nobody is in two: what becomes of
// the others is known when these are merged.
func (s *Service) next(ctx context.Context, wishes []Wish) (now []Wish, err error) {
	now = slices.Clone(wishes[:min(atOnce, len(wishes))])
	var ids []string
	for _, w := range now {
		ids = append(ids, w.PersonID, w.OtherID)
	}
	are, err := personstore.PeopleNow(ctx, s.Store, ids...)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for i := range now {
		w := &now[i]
		w.PersonID, w.OtherID = are[w.PersonID], are[w.OtherID]
		if seen[w.PersonID] || seen[w.OtherID] {
			return now[:i], nil
		}
		seen[w.PersonID], seen[w.OtherID] = true, true
	}
	return now, nil
}

// merge makes one person of each of some pairs of whom nobody is in two.
func (s *Service) merge(ctx context.Context, who string, wishes []Wish) (all []Outcome, err error) {
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if all, err = s.judge(ctx, tx, wishes); err != nil {
			return err
		}
		var merges []personstore.Merge
		keep := map[string]map[string]string{}
		var people []string
		for i := range all {
			o := &all[i]
			if o.Why != "" {
				continue
			}
			m := personstore.Merge{
				ID: db.NewID(), PersonID: o.PersonID, OtherID: o.OtherID, Name: o.Name, Other: o.Other,
				Evidence: append([]string{}, wishes[i].Evidence...), MergedBy: who, MergedAt: s.Clock.Now(),
			}
			o.MergeID = m.ID
			if len(wishes[i].Accounts) > 0 {
				keep[m.ID] = wishes[i].Accounts
			}
			merges, people = append(merges, m), append(people, m.PersonID)
			if err := tx.Audit(ctx, who, "merged two people", "person/"+m.PersonID, map[string]any{
				"other": m.OtherID, "name": m.Other, "evidence": m.Evidence, "accounts": wishes[i].Accounts,
			}); err != nil {
				return err
			}
		}
		if len(merges) == 0 {
			return nil
		}
		if err := personstore.MergePeople(ctx, tx, merges, keep); err != nil {
			return err
		}
		return s.follow(ctx, tx, who, people)
	})
	if errors.Is(err, db.ErrTaken) {
		return nil, refusal.Conflict("", "somebody else has just merged one of them; look at the list again")
	}
	return all, err
}

// judge says of each pair whether they can be merged, and why not.
func (s *Service) judge(ctx context.Context, tx *db.Tx, wishes []Wish) (all []Outcome, err error) {
	var people, others []string
	for _, w := range wishes {
		people, others = append(people, w.PersonID), append(others, w.OtherID)
	}
	records, err := personstore.Records(ctx, tx, append(slices.Clone(people), others...)...)
	if errors.Is(err, db.ErrNotFound) {
		return nil, refusal.Invalid("people", "one of these is no id of a person")
	}
	if err != nil {
		return nil, err
	}
	of := map[string][]personstore.Record{}
	for _, r := range records {
		of[r.PersonID] = append(of[r.PersonID], r)
	}
	clashes, err := personstore.Clashes(ctx, tx, people, others)
	if err != nil {
		return nil, err
	}
	for _, w := range wishes {
		o := Outcome{PersonID: w.PersonID, OtherID: w.OtherID}
		mine, theirs := of[w.PersonID], of[w.OtherID]
		if len(mine) > 0 {
			o.Name = named(mine[0])
		}
		if len(theirs) > 0 {
			o.Other = named(theirs[0])
		}
		for _, c := range clashes {
			if c.PersonID == w.PersonID && c.OtherID == w.OtherID {
				o.Clashes = append(o.Clashes, c)
			}
		}
		o.Why = why(w, mine, theirs, o.Clashes)
		all = append(all, o)
	}
	return all, nil
}

func named(r personstore.Record) string { return strings.TrimSpace(r.GivenName + " " + r.FamilyName) }

// why says why two persons cannot be merged, "" when they can.
func why(w Wish, mine, theirs []personstore.Record, clashes []personstore.Clash) string {
	switch {
	case w.PersonID == w.OtherID:
		return "they are one person already"
	case len(mine) == 0 || len(theirs) == 0:
		return "one of them is not in a register any more"
	}
	for _, a := range append(slices.Clone(mine), theirs...) {
		if a.Test {
			return named(a) + " is a test learner"
		}
		if a.Second {
			return named(a) + " in " + a.Register +
				" is somebody's second account: that person is merged, not the account"
		}
	}
	for _, a := range mine {
		for _, b := range theirs {
			if a.InterfaceID == b.InterfaceID {
				return fmt.Sprintf("both have a record in %s (%s and %s): if one is a second account there, say that under "+
					"Second accounts and test learners of the register", a.Register, a.Identifier, b.Identifier)
			}
		}
	}
	for _, c := range clashes {
		switch c.Kind {
		case personstore.ClashProof:
			return "a proof is under way with " + c.Subject + ": revert it first"
		case personstore.ClashBadge:
			return fmt.Sprintf("both hold the badge %s, and a person holds a badge once: revoke one of the two awards first", c.Subject)
		case personstore.ClashAccount:
			if chosen := w.Accounts[c.InterfaceID]; chosen != c.Mine && chosen != c.Theirs {
				return fmt.Sprintf("both have an account at %s (%s and %s): say which of them is used from now on", c.Subject,
					c.Mine, c.Theirs)
			}
		}
	}
	return ""
}

// MergeSame merges the pairs with some ids, or all of which it is sure; expected is how many somebody has seen. The
// record that came first remains, and the evidence is kept.
func (s *Service) MergeSame(ctx context.Context, who string, ids []string, sure bool, expected int) ([]Outcome,
	error,
) {
	f := personstore.SameFilter{IDs: ids}
	switch {
	case sure && len(ids) > 0:
		return nil, refusal.Invalid("ids", "name pairs, or take all that are sure, but not both")
	case sure:
		f.Certainty = roster.Sure
	case len(ids) == 0:
		return nil, refusal.Invalid("ids", "is missing: name the pairs that you have looked at")
	}
	list, err := personstore.SamePeople(ctx, s.Store, f)
	if err != nil {
		return nil, err
	}
	if sure && len(list) != expected {
		return nil, refusal.Conflict("", "%d are sure now, not %d: look at them again", len(list), expected)
	}
	if !sure && len(list) < len(slices.Compact(slices.Sorted(slices.Values(ids)))) {
		return nil, refusal.Conflict("", "something of this is not proposed any more; look at the list again")
	}
	wishes := make([]Wish, len(list))
	for i, x := range list {
		wishes[i] = Wish{PersonID: x.A.PersonID, OtherID: x.B.PersonID, Evidence: x.Signs}
	}
	return s.Merge(ctx, who, wishes)
}

// KeepApart keeps that pairs are two people each, so that they are not proposed again.
func (s *Service) KeepApart(ctx context.Context, who string, ids []string) (int, error) {
	if len(ids) == 0 {
		return 0, refusal.Invalid("ids", "is missing: name the pairs that you have looked at")
	}
	list, err := personstore.SamePeople(ctx, s.Store, personstore.SameFilter{IDs: ids})
	if err != nil {
		return 0, err
	}
	if len(list) == 0 {
		return 0, refusal.Conflict("", "nothing of this is proposed any more; look at the list again")
	}
	return len(list), s.Store.InTx(ctx, func(tx *db.Tx) error {
		for _, x := range list {
			if err := personstore.KeepApart(ctx, tx, x, who); err != nil {
				return err
			}
			if err := tx.Audit(ctx, who, "said that two records are two people", "person/"+x.A.PersonID,
				map[string]any{"other": x.B.PersonID}); err != nil {
				return err
			}
		}
		return tx.Announce(ctx, topic, "")
	})
}

// KeptApart lists who were said to be two people.
func (s *Service) KeptApart(ctx context.Context) ([]personstore.Apart, error) {
	return personstore.KeptApart(ctx, s.Store)
}

// Forget drops that two records are two people, so that they may be proposed again.
func (s *Service) Forget(ctx context.Context, who, id string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		registers, err := personstore.Rejoin(ctx, tx, id)
		if err != nil {
			return err
		}
		if len(registers) == 0 {
			return fmt.Errorf("dropping that they are two people: %w", db.ErrNotFound)
		}
		if err := tx.Audit(ctx, who, "dropped that two records are two people", "pair/"+id, nil); err != nil {
			return err
		}
		return tx.Enqueue(ctx, jobs.Propose{InterfaceID: registers[0]})
	})
}

// Split makes two persons of one again who was merged.
func (s *Service) Split(ctx context.Context, who, mergeID string) (personstore.Merge, error) {
	m, err := personstore.FindMerge(ctx, s.Store, mergeID)
	if err != nil {
		return m, err
	}
	if m.SplitAt != nil {
		return m, refusal.Conflict("", "%s and %s are two people again already", m.Name, m.Other)
	}
	later, err := personstore.MergeOf(ctx, s.Store, m.PersonID)
	if err == nil {
		return m, refusal.Conflict("",
			"%s was merged with %s after that: split those first (kanban people split %s)", m.Name,
			later.Name, later.ID)
	}
	if !errors.Is(err, db.ErrNotFound) {
		return m, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := personstore.SplitPeople(ctx, tx, m, who, s.Clock.Now()); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "split two people", "person/"+m.PersonID,
			map[string]any{"other": m.OtherID, "merge": m.ID}); err != nil {
			return err
		}
		if err := s.proposeAgain(ctx, tx, m.PersonID, m.OtherID); err != nil {
			return err
		}
		return s.follow(ctx, tx, who, []string{m.PersonID, m.OtherID})
	})
	if errors.Is(err, db.ErrStale) {
		return m, refusal.Conflict("", "somebody else has just split them")
	}
	if err != nil {
		return m, err
	}
	return personstore.FindMerge(ctx, s.Store, mergeID)
}

// follow lets everything follow from people being others than before: their classes are compared, and stage plans
// worked out.
func (s *Service) follow(ctx context.Context, tx *db.Tx, who string, people []string) error {
	ids, err := personstore.PairingsOf(ctx, tx, people)
	if err != nil {
		return err
	}
	pairings, err := pairingstore.PairingsByID(ctx, tx, ids)
	if err != nil {
		return err
	}
	if err := pairingstore.AskComparison(ctx, tx, who, false, slices.SortedFunc(maps.Values(pairings),
		func(a, b pairingstore.Pairing) int { return cmp.Compare(a.ID, b.ID) })...); err != nil {
		return err
	}
	touched, err := personstore.TouchedOf(ctx, tx, people)
	if err != nil {
		return err
	}
	work := jobs.WorkOutStages{People: people, Courses: touched.Courses, Badges: touched.Badges}
	if err := tx.Enqueue(ctx, work, jobs.ResolveStatements{}); err != nil {
		return err
	}
	if err := tx.EnqueueAt(ctx, s.Clock.Now().Add(settled), jobs.MovePeople{}); err != nil {
		return err
	}
	if err := tx.Announce(ctx, "section", ""); err != nil {
		return err
	}
	return tx.Announce(ctx, topic, "")
}

// proposeAgain lets it be looked anew whom the registers of people share: who is one person is proposed no more, and
// may be again when they are split.
func (s *Service) proposeAgain(ctx context.Context, tx *db.Tx, people ...string) error {
	records, err := personstore.Records(ctx, tx, people...)
	if err != nil {
		return err
	}
	for _, r := range records {
		if err := tx.Enqueue(ctx, jobs.Propose{InterfaceID: r.InterfaceID}); err != nil {
			return err
		}
	}
	return nil
}

// MoveRest moves what came to name merged people while they were being merged; it is called a while after that, and
// every night.
func (s *Service) MoveRest(ctx context.Context) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error { return personstore.MoveRest(ctx, tx) })
}
