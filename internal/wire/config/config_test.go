package config_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/wire/config"
)

func read(t *testing.T, text string) ([]config.Item, []string) {
	t.Helper()
	items, faults := config.Read(map[string][]byte{"a.yaml": []byte(text)})
	var said []string
	for _, f := range faults {
		said = append(said, f.Error())
	}
	return items, said
}

func TestFaultsNameFileLineAndPlaceAllAtOnce(t *testing.T) {
	_, faults := read(t, `rules:
  - name: Welcome
    trigger: section.joined
    colour: red
    actions:
      - kind: mail
        interface: School mail
        subject: 2026
        Text: Hello
      - kind: post
  - trigger: module.completed
    actions: []
    oncePerPerson: yes
badges:
  - name: ""
    issuer: &who Fernmoor
    description: *who
    criteria:
`)
	assert.ElementsMatch(t, []string{
		`a.yaml:17: badges[0].description: names for parts (*who) are not used here; write it out`,
		`a.yaml:18: badges[0].criteria: is empty; leave the line away, or write "" for an empty text`,
	}, faults, "what cannot be taken for plain values comes first")
	_, faults = read(t, `rules:
  - name: Welcome
    trigger: section.joined
    colour: red
    actions:
      - kind: mail
        interface: School mail
        subject: 2026
        Text: Hello
      - kind: post
  - trigger: module.completed
    actions: []
    oncePerPerson: "yes"
badges:
  - name: ""
    issuer: Fernmoor
    description: x
`)
	require.Len(t, faults, 8)
	for i, want := range []string{
		`a.yaml:4: rules[0]: "colour" is not known here; there are actions, condition, counts, `,
		`a.yaml:8: rules[0].actions[0].subject: must be a text, not a number; write it in quotes`,
		`a.yaml:9: rules[0].actions[0]: "Text" is not known here; write "text"`,
		`a.yaml:10: rules[0].actions[1].kind: "post" is not one of send-event, mail, `,
		`a.yaml:11: rules[1]: "name" is missing`,
		`a.yaml:13: rules[1].oncePerPerson: must be true or false, not a text`,
	} {
		assert.True(t, strings.HasPrefix(faults[i], want), faults[i])
	}
	assert.ElementsMatch(t, []string{
		`a.yaml:15: badges[0]: "criteria" is missing`, `a.yaml:15: badges[0].name: must not be empty`,
	}, faults[6:])
}

func TestWhatIsNoSetUpIsSaidSo(t *testing.T) {
	for text, want := range map[string]string{
		"- a\n- b":                        `a.yaml:1: must have lists under their names, such as rules: or badges:`,
		"rules: [\n":                      `a.yaml: it is not YAML: line 1: did not find expected node content`,
		"rules: {}":                       `a.yaml:1: rules: must be a list, not names with values`,
		"rules: []\nrules: []":            `a.yaml:2: "rules" stands here twice`,
		"badges:\n- {<<: {name: x}}":      `a.yaml:2: badges[0]: only a plain name can stand before a colon`,
		"settings: {historyMonths: .inf}": `a.yaml:1: settings.historyMonths: .inf is no number that can be used`,
		"settings: {historyMonths: !x 3}": `a.yaml:1: settings.historyMonths: !x is not used here; write a text, a number, true or false`,
		strings.Repeat("a: [", 1) + strings.Repeat("[", 200) + strings.Repeat("]", 201): `stand in each other more than 30 deep`,
	} {
		items, faults := read(t, text)
		assert.Empty(t, items, text)
		require.Len(t, faults, 1, text)
		assert.Contains(t, faults[0], want)
	}
	items, faults := read(t, "# nothing but this\n---\nrules: []\n---\n")
	assert.Empty(t, items)
	assert.Empty(t, faults, "a file without anything is none that is wrong")
	_, many := config.Read(map[string][]byte{"a.yaml": bytes.Repeat([]byte("#"), 5<<20)})
	require.Len(t, many, 1)
	assert.Contains(t, many[0].Detail, "are more than")
}

func TestItemsKnowWhereTheyStand(t *testing.T) {
	items, faults := read(t, `
rules:
  - name: Second
    trigger: course.completed
    actions:
      - kind: award
        badge: Gold
issuers:
  - name: First
`)
	require.Empty(t, faults)
	require.Len(t, items, 2)
	assert.Equal(t, config.Issuers, items[0].Kind, "what others name comes first")
	f := items[1].Fault("actions[0].badge", "there is no %s", "gold")
	assert.Equal(t, config.Fault{File: "a.yaml", Line: 7, Path: "rules[0].actions[0].badge", Detail: "there is no gold"}, f)
	assert.Equal(t, 6, items[1].Fault("actions[0].text", "x").Line, "the nearest that is there")
}

// Whatever is written is read as it was, and texts stay texts for every reader of YAML.
func TestWhatIsWrittenIsRead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{
			"yes", "off", "12:30", "1e3", "0o7", "~", "null", "2026-11-29",
			"- x", "a: b", "#", "x\ny\n", " x ", "\t", "=", "<<",
		}))
		keep := text.Filter(func(s string) bool {
			return strings.ToValidUTF8(s, "") == s && !strings.ContainsAny(s, "\x00\ufffe\uffff")
		})
		want := config.Setup{Badges: []config.Badge{{
			Name: "x" + keep.Draw(t, "name"), Issuer: keep.Draw(t, "issuer"), Description: keep.Draw(t, "description"),
			Criteria: keep.Draw(t, "criteria"),
		}}}
		written, err := config.Text(want)
		if err != nil {
			t.Fatal(err)
		}
		items, faults := config.Read(map[string][]byte{"a.yaml": []byte(written)})
		if len(faults) > 0 {
			t.Fatalf("%v\n%s", faults, written)
		}
		var got config.Setup
		if err := config.Whole(&got, items[0].Kind, items[0].Body); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(got.Badges[0], want.Badges[0]) {
			t.Fatalf("%#v is not %#v:\n%s", got.Badges[0], want.Badges[0], written)
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("rules:\n  - name: x\n    trigger: a\n    actions: [{kind: award, badge: b}]\n"))
	f.Add([]byte("badges: &a [*a]"))
	f.Add([]byte("settings: {verbs: [{verb: x}]}\n---\ntemplates: []"))
	f.Fuzz(func(t *testing.T, text []byte) {
		items, faults := config.Read(map[string][]byte{"a.yaml": text})
		for _, i := range items {
			if i.Kind == "" || len(i.Body) == 0 {
				t.Fatalf("%+v", i)
			}
		}
		for _, x := range faults {
			if x.Detail == "" {
				t.Fatal("a fault that says nothing")
			}
		}
	})
}

func TestChangesAreOrderedAsTheyStand(t *testing.T) {
	assert.Equal(t, []config.ValueChange{
		{Path: "a[2].x", Before: "1", After: "2"}, {Path: "a[10].x", After: "3"}, {Path: "b", Before: "true"},
	}, config.ValueChanges(
		json.RawMessage(`{"a":[{},{},{"x":1}],"b":true}`),
		json.RawMessage(`{"a":[{},{},{"x":2},{},{},{},{},{},{},{},{"x":3}]}`)))
}

func ExampleText() {
	text, _ := config.Text(config.Setup{Issuers: []config.Issuer{{Name: "Fernmoor Garden School", URL: "https://fernmoor.example"}}})
	fmt.Print(text)
	// Output:
	// # yaml-language-server: $schema=kanban.schema.json
	// issuers:
	//   - name: Fernmoor Garden School
	//     url: https://fernmoor.example
}
