package linking_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kanban/internal/core/finding"
	"kanban/internal/core/linking"
)

var today = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func section(id string, change ...func(*linking.Section)) linking.Section {
	ends := today.AddDate(0, 2, 0)
	s := linking.Section{
		ID: id, Code: id, Title: "Section " + id, Register: "office", CourseID: "prop", Course: "Propagation",
		TermIDs: []string{"t1"}, Terms: []string{"First term"}, Teachers: []string{"maud"}, Ends: &ends,
	}
	for _, c := range change {
		c(&s)
	}
	return s
}

func ExampleObstacles() {
	lead := section("A")
	other := section("B", func(s *linking.Section) { s.Terms, s.TermIDs = []string{"Second term"}, []string{"t2"} })
	for _, o := range linking.Obstacles(lead, other, today) {
		fmt.Println(o.Code, o.Detail, o.Overridable)
	}
	// Output: other-term it is in Second term, not in First term true
}

func TestWhatCanBeLinked_S2(t *testing.T) {
	past := today.AddDate(0, 0, -1)
	for name, c := range map[string]struct {
		change   func(*linking.Section)
		code     finding.Code
		override bool
	}{
		"same course and term": {func(*linking.Section) {}, "", false},
		"the lead itself":      {func(s *linking.Section) { s.ID = "A" }, finding.LinkTwice, false},
		"in another set":       {func(s *linking.Section) { s.Set = "Propagation" }, finding.LinkTwice, false},
		"paired on its own": {
			func(s *linking.Section) { s.Targets = []string{"Chat"} }, finding.AlreadyPaired,
			false,
		},
		"vanished":         {func(s *linking.Section) { s.Gone = true }, finding.SectionGone, false},
		"another register": {func(s *linking.Section) { s.Register = "other" }, finding.OtherCourse, false},
		"another course":   {func(s *linking.Section) { s.CourseID = "soil" }, finding.OtherCourse, true},
		"another term":     {func(s *linking.Section) { s.TermIDs = []string{"t2"} }, finding.OtherTerm, true},
		"one term more": {
			func(s *linking.Section) { s.TermIDs = []string{"t1", "t2"} }, finding.OtherTerm,
			true,
		},
		"no term": {func(s *linking.Section) { s.TermIDs, s.Terms = nil, nil }, finding.OtherTerm, true},
		"ended":   {func(s *linking.Section) { s.Ends = &past }, finding.SectionEnded, true},
	} {
		t.Run(name, func(t *testing.T) {
			lead, x := section("A"), section("B", c.change)
			list := linking.Obstacles(lead, x, today)
			if c.code == "" {
				assert.Empty(t, list)
				assert.Empty(t, linking.Check(lead, []linking.Section{x}, "", today))
				return
			}
			if assert.Len(t, list, 1) {
				assert.Equal(t, c.code, list[0].Code)
				assert.Equal(t, c.override, list[0].Overridable)
				assert.NotEmpty(t, list[0].Detail)
			}
			assert.Len(t, linking.Check(lead, []linking.Section{x}, " ", today), 1, "blanks are no reason")
			assert.Equal(t, c.override, len(linking.Check(lead, []linking.Section{x}, "taught together", today)) == 0)
		})
	}
	assert.Len(t, linking.Check(section("A"), []linking.Section{section("B"), section("B")}, "x", today), 1,
		"named twice")
	assert.Len(t, linking.Check(section("A", func(s *linking.Section) { s.Set = "S" }),
		[]linking.Section{section("B")}, "x", today), 1, "the lead is linked already")
}

func TestProposalsShareATeacher_S2(t *testing.T) {
	teachers := func(names ...string) func(*linking.Section) {
		return func(s *linking.Section) { s.Teachers = names }
	}
	paired := func(s *linking.Section) { s.Targets = []string{"Chat"} }
	codes := func(list []linking.Proposal) (out [][]string) {
		for _, p := range list {
			var one []string
			for _, s := range p.Sections {
				one = append(one, s.Code)
			}
			out = append(out, one)
		}
		return out
	}
	all := []linking.Section{
		section("D", teachers("pia")), section("C", teachers("otto", "rolf")), section("A",
			teachers("maud", "otto")), section("B", teachers("rolf")),
		section("E", teachers("pia"), paired), section("F", teachers("pia"), paired), section("G", teachers()),
	}
	assert.Equal(t, [][]string{{"A", "C", "B"}, {"E", "D"}}, codes(linking.Propose(all, true, today)),
		"a teacher joins sections through one in between; what is paired leads")
	held := linking.Propose(all, true, today)
	var shared []string
	for _, j := range held[0].SharedTeachers {
		for _, x := range j.Sections {
			shared = append(shared, j.Teacher+" "+x.Code)
		}
	}
	assert.Equal(t, []string{"otto A", "otto C", "rolf C", "rolf B"}, shared,
		"nobody teaches all of them: it is said who teaches several")
	assert.Empty(t, held[1].SharedTeachers, "one teaches all of them")
	assert.Equal(t, [][]string{{"E", "A", "B", "C", "D", "G"}}, codes(linking.Propose(all, false, today)))
}

// Whatever is proposed can be linked, and no section is proposed twice.
func TestProposalsCanBeLinked(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var all []linking.Section
		for i := range rapid.IntRange(0, 12).Draw(t, "sections") {
			past := today.AddDate(0, 0, -3)
			all = append(all, section(fmt.Sprint(i), func(s *linking.Section) {
				s.CourseID = rapid.SampledFrom([]string{"a", "b"}).Draw(t, "course")
				s.TermIDs = rapid.SampledFrom([][]string{nil, {"t1"}, {"t1", "t2"}}).Draw(t, "terms")
				s.Teachers = rapid.SampledFrom([][]string{nil, {"x"}, {"y"}, {"x", "z"}, {"z"}}).Draw(t, "teachers")
				s.Gone, s.Set = rapid.Bool().Draw(t, "gone"), rapid.SampledFrom([]string{"", "", "set"}).Draw(t,
					"set")
				if rapid.Bool().Draw(t, "paired") {
					s.Targets = []string{"Chat"}
				}
				if rapid.IntRange(0, 3).Draw(t, "ended") == 0 {
					s.Ends = &past
				}
			}))
		}
		var seen []string
		for _, p := range linking.Propose(all, rapid.Bool().Draw(t, "same teacher"), today) {
			assert.Empty(t, linking.Check(p.Sections[0], p.Sections[1:], "", today))
			for _, s := range p.Sections {
				assert.False(t, slices.Contains(seen, s.ID))
				seen = append(seen, s.ID)
			}
		}
	})
}
