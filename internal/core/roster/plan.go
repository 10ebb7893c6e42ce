package roster

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"slices"
	"strconv"
	"strings"

	"kanban/internal/core/finding"
)

// Plan is the result of a comparison.
type Plan struct {
	// Entries has one entry per person, those that need somebody first.
	Entries []Entry `json:"entries"`
	// Fingerprint identifies everything the plan would do and say. Two plans
	// with one fingerprint make the same run.
	Fingerprint string `json:"fingerprint"`
}

func newPlan(entries []Entry) Plan {
	order := make([]int32, len(entries))
	for i := range order {
		order[i] = int32(i)
	}
	slices.SortFunc(order, func(i, j int32) int {
		a, b := &entries[i], &entries[j]
		if a.Outcome != b.Outcome {
			return slices.Index(Outcomes, a.Outcome) - slices.Index(Outcomes, b.Outcome)
		}
		if c := strings.Compare(a.Name, b.Name); c != 0 {
			return c
		}
		return strings.Compare(a.Key(), b.Key())
	})
	sorted := make([]Entry, len(entries))
	sum := sha256.New()
	text := make([]byte, 0, 512)
	for at, i := range order {
		sorted[at] = entries[i]
		text = entries[i].append(text[:0])
		_, _ = sum.Write(text) // never fails
	}
	return Plan{Entries: sorted, Fingerprint: hex.EncodeToString(sum.Sum(nil)[:16])}
}

// append writes everything about the entry, so that two entries give the same
// bytes only when they are equal.
func (e *Entry) append(text []byte) []byte {
	for _, part := range [...]string{
		e.PersonID, e.AccountID, e.Name, string(e.Role), string(e.Outcome), string(e.Reason), e.Detail,
		e.Want.GivenName, e.Want.FamilyName, e.Want.Email, e.Want.UserName, e.Want.Identifier, e.Was.GivenName,
		e.Was.FamilyName, e.Was.Email, e.Was.UserName, e.Was.Identifier, strconv.FormatBool(e.Deactivate),
		strconv.FormatBool(e.Activate), strconv.FormatBool(e.TakeOver),
		strings.Join(e.Join, " "), strings.Join(e.Quit, " "),
	} {
		text = append(binary.AppendUvarint(text, uint64(len(part))), part...)
	}
	return text
}

// Counts says how many people ended in each outcome; the counts add up to the
// number of entries.
func (p Plan) Counts() Counts {
	c := make(Counts, len(Outcomes))
	for _, e := range p.Entries {
		c[e.Outcome]++
	}
	return c
}

// CountsNow counts people by how they stand: who was refused the same change last time needs
// a person.
func (p Plan) CountsNow() Counts {
	c := p.Counts()
	for _, e := range p.Entries {
		if e.Refused != "" {
			c[e.Outcome]--
			c[OutcomeNeedsPerson]++
		}
	}
	return c
}

// Counts holds a number of people per outcome.
type Counts map[Outcome]int

// Changes is the number of people whom a run would add, update or remove.
func (c Counts) Changes() int { return c[OutcomeAdd] + c[OutcomeUpdate] + c[OutcomeRemove] }

// Total is the number of people counted.
func (c Counts) Total() int {
	n := 0
	for _, v := range c {
		n += v
	}
	return n
}

// GuardTripped reports whether the plan would remove more people than the
// policy allows without somebody's approval, and how many it would remove.
func (p Plan) GuardTripped(policy Policy) (removals int, tripped bool) {
	inTarget := 0
	for _, e := range p.Entries {
		switch {
		case e.Outcome == OutcomeRemove:
			removals++
			inTarget++
		case e.Outcome == OutcomeInStep, e.Outcome == OutcomeUpdate:
			inTarget++
		}
	}
	tripped = policy.RemovalNumber > 0 && removals > policy.RemovalNumber ||
		policy.RemovalShare > 0 && removals > 1 && float64(removals) > policy.RemovalShare*float64(inTarget)
	return removals, tripped
}

// TakeOvers says how many people's places Kanban minds from the run on, and how many of
// the target's members stay somebody else's.
func (p Plan) TakeOvers() (ours, others int) {
	for _, e := range p.Entries {
		switch {
		case e.TakeOver:
			ours++
		case (e.Reason == finding.NotOurs || e.Reason == finding.OtherSection) && e.Outcome == OutcomeLeftOut:
			others++
		}
	}
	return ours, others
}

// Keeps reports whether doing p keeps the promise of an older plan: everybody gets
// the outcome that was shown. Only accounts may have come into being since, as when
// another run made them; the people are put in all the same.
func (p Plan) Keeps(older Plan) bool {
	if p.Fingerprint == older.Fingerprint {
		return true
	}
	if len(p.Entries) != len(older.Entries) {
		return false
	}
	before := make(map[string]*Entry, len(older.Entries))
	for i := range older.Entries {
		before[older.Entries[i].Key()] = &older.Entries[i]
	}
	for i := range p.Entries {
		now := p.Entries[i]
		was, ok := before[now.Key()]
		if ok && was.Reason == finding.NewAccount && now.Reason == finding.NewMember {
			now.Reason, now.AccountID, now.Detail = was.Reason, was.AccountID, was.Detail
		}
		if !ok || !now.Same(*was) {
			return false
		}
	}
	return true
}

// Move is one person about whom two plans disagree.
type Move struct {
	Name   string `json:"name"`
	Before string `json:"before"` // outcome in the older plan, empty when not in it
	After  string `json:"after"`  // outcome in the newer plan, empty when not in it
}

// Moved lists what changed from one plan to a newer one, ordered by name.
func Moved(older, newer Plan) []Move {
	before := make(map[string]Entry, len(older.Entries))
	for _, e := range older.Entries {
		before[e.Key()] = e
	}
	var moves []Move
	for _, e := range newer.Entries {
		was, known := before[e.Key()]
		delete(before, e.Key())
		if known && was.Same(e) {
			continue
		}
		moves = append(moves, Move{Name: e.Name, Before: string(was.Outcome), After: string(e.Outcome)})
	}
	for _, e := range before {
		moves = append(moves, Move{Name: e.Name, Before: string(e.Outcome)})
	}
	slices.SortFunc(moves, func(a, b Move) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name),
			cmp.Compare(a.After, b.After))
	})
	return moves
}
