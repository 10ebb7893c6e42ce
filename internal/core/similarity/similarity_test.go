package similarity_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kanban/internal/core/similarity"
)

func ExampleRank() {
	section := similarity.Section{
		Names: []string{"Propagation A"}, Accounts: []string{"1", "2", "3"},
		Teachers: []string{"3"},
	}
	for _, c := range similarity.Rank(section, []similarity.Space{
		{Ref: "x", Name: "Propagation (a)"}, {Ref: "y", Name: "Garden talk", Members: []string{"1", "2", "3"}},
	}) {
		fmt.Println(c.Space.Name, c.Score, c.Shared)
	}
	// Output:
	// Garden talk 74 3
	// Propagation (a) 25 0
}

func TestEvidence_S4(t *testing.T) {
	section := similarity.Section{
		Names: []string{"Propagation A", "PROP-A"}, Terms: []string{"First term"},
		Accounts: []string{"1", "2", "3", "4"}, Teachers: []string{"4"},
	}
	list := similarity.Rank(section, []similarity.Space{
		{Ref: "right", Name: "prop a, first term", Members: []string{"1", "2", "4"}},
		{Ref: "namesake", Name: "Propagation A", Members: []string{"7", "8", "9"}},
		{Ref: "empty", Name: "Propagation A"},
		{Ref: "other", Name: "Beekeeping", Members: []string{"1", "8", "9"}},
	})
	assert.Equal(t, "right", list[0].Ref)
	assert.Equal(t, similarity.Candidate{
		Space: list[0].Space, Score: list[0].Score, Name: list[0].Name, Shared: 3,
		Missing: 1, Teachers: 1, Term: true,
	}, list[0])
	poor := map[string]bool{}
	for _, c := range list {
		poor[c.Ref] = c.Poor()
	}
	assert.Equal(t, map[string]bool{"right": false, "namesake": true, "empty": false, "other": true}, poor)
	assert.Equal(t, 1.0, similarity.Alike("Propagation A", "propagation-a"))
	assert.Zero(t, similarity.Alike("", "!"))
}

func TestScoresStayInBounds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		ids := rapid.SliceOf(rapid.SampledFrom([]string{"1", "2", "3", "4"}))
		names := rapid.SliceOf(rapid.SampledFrom([]string{"", "A", "Soil", "Soil science"}))
		s := similarity.Section{
			Names: names.Draw(t, "names"), Terms: names.Draw(t, "terms"),
			Accounts: ids.Draw(t, "accounts"),
		}
		s.Teachers = s.Accounts[:len(s.Accounts)/2]
		space := similarity.Space{
			Name:    rapid.SampledFrom([]string{"", "Soil", "Soil A"}).Draw(t, "name"),
			Members: ids.Draw(t, "members"),
		}
		for _, c := range similarity.Rank(s, []similarity.Space{space, space}) {
			assert.True(t, c.Score >= 0 && c.Score <= 100, "%+v", c)
		}
	})
}
