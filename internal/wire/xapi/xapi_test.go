package xapi_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/xapi"
)

const golden = `{
  "id": "8F87ccde-bb56-4c2e-ab83-44982ef22df0", "version": "1.0.3", "timestamp": "2026-01-15T09:00:00.000Z",
  "actor": {"objectType": "Agent", "account": {"homePage": "https://sis.example.org", "name": "u1"}},
  "verb": {"id": "http://adlnet.gov/expapi/verbs/completed", "display": {"en": "completed"}},
  "object": {"objectType": "Activity", "id": "https://hub.example.org/xapi/lesson/l1", "definition": {"type": "http://adlnet.gov/expapi/activities/lesson", "name": {"en": "Fractions"}}},
  "result": {"success": true, "completion": true, "score": {"scaled": 0.92, "raw": 23, "min": 0, "max": 25}, "duration": "PT20M30.5S"},
  "context": {"registration": "ec531277-b57b-4c15-8d91-d292c5b2b8f7",
    "contextActivities": {"parent": {"id": "https://hub.example.org/xapi/module/m1"}, "grouping": [{"id": "https://hub.example.org/xapi/course/c1"}]}}
}`

func TestParseGolden(t *testing.T) {
	statements, raw, err := xapi.Parse([]byte(golden))
	require.NoError(t, err)
	require.Len(t, statements, 1)
	require.Len(t, raw, 1)
	s := statements[0]
	assert.Equal(t, "8f87ccde-bb56-4c2e-ab83-44982ef22df0", s.ID)
	assert.Equal(t, "u1", s.Actor.Account.Name)
	assert.InDelta(t, 0.92, *s.Result.Score.Scaled, 1e-9)
	assert.Equal(t, "https://hub.example.org/xapi/module/m1", s.Context.ContextActivities.Parent[0].ID,
		"a bare object is a list of one")
}

func TestParseNamesTheFaultAndItsPosition(t *testing.T) {
	for want, body := range map[string]string{
		"neither a statement":      `"x"`,
		"statement 1: not a valid": "[" + golden + `,{"actor":{"mbox":"ana@x"},"verb":{"id":"http://v"},"object":{"id":"http://o"}}]`,
		"has 0 identifiers":        `{"actor":{},"verb":{"id":"http://v"},"object":{"id":"http://o"}}`,
		"duplicate":                `{"actor":{"mbox":"mailto:a@x.example"},"actor":{"mbox":"mailto:b@x.example"},"verb":{"id":"http://v"},"object":{"id":"http://o"}}`,
		"stands twice":             "[" + golden + "," + golden + "]",
		"is not a UUID":            strings.Replace(golden, "8F87ccde", "x", 1),
		"verb.id": strings.Replace(golden, "http://adlnet.gov/expapi/verbs/completed", "completed",
			1),
		"object.id":                 strings.Replace(golden, "https://hub.example.org/xapi/lesson/l1", "l1", 1),
		"not between -1 and 1":      strings.Replace(golden, "0.92", "92", 1),
		"is not 1.0.x":              strings.Replace(golden, `"1.0.3"`, `"3"`, 1),
		"registration \"ec53\"":     strings.Replace(golden, "ec531277-b57b-4c15-8d91-d292c5b2b8f7", "ec53", 1),
		"object.id has":             strings.Replace(golden, "lesson/l1", strings.Repeat("l", 2000), 1),
		"needs a name and a homePa": strings.Replace(golden, `"name": "u1"`, `"name": ""`, 1),
	} {
		_, _, err := xapi.Parse([]byte(body))
		require.ErrorIs(t, err, xapi.ErrStatement, body)
		assert.ErrorContains(t, err, want)
	}
}

// What the standard's types forbid is refused with its place; what they allow is taken.
func TestCornersOfTheStandard(t *testing.T) {
	with := func(actor, result, rest string) []byte {
		return []byte(`{"actor":` + actor + `,"verb":{"id":"http://v.example/did"},
			"object":{"id":"http://o.example/1"},"result":` + result + rest + `}`)
	}
	const ada = `{"mbox":"mailto:ada@fernmoor.example"}`
	for want, body := range map[string][]byte{
		"raw 26 is above max 25":             with(ada, `{"score":{"raw":26,"min":0,"max":25}}`, ""),
		"raw -1 is below min 0":              with(ada, `{"score":{"raw":-1,"min":0}}`, ""),
		"min 9 is above max 5":               with(ada, `{"score":{"min":9,"max":5}}`, ""),
		`"20 minutes" is no duration`:        with(ada, `{"duration":"20 minutes"}`, ""),
		`"PT" is no duration`:                with(ada, `{"duration":"PT"}`, ""),
		`"P" is no duration`:                 with(ada, `{"duration":"P"}`, ""),
		`"P1W2D" is no duration`:             with(ada, `{"duration":"P1W2D"}`, ""),
		`result.extensions has the key "x"`:  with(ada, `{"extensions":{"x":1}}`, ""),
		`context.extensions has the key "y"`: with(ada, `{}`, `,"context":{"extensions":{"y":1}}`),
		"without members":                    with(`{"objectType":"Group"}`, `{}`, ""),
		"actor.member[1] is no agent": with(`{"objectType":"Group","member":[`+ada+`,{"name":"x"}]}`,
			`{}`, ""),
		"actor.member[0] is no agent": with(`{"objectType":"Group","member":[{"objectType":"Group","member":[`+ada+
			`]}]}`, `{}`, ""),
		"actor.member[0].mbox": with(`{"objectType":"Group","member":[{"mbox":"ada"}]}`, `{}`, ""),
		"neither Agent nor Group": with(`{"objectType":"agent","mbox":"mailto:ada@fernmoor.example"}`, `{}`,
			""),
	} {
		_, _, err := xapi.Parse(body)
		require.ErrorIs(t, err, xapi.ErrStatement, want)
		assert.ErrorContains(t, err, want)
	}
	for _, body := range [][]byte{
		with(ada, `{"score":{"raw":25,"min":0,"max":25},"duration":"PT20M30.5S"}`, ""),
		with(ada, `{"score":{"raw":0},"duration":"P1Y2M3DT4H5M6S"}`, ""),
		with(ada, `{"duration":"P2W","extensions":{"http://x.example/y":{"z":null}}}`, ""),
		with(`{"objectType":"Group","member":[`+ada+`]}`, `{}`, ""),
		with(`{"objectType":"Group","mbox":"mailto:team@fernmoor.example"}`, `{}`, ""),
		with(`{"objectType":"Agent","mbox":"mailto:ada@fernmoor.example"}`, `{}`,
			`,"context":{"extensions":{"http://x.example/y":1}}`),
	} {
		_, _, err := xapi.Parse(body)
		assert.NoError(t, err, string(body))
	}
}

// What the standard does not know is refused with its place (Data 2.2); all that it knows is taken.
func TestUnknownPropertiesAreRefused(t *testing.T) {
	whole := `{"id":"9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0001","actor":{"objectType":"Agent","name":"Ada","mbox":"mailto:ada@fernmoor.example"},
		"verb":{"id":"http://adlnet.gov/expapi/verbs/answered","display":{"en":"answered"}},
		"object":{"id":"https://platform.example/q","objectType":"Activity","definition":{"name":{"en":"Q"},"description":{"en":"?"},
			"type":"http://adlnet.gov/expapi/activities/cmi.interaction","moreInfo":"https://platform.example/more",
			"interactionType":"choice","correctResponsesPattern":["a"],"choices":[{"id":"a","description":{"en":"A"}}],
			"extensions":{"https://x.example/e":{"anything":1}}}},
		"result":{"score":{"scaled":1},"success":true,"completion":true,"response":"a","duration":"PT1S","extensions":{"https://x.example/e":1}},
		"context":{"registration":"9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0002","instructor":{"mbox":"mailto:t@fernmoor.example"},
			"team":{"objectType":"Group","mbox":"mailto:all@fernmoor.example"},"revision":"1","platform":"P","language":"en",
			"statement":{"objectType":"StatementRef","id":"9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0003"},
			"contextActivities":{"parent":{"id":"https://platform.example/p"},"grouping":[{"id":"https://platform.example/g"}],
				"category":[{"id":"https://platform.example/c"}],"other":[{"id":"https://platform.example/o"}]},
			"extensions":{"https://x.example/e":[]}},
		"timestamp":"2026-10-05T08:00:00Z","stored":"2026-10-05T08:00:01Z","version":"1.0.3",
		"authority":{"mbox":"mailto:lrs@fernmoor.example"},"attachments":[]}`
	list, _, err := xapi.Parse([]byte(whole))
	require.NoError(t, err)
	assert.Equal(t, "https://platform.example/p", list[0].Context.ContextActivities.Parent[0].ID)
	for _, object := range []string{
		`{"objectType":"Agent","mbox":"mailto:bob@fernmoor.example"}`,
		`{"objectType":"Group","member":[{"mbox":"mailto:bob@fernmoor.example"}]}`,
		`{"objectType":"StatementRef","id":"9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0003"}`,
		`{"objectType":"SubStatement","actor":{"mbox":"mailto:bob@fernmoor.example"},"verb":{"id":"https://v.example/will"},
			"object":{"id":"https://platform.example/q"},"result":{"response":"x"},"timestamp":"2026-10-05T08:00:00Z"}`,
	} {
		_, _, err := xapi.Parse([]byte(`{"actor":{"mbox":"mailto:ada@fernmoor.example"},"verb":{"id":"https://v.example/saw"},"object":` + object + `}`))
		require.NoError(t, err, object)
	}
	for _, x := range [][2]string{
		{`"actor":{`, `"actor":{"colour":"red",`},
		{`"verb":{`, `"verb":{"name":"x",`},
		{`"object":{`, `"object":{"title":"x",`},
		{`"object":{`, `"object":{"mbox":"mailto:x@y.example",`},
		{`"definition":{`, `"definition":{"title":{},`},
		{`"score":{`, `"score":{"best":1,`},
		{`"result":{`, `"result":{"grade":1,`},
		{`"contextActivities":{`, `"contextActivities":{"child":[],`},
		{`"grouping":[{`, `"grouping":[{"title":"x",`},
		{`"parent":{`, `"parent":{"title":"x",`},
		{`"context":{`, `"context":{"course":"x",`},
		{`{"id":"9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0001",`, `{"ID":"x",`},
		{`"objectType":"Activity"`, `"objectType":"Lesson"`},
		{`"objectType":"Activity"`, `"objectType":"SubStatement"`},
	} {
		changed := strings.Replace(whole, x[0], x[1], 1)
		require.NotEqual(t, whole, changed)
		_, _, err := xapi.Parse([]byte(changed))
		require.ErrorIs(t, err, xapi.ErrStatement, x[1])
	}
}
