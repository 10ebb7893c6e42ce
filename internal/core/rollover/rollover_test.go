package rollover_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kanban/internal/core/rollover"
)

var today = time.Date(2027, 1, 20, 9, 0, 0, 0, time.UTC)

func section(id, course string, begins int, teachers ...string) rollover.Section {
	from, to := today.AddDate(0, 0, begins), today.AddDate(0, 0, begins+100)
	return rollover.Section{
		ID: id, Title: id, Code: id, CourseCode: course, Teachers: teachers, Begins: &from,
		Ends: &to,
	}
}

func ExamplePropose() {
	now, next := section("Propagation A", "PROP", -90, "maud"), section("Propagation A", "PROP", 12, "maud")
	now.ID = "old"
	for _, m := range rollover.Propose([]rollover.Section{now}, []rollover.Section{next}, today) {
		fmt.Println(m.To.Title, m.Score, m.Evidence)
	}
	// Output: Propagation A 100 [same course same teacher same title]
}

func TestEachSectionFollowsOne_S8(t *testing.T) {
	a, b, soil := section("Propagation A", "PROP", -90, "maud"), section("Propagation B", "PROP", -90,
		"otto"), section("Soil", "SOIL", -90, "maud")
	next := func(id string, begins int, teachers ...string) rollover.Section {
		return section(id, "prop", begins, teachers...)
	}
	taken := next("Propagation A again", 12, "maud")
	taken.Taken = true
	all := []rollover.Section{
		a, b, soil, next("Propagation X", 12, "maud"), next("Propagation B spring", 12, "pia"),
		taken, next("Propagation A", -90, "maud"), next("Propagation long over", -300),
	}
	got := map[string]string{}
	choices := map[string][]string{}
	for _, m := range rollover.Propose([]rollover.Section{a, b, soil}, all, today) {
		got[m.From.ID] = m.To.ID
		for _, c := range m.Choices {
			choices[m.From.ID] = append(choices[m.From.ID], c.ID)
		}
	}
	assert.Equal(t, []string{"Propagation X", "Propagation B spring"}, choices["Propagation A"],
		"what could follow instead")
	assert.Equal(t, []string{"Propagation X"}, choices["Soil"], "of another course, with the same teacher")
	assert.Equal(t, map[string]string{
		"Propagation A": "Propagation X", "Propagation B": "Propagation B spring",
		"Soil": "",
	}, got, "the teacher tells more than the title; soil science has no next section")
}

func TestNoSectionIsUsedTwice(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string, lo, hi int) (list []rollover.Section) {
			for i := range rapid.IntRange(0, 6).Draw(t, name) {
				s := section(fmt.Sprintf("%s %d", name, i), rapid.SampledFrom([]string{"A", "B"}).Draw(t, "course"),
					rapid.IntRange(lo, hi).Draw(t, "begins"), rapid.SampledFrom([]string{"x", "y"}).Draw(t,
						"teacher"))
				s.Taken = rapid.Bool().Draw(t, "taken")
				list = append(list, s)
			}
			return list
		}
		ending, all := draw("old", -120, -60), draw("new", -200, 40)
		from, to := map[string]bool{}, map[string]bool{}
		moves := rollover.Propose(ending, append(all, ending...), today)
		assert.Len(t, moves, len(ending), "each that ends is told about")
		for _, m := range moves {
			if m.To.ID == "" {
				continue
			}
			assert.False(t, from[m.From.ID] || to[m.To.ID] || m.To.Taken || !m.To.Begins.After(*m.From.Begins))
			assert.True(t, m.Score >= 50 && m.Score <= 100)
			from[m.From.ID], to[m.To.ID] = true, true
		}
	})
}
