package grade

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/finding"
)

func points(p float64) Mark { return Mark{Kind: Points, Points: p} }

// one compares a single result of an assignment worth ten points on both sides.
func one(change func(*Item, *Policy)) Entry {
	item := Item{
		ID: "i", Source: LineItem{ID: "s", Title: "Essay", Maximum: 10},
		Book: &LineItem{ID: "b", Title: "Essay", Maximum: 10},
	}
	policy := DefaultPolicy()
	change(&item, &policy)
	return Compare([]Item{item}, policy).Items[0].Entries[0]
}

// Was × theirs × ours × mode, all of it: each value is absent, or one of three.
func TestThreeWays(t *testing.T) {
	values := map[string]*Mark{
		"-": nil, "4": {Kind: Points, Points: 4}, "7": {Kind: Points, Points: 7},
		"9": {Kind: Points, Points: 9},
	}
	names := []string{"-", "4", "7", "9"}
	for _, was := range names {
		for _, theirs := range names {
			for _, ours := range names {
				for _, mode := range []Mode{FillAndUpdate, BlanksOnly, Replace} {
					if was == "-" && theirs == "-" && ours == "-" {
						continue
					}
					e := one(func(i *Item, p *Policy) {
						p.Mode = mode
						if v := values[was]; v != nil {
							i.Carried = []Carried{{Who: "a", Mark: *v}}
						}
						if v := values[theirs]; v != nil {
							i.Held = []Held{{Who: "a", Mark: *v}}
						}
						if v := values[ours]; v != nil {
							i.Results = []Result{{Who: "a", Status: Final, Mark: *v}}
						}
					})
					name := fmt.Sprintf("was %s, theirs %s, ours %s, mode %d: %s %s", was, theirs, ours, mode,
						e.Outcome, e.Reason)
					switch {
					case ours == "-" && was == "-":
						assert.Equal(t, BookOnly, e.Outcome, name)
					case ours == "-":
						assert.Equal(t, Waiting, e.Outcome, name) // what is gone ends nothing
					case theirs == ours:
						assert.Equal(t, Unchanged, e.Outcome, name)
					case was == "-" && theirs == "-":
						assert.Equal(t, New, e.Outcome, name)
					case was == theirs && mode == BlanksOnly:
						assert.Equal(t, Kept, e.Outcome, name)
					case was == theirs:
						assert.Equal(t, Update, e.Outcome, name)
					case mode == Replace:
						assert.Equal(t, Replacing, e.Outcome, name)
					case mode == BlanksOnly && theirs != "-":
						assert.Equal(t, Kept, e.Outcome, name)
					default:
						assert.Equal(t, Conflict, e.Outcome, name)
					}
					if e.Outcome == Update || e.Outcome == New { // nothing of the book's own is ever lost by these
						assert.True(t, theirs == "-" || theirs == was, name)
					}
					assert.NotEmpty(t, e.Reason, name)
				}
			}
		}
	}
}

func TestOnlyWhatIsFinalTravels(t *testing.T) {
	given := func(change func(*Result)) Entry {
		return one(func(i *Item, _ *Policy) {
			r := Result{Who: "a", Status: Final, Mark: points(7)}
			change(&r)
			i.Results = []Result{r}
		})
	}
	for reason, change := range map[finding.Code]func(*Result){
		finding.ScoreUnmarked:       func(r *Result) { r.Status, r.Mark = Unmarked, Mark{} },
		finding.ScoreDraft:          func(r *Result) { r.Status = Draft },
		finding.ScorePartly:         func(r *Result) { r.Status = Partly },
		finding.ScoreUnreleased:     func(r *Result) { r.Status = Unreleased },
		finding.ScoreNotGiven:       func(r *Result) { r.NotGiven = true },
		finding.ScoreMoved:          func(r *Result) { r.Elsewhere = "B" },
		finding.ScoreNotInBook:      func(r *Result) { r.NotInBook = true },
		finding.ScoreOfUnknown:      func(r *Result) { r.Unknown = true },
		finding.ScoreNothingToCarry: func(r *Result) { r.Mark = Mark{} },
	} {
		e := given(change)
		assert.Equal(t, Waiting, e.Outcome, reason)
		assert.Equal(t, reason, e.Reason)
	}
	assert.Equal(t, New, given(func(*Result) {}).Outcome)
	// That somebody is missing or exempt is said although nothing was marked.
	missing := given(func(r *Result) { r.Status, r.Mark = Unmarked, Mark{Flags: Missing} })
	assert.Equal(t, New, missing.Outcome)
	assert.Equal(t, Mark{Flags: Missing}, missing.Ours)
	// But never of somebody who was not given it.
	assert.Equal(t, finding.ScoreNotGiven,
		given(func(r *Result) { r.NotGiven, r.Mark = true, Mark{Flags: Missing} }).Reason)
	// Work that was handed in again is to be marked again; its score stays.
	again := given(func(r *Result) {
		r.Marked = time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC)
		r.Submitted = r.Marked.Add(time.Hour)
	})
	assert.True(t, again.Again)
	assert.Equal(t, New, again.Outcome)
}

func TestWhatIsNotReadEndsNothing(t *testing.T) {
	carried := func(i *Item) {
		i.Carried = []Carried{{Who: "a", Mark: points(7)}}
		i.Held = []Held{{Who: "a", Mark: points(7)}}
	}
	assert.Equal(t, finding.ScoreVanished, one(func(i *Item, _ *Policy) { carried(i) }).Reason)
	assert.Equal(t, finding.ScoreNotRead, one(func(i *Item,
		_ *Policy,
	) {
		carried(i)
		i.SourceIncomplete = true
	}).Reason)
	gone := one(func(i *Item, _ *Policy) { carried(i); i.Source.Gone = true })
	assert.Equal(t, finding.ItemGoneAtSource, gone.Reason)
	assert.Equal(t, Waiting, gone.Outcome)
	deleted := one(func(i *Item, _ *Policy) {
		carried(i)
		i.Results = []Result{{Who: "a", Status: Final, Deleted: true}}
	})
	assert.Equal(t, Withdrawn, deleted.Outcome)
	decided := func(take Side, theirs float64) Entry {
		return one(func(i *Item, _ *Policy) {
			carried(i)
			i.Results = []Result{{Who: "a", Status: Final, Deleted: true}}
			i.Decisions = []Decision{{Who: "a", Take: take, Theirs: points(theirs)}}
		})
	}
	assert.Equal(t, Kept, decided(Theirs, 7).Outcome)
	assert.Equal(t, Replacing, decided(Ours, 7).Outcome)
	assert.True(t, decided(Ours, 7).Ours.Blank())
	assert.Equal(t, Withdrawn, decided(Ours, 8).Outcome, "the book has changed since it was decided")
	nowhere := one(func(i *Item, _ *Policy) {
		carried(i)
		i.Held, i.Results = nil, []Result{{Who: "a", Status: Final, Deleted: true}}
	})
	assert.Equal(t, Unchanged, nowhere.Outcome, "neither side has it any more")
	handed := one(func(i *Item, _ *Policy) {
		i.BookUnknown, i.Held, i.Carried = true, nil, []Carried{{Who: "a", Mark: points(7)}}
		i.Results = []Result{{Who: "a", Status: Final, Deleted: true}}
	})
	assert.Equal(t, Withdrawn, handed.Outcome, "what was handed over may be there")
	// Of a book that was not read, what was handed over last is all that is known.
	book := func(was, ours float64) Entry {
		return one(func(i *Item, _ *Policy) {
			i.BookUnknown = true
			if was > 0 {
				i.Carried = []Carried{{Who: "a", Mark: points(was)}}
			}
			i.Results = []Result{{Who: "a", Status: Final, Mark: points(ours)}}
		})
	}
	assert.Equal(t, New, book(0, 7).Outcome)
	assert.Equal(t, Unchanged, book(7, 7).Outcome)
	assert.Equal(t, finding.BookNotRead, book(7, 8).Reason)
	assert.False(t, book(7, 8).Outcome.Writes())
}

func TestWhatCannotBeCarriedIsRefused(t *testing.T) {
	given := func(m Mark, change func(*Item, *Policy)) Entry {
		return one(func(i *Item, p *Policy) {
			i.Results = []Result{{Who: "a", Status: Final, Mark: m}}
			if change != nil {
				change(i, p)
			}
		})
	}
	for reason, e := range map[finding.Code]Entry{
		finding.ScoreNegative:    given(points(-1), nil),
		finding.ScoreOverMaximum: given(points(11), nil),
		finding.ScoreUnreadable:  given(points(math.NaN()), nil),
		finding.ScoreNotScalable: given(points(1), func(i *Item, _ *Policy) { i.Book.Maximum = 0 }),
		finding.ScoreTextUnmapped: given(Mark{Kind: Text, Text: "good"}, func(i *Item,
			_ *Policy,
		) {
			i.Scale = Scale{}
		}),
		finding.ScoreTwice: given(points(1), func(i *Item, _ *Policy) {
			i.Results = append(i.Results, i.Results[0])
		}),
	} {
		assert.Equal(t, Refused, e.Outcome, reason)
		assert.Equal(t, reason, e.Reason)
	}
	assert.Equal(t, 11.0, given(points(11), func(_ *Item, p *Policy) { p.Book.OverMaximum = true }).Ours.Points)
	locked := given(points(1), func(i *Item, _ *Policy) { i.Held = []Held{{Who: "a", Locked: true}} })
	assert.Equal(t, finding.ScoreLocked, locked.Reason)
	assert.False(t, locked.Outcome.Writes())
}

func TestValuesInTheBooksTerms(t *testing.T) {
	given := func(m Mark, change func(*Item, *Policy)) Entry {
		return one(func(i *Item, p *Policy) {
			i.Results = []Result{{Who: "a", Status: Final, Mark: m}}
			change(i, p)
		})
	}
	scaled := given(points(7), func(i *Item, _ *Policy) { i.Book.Maximum = 30 })
	assert.Equal(t, 21.0, scaled.Ours.Points)
	assert.Equal(t, 7.0, scaled.Given.Points)
	assert.Equal(t, 2.33, given(points(7), func(i *Item, _ *Policy) {
		i.Source.Maximum, i.Book.Maximum = 30,
			10
	}).Ours.Points)
	assert.Equal(t, 1.01, Rounded(1.005, 2)) // although 1.005 is a little less in binary
	assert.Equal(t, -2.0, Rounded(-1.5, 0))
	scale := Scale{"good": points(8), "fail": {Kind: Text, Text: "F"}}
	assert.Equal(t, points(8), given(Mark{Kind: Text, Text: " Good "}, func(i *Item,
		_ *Policy,
	) {
		i.Scale = scale
	}).Ours)
	assert.Equal(t, "F", given(Mark{Kind: Text, Text: "fail"}, func(i *Item, _ *Policy) { i.Scale = scale }).Ours.Text)
	// A book that rounds has what was sent, and one that ignores case has the same text.
	assert.Equal(t, Unchanged, given(points(7.126), func(i *Item, _ *Policy) {
		i.Held = []Held{{
			Who:  "a",
			Mark: points(7.13),
		}}
	}).Outcome)
	// Comments travel when that is wanted, learners see them at the source, and cut to what fits.
	said := Mark{Kind: Points, Points: 5, Comment: "Wohlüberlegt"}
	assert.Empty(t, given(said, func(*Item, *Policy) {}).Ours.Comment)
	cut := given(said, func(_ *Item, p *Policy) { p.Comments, p.Book.MaxComment = true, 6 })
	assert.Equal(t, "Wohlüb", cut.Ours.Comment)
	assert.True(t, cut.Shortened)
	assert.Empty(t, given(said, func(i *Item, p *Policy) {
		p.Comments, i.Results[0].CommentHidden = true, true
	}).Ours.Comment)
	// Completion only.
	assert.Equal(t, Mark{Kind: Done}, given(points(3), func(i *Item, _ *Policy) { i.Content = Completions }).Ours)
	assert.Equal(t, finding.ItemWithoutScores, given(points(3), func(i *Item,
		_ *Policy,
	) {
		i.Content = Nothing
	}).Reason)
}

// Every flag × what becomes of the value × whether the book can hold it.
func TestFlags(t *testing.T) {
	for _, n := range flagNames {
		for _, rule := range []FlagValue{Keep, Zero, Blank} {
			for _, holds := range []bool{true, false} {
				for _, drop := range []bool{true, false} {
					e := one(func(i *Item, p *Policy) {
						p.Flags = map[Flags]FlagRule{n.flag: {Value: rule, Drop: drop}}
						p.Book.Flags = 0
						if holds {
							p.Book.Flags = n.flag
						}
						i.Results = []Result{{Who: "a", Status: Final, Mark: Mark{
							Kind: Points, Points: 5,
							Flags: n.flag,
						}}}
					})
					name := fmt.Sprintf("%s value %d holds %t drop %t", n.name, rule, holds, drop)
					assert.Equal(t, holds && !drop, e.Ours.Flags == n.flag, name)
					assert.Equal(t, !holds && !drop, e.Lost == n.flag, name)
					switch rule {
					case Keep:
						assert.Equal(t, 5.0, e.Ours.Points, name)
					case Zero:
						assert.Equal(t, Points, e.Ours.Kind, name)
						assert.Zero(t, e.Ours.Points, name)
					case Blank:
						assert.Equal(t, None, e.Ours.Kind, name)
						assert.Equal(t, e.Ours.Flags != 0, e.Outcome == New, name) // nothing is not carried as a blank
					}
				}
			}
		}
	}
	assert.Equal(t, "5 (missing, late)", Mark{Kind: Points, Points: 5, Flags: Missing | Late}.String())
}

func TestDecisionsHoldUntilEitherSideChanges(t *testing.T) {
	conflict := func(theirs, ours float64, d Decision) Entry {
		return one(func(i *Item, _ *Policy) {
			i.Carried = []Carried{{Who: "a", Mark: points(1)}}
			i.Held = []Held{{Who: "a", Mark: points(theirs)}}
			i.Results = []Result{{Who: "a", Status: Final, Mark: points(ours)}}
			i.Decisions = []Decision{{Who: "0"}, d}
		})
	}
	kept := Decision{Who: "a", Take: Theirs, Theirs: points(2), Ours: points(3)}
	assert.Equal(t, Kept, conflict(2, 3, kept).Outcome)
	assert.Equal(t, Conflict, conflict(2, 4, kept).Outcome)
	assert.Equal(t, Conflict, conflict(5, 3, kept).Outcome)
	taken := kept
	taken.Take = Ours
	assert.Equal(t, Replacing, conflict(2, 3, taken).Outcome)
	assert.Equal(t, Conflict, conflict(5, 3, taken).Outcome)
}

func TestAssignmentsThatAreNotCarried(t *testing.T) {
	for outcome, change := range map[ItemOutcome]func(*Item){
		ItemLeftOut:  func(i *Item) { i.LeftOut = true },
		ItemGone:     func(i *Item) { i.Book.Gone = true },
		ItemNotReady: func(i *Item) { i.Reasons = []finding.Code{finding.ItemNotDue} },
	} {
		item := Item{
			ID: "i", Source: LineItem{Maximum: 10}, Book: &LineItem{Maximum: 10},
			Results: []Result{{Who: "a", Status: Final, Mark: points(1)}},
		}
		change(&item)
		plan := Compare([]Item{item}, DefaultPolicy())
		assert.Equal(t, outcome, plan.Items[0].Outcome)
		assert.NotEmpty(t, plan.Items[0].Reasons)
		assert.Zero(t, plan.Counts().Changes(), outcome)
	}
	// Term grades are not touched, whatever is asked for.
	term := one(func(i *Item, p *Policy) {
		p.Mode, i.Book.Term = Replace, true
		i.Held = []Held{{Who: "a", Mark: points(1)}}
		i.Results = []Result{{Who: "a", Status: Final, Mark: points(2)}}
	})
	assert.Equal(t, finding.ItemTermGrade, term.Reason)
	assert.False(t, term.Outcome.Writes())
	final := one(func(i *Item, _ *Policy) {
		i.PeriodFinal = true
		i.Results = []Result{{Who: "a", Status: Final, Mark: points(2)}}
	})
	assert.Equal(t, finding.PeriodFinal, final.Reason)
	agrees := one(func(i *Item, _ *Policy) {
		i.PeriodFinal = true
		i.Held, i.Results = []Held{{Who: "a", Mark: points(2)}}, []Result{{Who: "a", Status: Final, Mark: points(2)}}
	})
	assert.Equal(t, Unchanged, agrees.Outcome, "what agrees is not held back")
	made := Compare([]Item{{ID: "i", Source: LineItem{Maximum: 5}}}, DefaultPolicy())
	assert.Equal(t, ItemMade, made.Items[0].Outcome)
}

// random makes items as damaged data would have them.
func random(r *rand.Rand) []Item {
	who := func() string { return string(rune('a' + r.IntN(8))) }
	mark := func() Mark {
		m := Mark{Kind: Kind(r.IntN(4)), Flags: Flags(r.IntN(32) &^ r.IntN(32))}
		switch m.Kind {
		case Points:
			m.Points = float64(r.IntN(30)-3) / 2
		case Text:
			m.Text = []string{"good", "Good", "bad"}[r.IntN(3)]
		case None, Done:
		}
		if r.IntN(4) == 0 {
			m.Comment = "well"
		}
		return m
	}
	items := make([]Item, r.IntN(4))
	for i := range items {
		x := Item{
			ID: fmt.Sprint(i), Source: LineItem{Maximum: float64(r.IntN(3) * 10), Gone: r.IntN(9) == 0},
			Content: Content(r.IntN(3)), LeftOut: r.IntN(9) == 0, PeriodFinal: r.IntN(9) == 0,
			SourceIncomplete: r.IntN(5) == 0, BookUnknown: r.IntN(5) == 0,
		}
		if r.IntN(3) > 0 {
			x.Book = &LineItem{Maximum: float64(r.IntN(3) * 10), Term: r.IntN(9) == 0}
		}
		for range r.IntN(12) {
			x.Results = append(x.Results, Result{
				Who: who(), Status: Status(r.IntN(5)), Mark: mark(), Deleted: r.IntN(9) == 0, Unknown: r.IntN(9) == 0,
			})
			x.Held = append(x.Held, Held{Who: who(), Mark: mark(), Locked: r.IntN(9) == 0})
		}
		seen := map[string]bool{}
		for range r.IntN(8) {
			if w := who(); !seen[w] {
				seen[w] = true
				x.Carried = append(x.Carried, Carried{Who: w, Mark: mark()})
			}
		}
		items[i] = x
	}
	return items
}

func TestComparisonKeepsItsPromises(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	for n := range 4000 {
		items, policy := random(r), DefaultPolicy()
		policy.Mode, policy.Comments = Mode(r.IntN(3)), r.IntN(2) == 0
		policy.Book.Flags &= Flags(r.IntN(32))
		plan := Compare(items, policy)

		// It partitions: each person whom either side has is in exactly one entry, with a reason.
		for k, item := range plan.Items {
			want := map[string]bool{}
			for _, x := range items[k].Results {
				want[x.Who] = true
			}
			for _, x := range items[k].Held {
				want[x.Who] = true
			}
			for _, x := range items[k].Carried {
				want[x.Who] = true
			}
			got := map[string]bool{}
			for _, e := range item.Entries {
				assert.False(t, got[e.Who], "twice")
				got[e.Who] = true
				assert.NotEmpty(t, e.Reason)
				// Without being told, a run never takes away what the book has of its own.
				if policy.Mode == FillAndUpdate && e.Outcome.Writes() && !e.Theirs.Blank() {
					assert.True(t, policy.same(&e.Theirs, &e.Was), "round %d: %+v", n, e)
				}
			}
			require.Equal(t, want, got)
			assert.Equal(t, len(item.Entries), item.Counts().Total())
		}

		// The order of what it is given does not matter.
		mixed := slices.Clone(items)
		r.Shuffle(len(mixed), func(i, j int) { mixed[i], mixed[j] = mixed[j], mixed[i] })
		for i := range mixed {
			if twice(mixed[i]) {
				continue // which of two is shown depends on the order; neither is carried
			}
			mixed[i].Held = slices.Clone(mixed[i].Held)
			slices.Reverse(mixed[i].Held)
			mixed[i].Carried = slices.Clone(mixed[i].Carried)
			slices.Reverse(mixed[i].Carried)
		}
		require.Equal(t, plan.Fingerprint(), Compare(mixed, policy).Fingerprint(), "round %d", n)

		// Once it is carried out there is nothing left to carry.
		require.Zero(t, Compare(carriedOut(items, plan), policy).Counts().Changes(), "round %d", n)
	}
}

func twice(i Item) bool {
	seen := map[string]bool{}
	for _, h := range i.Held {
		if seen[h.Who] {
			return true
		}
		seen[h.Who] = true
	}
	return false
}

// carriedOut is what both sides have once a plan was carried out.
func carriedOut(items []Item, plan Plan) []Item {
	after := slices.Clone(items)
	for k, item := range plan.Items {
		x := &after[k]
		x.Held, x.Carried = slices.Clone(x.Held), slices.Clone(x.Carried)
		if item.Outcome == ItemMade {
			x.Book = &LineItem{Maximum: x.Source.Maximum}
		}
		for _, e := range item.Entries {
			if !e.Outcome.Writes() {
				continue
			}
			x.Held = slices.DeleteFunc(x.Held, func(h Held) bool { return h.Who == e.Who })
			x.Held = append(x.Held, Held{Who: e.Who, Mark: e.Ours})
			x.Carried = slices.DeleteFunc(x.Carried, func(c Carried) bool { return c.Who == e.Who })
			x.Carried = append(x.Carried, Carried{Who: e.Who, Mark: e.Ours})
		}
	}
	return after
}

func TestRevertPutsBackWhatNobodyChangedSince(t *testing.T) {
	changes := []Change{
		{Item: "i", Who: "new", Sent: points(5)},
		{Item: "i", Who: "updated", Before: points(4), Sent: points(5)},
		{Item: "i", Who: "changed", Before: points(4), Sent: points(5)},
		{Item: "i", Who: "gone", Before: points(4), Sent: points(5)},
		{Item: "i", Who: "back", Before: points(4), Sent: points(5)},
	}
	book := map[string]Mark{"new": points(5), "updated": points(5), "changed": points(6), "back": points(4)}
	got := map[string]Revert{}
	for _, r := range RevertOf(changes, func(_, who string) (Mark, bool) { m, ok := book[who]; return m, ok },
		DefaultPolicy()) {
		got[r.Who] = r
	}
	assert.True(t, got["new"].Deletes)
	assert.Equal(t, Update, got["updated"].Outcome)
	assert.False(t, got["updated"].Deletes)
	assert.Equal(t, Conflict, got["changed"].Outcome)
	assert.Equal(t, Conflict, got["gone"].Outcome)
	assert.Equal(t, Unchanged, got["back"].Outcome)
}

// BenchmarkCompare compares 3,000 results of 40 assignments, of which a tenth changed.
func BenchmarkCompare(b *testing.B) {
	const people, assignments = 75, 40
	items := make([]Item, assignments)
	for i := range items {
		x := Item{ID: fmt.Sprintf("%03d", i), Source: LineItem{Maximum: 20}, Book: &LineItem{Maximum: 100}}
		for p := range people {
			who := fmt.Sprintf("person-%06d", p)
			x.Results = append(x.Results, Result{Who: who, Status: Final, Mark: points(float64(p % 20))})
			was := points(float64(p%20) * 5)
			if p%10 == 0 {
				was = points(1)
			}
			x.Held = append(x.Held, Held{Who: who, Mark: was})
			x.Carried = append(x.Carried, Carried{Who: who, Mark: was})
		}
		items[i] = x
	}
	policy := DefaultPolicy()
	b.ReportAllocs()
	for b.Loop() {
		if plan := Compare(items, policy); plan.Counts().Total() != people*assignments {
			b.Fatal("not all")
		}
	}
	b.ReportMetric(float64(people*assignments)*float64(b.N)/b.Elapsed().Seconds(), "results/s")
}
