package grade

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kanban/internal/core/finding"
)

func day(text string) time.Time {
	at, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return at
}

var autumn = Period{
	ID: "p1", Title: "Autumn", Kind: "gradingPeriod", Begins: day("2026-09-01"),
	Ends: day("2026-10-31"),
}

// Everything that a book can want of an assignment, each alone: it is a reason
// when it is wanted and missing, and none otherwise.
func TestReadiness(t *testing.T) {
	all := Needs{Due: true, InPeriod: true, NotBeforeTerm: true, PointsAboveZero: true, Category: true, MaxTitle: 20}
	ready := func() Candidate {
		return Candidate{
			Source: LineItem{Title: "Essay", Due: day("2026-09-20"), Assigned: day("2026-09-10"), Maximum: 10},
			Period: &autumn, Category: "c", TermBegins: day("2026-09-01"),
		}
	}
	assert.Empty(t, Ready(ready(), all, day("2026-09-15")))
	for reason, x := range map[finding.Code]struct {
		change func(*Candidate)
		drop   func(*Needs)
	}{
		finding.ItemNotDue: {
			func(c *Candidate) { c.Source.Due, c.Source.Assigned = time.Time{}, time.Time{} },
			func(n *Needs) { n.Due = false },
		},
		finding.ItemOutsidePeriod: {func(c *Candidate) { c.Source.Due = day("2026-11-01") }, func(n *Needs) {
			n.InPeriod = false
		}},
		finding.ItemPeriodUnclear: {func(c *Candidate) {
			c.Period, c.PeriodReason = nil,
				finding.ItemPeriodUnclear
		}, func(n *Needs) {
			n.InPeriod = false
		}},
		finding.ItemNoPeriod: {func(c *Candidate) { c.Period = nil }, func(n *Needs) { n.InPeriod = false }},
		finding.ItemBeforeTerm: {
			func(c *Candidate) { c.TermBegins = day("2026-09-21") },
			func(n *Needs) { n.NotBeforeTerm = false },
		},
		finding.ItemNoCategory: {func(c *Candidate) { c.Category = "" }, func(n *Needs) { n.Category = false }},
		finding.ItemTitleTooLong: {
			func(c *Candidate) { c.Source.Title = strings.Repeat("ö", 21) },
			func(n *Needs) { n.MaxTitle = 0 },
		},
		finding.ItemWithoutPoints: {
			func(c *Candidate) { c.Source.Maximum, c.WithoutPoints = 0, true },
			func(n *Needs) { n.PointsAboveZero = false },
		},
	} {
		c, needs := ready(), all
		x.change(&c)
		assert.Equal(t, []finding.Code{reason}, Ready(c, needs, day("2026-09-15")), reason)
		x.drop(&needs)
		assert.Empty(t, Ready(c, needs, day("2026-09-15")), reason)
	}
	for reason, change := range map[finding.Code]func(*Candidate){
		finding.ItemUnpublished:    func(c *Candidate) { c.Source.Unpublished = true },
		finding.ItemBookUnreleased: func(c *Candidate) { c.Book = &LineItem{Unpublished: true} },
		finding.ItemNotLinked:      func(c *Candidate) { c.OnlyLinked = true },
		finding.ItemNameTaken:      func(c *Candidate) { c.NameTaken = true },
		finding.ItemCategoryOther:  func(c *Candidate) { c.Book = &LineItem{Category: "other"} },
		finding.ItemWithoutPoints:  func(c *Candidate) { c.Source.Maximum = 0 },
	} {
		c := ready()
		change(&c)
		assert.Equal(t, []finding.Code{reason}, Ready(c, Needs{}, day("2026-09-15")), reason)
	}
	// What only the making needs does not hold up what is there.
	there := ready()
	there.Book, there.Source.Due, there.Period, there.NameTaken = &LineItem{}, time.Time{}, nil, true
	assert.Empty(t, Ready(there, all, day("2026-09-15")))
	// A book that takes grades between two dates only.
	times := Needs{Opens: day("2026-09-05"), Closes: day("2026-09-25")}
	assert.Equal(t, []finding.Code{finding.BookNotOpen}, Ready(ready(), times, day("2026-09-04")))
	assert.Empty(t, Ready(ready(), times, day("2026-09-20")))
	assert.Equal(t, []finding.Code{finding.BookNotOpen}, Ready(ready(), times, day("2026-09-26")))
	// Every reason is said, not only the first.
	worst := Candidate{Source: LineItem{Unpublished: true}, OnlyLinked: true, NameTaken: true}
	assert.Len(t, Ready(worst, all, day("2026-09-15")), 7)
}

func TestPeriodsAreNeverGuessed(t *testing.T) {
	winter := Period{ID: "p2", Kind: "gradingPeriod", Begins: day("2026-11-01"), Ends: day("2026-12-31")}
	both := Period{ID: "p3", Kind: "gradingPeriod", Begins: day("2026-12-01")}
	term := Period{ID: "t", Kind: "term", Begins: day("2026-09-01"), Ends: day("2027-01-31")}
	periods := []Period{autumn, winter, both, term}
	for at, want := range map[string]string{
		"2026-09-01": "p1", "2026-10-31": "p1", "2026-11-30": "p2", "2027-03-01": "p3",
		"2026-08-31": string(finding.ItemOutsidePeriod), "2026-12-05": string(finding.ItemPeriodUnclear),
	} {
		p, reason := FindPeriod(day(at), "gradingPeriod", periods)
		if p != nil {
			assert.Equal(t, want, p.ID, at)
		} else {
			assert.Equal(t, want, string(reason), at)
		}
	}
	last, _ := FindPeriod(day("2026-10-31").Add(23*time.Hour), "gradingPeriod", periods)
	assert.Equal(t, "p1", last.ID, "the last day belongs to it to its end")
	_, reason := FindPeriod(time.Time{}, "gradingPeriod", periods)
	assert.Equal(t, finding.ItemNotDue, reason)
	_, reason = FindPeriod(day("2026-09-05"), "semester", periods)
	assert.Equal(t, finding.ItemNoPeriod, reason)
}

func TestCategoriesAreMadeOnce(t *testing.T) {
	source := []Category{
		{ID: "s1", Title: "Home work", Weight: 40},
		{ID: "s2", Title: "Tests", Weight: 60},
		{
			ID:    "s3",
			Title: "Quiz", Weight: -1,
		},
		{ID: "s4", Title: "Projects", Weight: 10},
		{ID: "s5", Title: "Labs", Weight: 5},
	}
	book := []Category{
		{ID: "b1", Title: " HOME  WORK ", Weight: 30},
		{ID: "b2", Title: "Quizzes", Weight: 10},
		{ID: "b3", Title: "Projects"},
		{ID: "b4", Title: "projects"},
		{ID: "b5", Title: "Exams", Weight: 60},
	}
	list := MatchCategories(source, book, map[string]string{"s2": "b5", "s5": "no such"},
		map[string]string{"s5": "b2"})
	assert.Equal(t, "b1", list[0].Book.ID)
	assert.Equal(t, ByName, list[0].Evidence)
	assert.Equal(t, "b5", list[1].Book.ID)
	assert.Equal(t, ByPerson, list[1].Evidence)
	assert.Nil(t, list[2].Book, "likely is not enough")
	assert.Equal(t, "b2", list[2].Proposals[0].ID)
	assert.True(t, list[2].Makes())
	assert.True(t, list[3].Several, "two that look alike are asked about")
	assert.False(t, list[3].Makes())
	assert.Equal(t, ByBefore, list[4].Evidence)
	var differ []string
	for _, m := range list {
		if m.WeightsDiffer() {
			differ = append(differ, m.Source.ID)
		}
	}
	assert.Equal(t, []string{source[0].ID, source[4].ID}, differ)
	// Once it was made it is found, however often that is repeated.
	book = append(book, Category{ID: "made", Title: "Quiz"})
	for range 3 {
		again := MatchCategories(source, book, nil, nil)
		assert.Equal(t, "made", again[2].Book.ID)
		assert.False(t, again[2].Makes())
	}
}
