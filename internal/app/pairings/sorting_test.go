package pairings

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
)

func TestCardsAreSorted(t *testing.T) {
	early, late := time.Unix(100, 0), time.Unix(200, 0)
	cards := func() []Card {
		return []Card{
			{Section: &rosterstore.Section{Title: "b", Course: "Y"}, Learners: 3},
			{
				Section: &rosterstore.Section{Title: "A", Course: ""}, Learners: 1, Teachers: []string{"Zed"},
				Pairing: &pairingstore.Pairing{TargetName: "two", RanAt: &late},
			},
			{
				Section: &rosterstore.Section{Title: "c", Course: "x", Terms: []string{"First"}}, Learners: 2,
				Pairing: &pairingstore.Pairing{TargetName: "One", RanAt: &early},
			},
		}
	}
	for by, want := range map[string]string{
		"": "bAc", "state": "bAc", "-state": "cAb",
		"section": "Abc", "-section": "cbA",
		"course": "cbA", "-course": "bcA", // the one of no course is last either way
		"term": "cbA", "-term": "cbA",
		"teachers": "Abc", "-teachers": "Abc",
		"learners": "Acb", "-learners": "bcA",
		"class": "cAb", "-class": "Acb",
		"run": "cAb", "-run": "Acb",
	} {
		list := cards()
		require.NoError(t, sorted(list, by))
		got := ""
		for _, c := range list {
			got += c.Title()
		}
		assert.Equal(t, want, got, by)
	}
	assert.ErrorContains(t, sorted(cards(), "colour"), `"colour" is not what sections can be sorted by`)
}
