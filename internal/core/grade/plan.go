package grade

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"math"
	"slices"
	"strings"
)

// Plan is the result of a comparison.
type Plan struct {
	Items []ItemPlan
}

// Counts holds a number of results per outcome.
type Counts map[Outcome]int

// Counts says how many results of an assignment ended in each outcome; they add up to the number of its entries.
func (i ItemPlan) Counts() Counts {
	c := Counts{}
	for k := range i.Entries {
		c[i.Entries[k].Outcome]++
	}
	return c
}

// Counts says how many results ended in each outcome.
func (p Plan) Counts() Counts {
	c := Counts{}
	for _, i := range p.Items {
		for o, n := range i.Counts() {
			c[o] += n
		}
	}
	return c
}

// Total is the number of results counted.
func (c Counts) Total() int {
	n := 0
	for _, v := range c {
		n += v
	}
	return n
}

// Changes is the number of results that a run sends.
func (c Counts) Changes() int { return c[New] + c[Update] + c[Replacing] }

// Losses are the entries that take away a value of the book's own.
func (p Plan) Losses() []Entry {
	var list []Entry
	for _, i := range p.Items {
		for _, e := range i.Entries {
			if e.Outcome == Replacing && !e.Theirs.Blank() {
				list = append(list, e)
			}
		}
	}
	return list
}

// Fingerprint identifies everything that the plan would do and say: two plans
// with one fingerprint make the same run.
func (p Plan) Fingerprint() string {
	sum := sha256.New()
	text := make([]byte, 0, 256)
	put := func(part string) { text = append(binary.AppendUvarint(text, uint64(len(part))), part...) }
	mark := func(m *Mark) {
		text = append(text, byte(m.Kind), byte(m.Flags))
		text = binary.BigEndian.AppendUint64(text, math.Float64bits(m.Points))
		put(m.Text)
		put(m.Comment)
	}
	for _, i := range p.Items {
		put(i.ID)
		text = append(text, byte(i.Outcome), byte(len(i.Reasons)))
		for _, r := range i.Reasons {
			put(string(r))
		}
		for k := range i.Entries {
			e := &i.Entries[k]
			put(e.Who)
			put(string(e.Reason))
			text = append(text, byte(e.Outcome), byte(e.Lost))
			mark(&e.Was)
			mark(&e.Theirs)
			mark(&e.Ours)
			_, _ = sum.Write(text) // never fails
			text = text[:0]
		}
	}
	_, _ = sum.Write(text)
	return hex.EncodeToString(sum.Sum(nil)[:16])
}

// Keeps reports whether the plan does everything that an earlier one would have done, to the same values of the book:
// what it does beside that is new.
func (p Plan) Keeps(earlier Plan) bool {
	items := make(map[string]*ItemPlan, len(p.Items))
	for i := range p.Items {
		items[p.Items[i].ID] = &p.Items[i]
	}
	for i := range earlier.Items {
		had := &earlier.Items[i]
		now := items[had.ID]
		if had.Outcome == ItemMade && (now == nil || now.Outcome != ItemMade) {
			return false
		}
		for k := range had.Entries {
			e := &had.Entries[k]
			if !e.Outcome.Writes() {
				continue
			}
			if !now.Entry(e.Who).Keeps(e) {
				return false
			}
		}
	}
	return true
}

// Keeps reports whether an entry does what an earlier one would have done, to the same value of the book; without an
// entry it does not.
func (e *Entry) Keeps(earlier *Entry) bool {
	return e != nil && e.Outcome == earlier.Outcome && e.Theirs == earlier.Theirs && e.Ours == earlier.Ours
}

// Item is the plan of an assignment, nil when there is none.
func (p Plan) Item(id string) *ItemPlan {
	at := slices.IndexFunc(p.Items, func(i ItemPlan) bool { return i.ID == id })
	if at < 0 {
		return nil
	}
	return &p.Items[at]
}

// Entry is that of a person, nil when there is none.
func (i *ItemPlan) Entry(who string) *Entry {
	if i == nil {
		return nil
	}
	at, there := slices.BinarySearchFunc(i.Entries, who, func(e Entry, who string) int {
		return strings.Compare(e.Who, who)
	})
	if !there {
		return nil
	}
	return &i.Entries[at]
}
