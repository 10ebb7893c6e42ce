package xapi_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"kanban/internal/wire/xapi"
)

func TestRepetitionsAreNoConflicts(t *testing.T) {
	change := func(pairs ...string) json.RawMessage {
		return json.RawMessage(strings.NewReplacer(pairs...).Replace(golden))
	}
	for what, other := range map[string]json.RawMessage{
		"another way to write the id":     change("8F87ccde", "8f87CCDE", "ec531277", "EC531277"),
		"another display and description": change(`{"en": "completed"}`, `{"de": "fertig"}`, "Fractions", "Parts"),
		"no timestamp":                    change(`"timestamp": "2026-01-15T09:00:00.000Z",`, ""),
		"the same moment elsewhere":       change("2026-01-15T09:00:00.000Z", "2026-01-15T10:00:00+01:00"),
		"no version":                      change(`"version": "1.0.3",`, ""),
	} {
		assert.True(t, xapi.Same(json.RawMessage(golden), other), what)
		assert.True(t, xapi.Same(other, json.RawMessage(golden)), what)
	}
	for what, other := range map[string]json.RawMessage{
		"another verb":     change("verbs/completed", "verbs/passed"),
		"another person":   change(`"u1"`, `"u2"`),
		"another score":    change("0.92", "0.93"),
		"another moment":   change("09:00:00", "09:00:01"),
		"another duration": change("PT20M", "PT21M"),
		"no result":        change(`"result"`, `"results"`),
	} {
		assert.False(t, xapi.Same(json.RawMessage(golden), other), what)
	}
}

func TestEveryFaultOfABatchIsNamed(t *testing.T) {
	other := strings.Replace(golden, "8F87", "9F87", 1)
	list, raw, err := xapi.Parse([]byte("[" + strings.Join([]string{
		golden, `{"actor":{}}`, other, `{"id":7}`,
		golden,
	}, ",") + "]"))
	var faults xapi.Faults
	if assert.ErrorAs(t, err, &faults) {
		assert.Equal(t, []int{1, 3, 4}, []int{faults[0].Index, faults[1].Index, faults[2].Index})
		assert.ErrorContains(t, err, "and 2 more")
	}
	assert.Len(t, list, 2, "the others can be used")
	assert.Len(t, raw, 2)
}
