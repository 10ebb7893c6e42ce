package xapi_test

import (
	"encoding/json"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/xapi"
)

func TestQueriesGoThere_AndBack(t *testing.T) {
	q, err := xapi.ParseQuery(url.Values{
		"agent": {`{"mbox":"mailto:ada@fernmoor.example"}`},
		"verb":  {xapi.ADL + "passed"}, "since": {"2026-01-15T09:00:00Z"}, "limit": {"0"}, "ascending": {"true"},
		"format": {"ids"},
	})
	require.NoError(t, err)
	assert.Equal(t, xapi.MostStatements, q.Limit, "0 is as many as there can be")
	assert.Equal(t, "mailto:ada@fernmoor.example", q.Agent.Key())
	again, err := xapi.ParseMore(q.More(17))
	require.NoError(t, err)
	q.After = 17
	assert.Equal(t, q, again)
	for _, text := range []string{"", "!!", "e30"} {
		_, err := xapi.ParseMore(text)
		assert.ErrorIs(t, err, xapi.ErrStatement, text)
	}
}

func TestWrongParametersAreNamed(t *testing.T) {
	const id = "8f87ccde-bb56-4c2e-ab83-44982ef22df0"
	for want, v := range map[string]url.Values{
		"colour: is not one that":        {"colour": {"red"}},
		"verb: is given more than once":  {"verb": {"a", "b"}},
		"is not a UUID":                  {"statementId": {"17"}},
		"exclude each other":             {"statementId": {id}, "voidedStatementId": {id}},
		"verb cannot be given together":  {"statementId": {id}, "verb": {"a"}},
		"since: is no time":              {"since": {"yesterday"}},
		"limit: is no whole number":      {"limit": {"-1"}},
		"ascending: is true or false":    {"ascending": {"up"}},
		"is not one of ids":              {"format": {"short"}},
		"agent: is no agent":             {"agent": {`{"name":"Ada"}`}},
		"activity: holds what is no":     {"activity": {"a\x00b"}},
		"registration: is given more":    {"registration": {id, id}},
		`"x" is not a UUID`:              {"registration": {"x"}},
		"related_agents: is true or fal": {"related_agents": {"maybe"}},
	} {
		_, err := xapi.ParseQuery(v)
		assert.ErrorContains(t, err, want)
	}
}

func TestStoredStatementsAreWhole(t *testing.T) {
	at := time.Date(2026, 1, 15, 10, 0, 0, 0, time.UTC)
	authority := xapi.Agent{ObjectType: "Agent", Account: &xapi.Account{HomePage: "http://k.example", Name: "key"}}
	read := func(format string) (m map[string]any) {
		text, err := xapi.Stored(xapi.Listed(json.RawMessage(golden)), "8f87ccde-bb56-4c2e-ab83-44982ef22df0", at,
			authority, format)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(text, &m))
		return m
	}
	m := read("")
	assert.Equal(t, "2026-01-15T10:00:00.000Z", m["stored"])
	assert.Equal(t, "2026-01-15T09:00:00.000Z", m["timestamp"], "what was sent stays")
	assert.Equal(t, "key", m["authority"].(map[string]any)["account"].(map[string]any)["name"])
	parent := m["context"].(map[string]any)["contextActivities"].(map[string]any)["parent"]
	assert.Len(t, parent, 1, "a bare object is given as a list")
	assert.Contains(t, m["object"], "definition")
	bare := read("ids")
	assert.NotContains(t, bare["object"], "definition")
	assert.NotContains(t, bare["verb"], "display")
	assert.Contains(t, bare["object"], "id")
}
