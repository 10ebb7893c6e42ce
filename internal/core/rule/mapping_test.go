package rule_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/rule"
)

func TestReportedEventsAreReadByTheirMapping_E10(t *testing.T) {
	x := rule.NewExpressions()
	event := map[string]any{
		"reported": "purchase.completed", "subject": "order-7",
		"data": map[string]any{
			"customer": map[string]any{"e-mail": "ada@x.example"},
			"items":    []any{map[string]any{"sku": "place", "n": 1.0}},
		},
	}
	mapping := map[string]string{
		"person": `event.data.customer["e-mail"]`, "starts": `event.reported == "purchase.completed"`,
		"ends":  `event.data.gone`,
		"offer": "event.data.items[0].sku", "order": "event.subject",
	}
	for name, text := range mapping {
		require.NoError(t, x.CheckMapping(name, text))
	}
	got := x.Read(mapping, event)
	assert.True(t, got.Starts)
	assert.False(t, got.Ends)
	assert.Equal(t, []string{"ada@x.example", "place", "order-7", ""},
		[]string{got.Person, got.Offer, got.Order, got.BuyerName})
	assert.Contains(t, got.Problems["ends"], "gone", "what cannot be worked out says nothing, and why")
	assert.Len(t, got.Problems, 1)
	mapping["offer"], mapping["order"] = "event.data.items", "event.data.long"
	event["data"].(map[string]any)["long"] = strings.Repeat("x", 501)
	got = x.Read(mapping, event)
	assert.Contains(t, got.Problems["offer"], "several values")
	assert.Contains(t, got.Problems["order"], "at most 500")
	assert.Empty(t, got.Offer+got.Order)

	for name, text := range map[string]string{
		"person": "event.nothing", "starts": `event.subject`,
		"offer": "event.data.",
	} {
		if name == "starts" {
			text = `"yes"`
		}
		assert.ErrorIs(t, x.CheckMapping(name, text), rule.ErrExpression, name)
	}
}

// Every place that is listed can be asked for, and gives the value beside it.
func TestPlacesOfAnEventAreExpressions(t *testing.T) {
	x := rule.NewExpressions()
	event := map[string]any{
		"reported": "r", "data": map[string]any{
			"a b": "spaced", "quo\"te": "quoted", "list": []any{
				"one",
				[]any{"deep"},
			}, "yes": true, "n": 2.5, "none": nil, "long": strings.Repeat("ä", 200), "ünder": "u",
		},
	}
	places := rule.EventValues(event)
	assert.Len(t, places, 10)
	for _, p := range places {
		require.NoError(t, x.CheckMapping("person", p.Path), p.Path)
		got := x.Read(map[string]string{"person": p.Path}, event)
		assert.Empty(t, got.Problems, p.Path)
		if want, cut := strings.CutSuffix(p.Value, " …"); cut {
			assert.True(t, strings.HasPrefix(got.Person, want))
		} else if p.Value != "null" {
			assert.Equal(t, p.Value, got.Person, p.Path)
		}
	}
}
