package rule_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/rule"
)

func ExampleIndex_Match() {
	index := rule.NewIndex([]rule.Rule{
		{ID: "any", Trigger: rule.ModuleCompleted},
		{ID: "orchard", Trigger: rule.ModuleCompleted, Scope: rule.Scope{Course: "orchard"}},
		{ID: "bees", Trigger: rule.ModuleCompleted, Scope: rule.Scope{Course: "bees"}},
	})
	for _, r := range index.Match(rule.Event{
		Type: rule.ModuleCompleted,
		At:   rule.Scope{Course: "orchard", Module: "m1"},
	}) {
		fmt.Println(r.ID)
	}
	// Output:
	// any
	// orchard
}

// The index finds exactly what looking at every rule would find.
func TestIndexAgreesWithLookingAtAll(t *testing.T) {
	scope := rapid.Custom(func(t *rapid.T) rule.Scope {
		id := rapid.SampledFrom([]string{"", "", "1", "2"})
		return rule.Scope{
			Course: id.Draw(t, "c"), Section: id.Draw(t, "s"), Module: id.Draw(t, "m"),
			Activity: id.Draw(t, "a"),
		}
	})
	trigger := rapid.SampledFrom(rule.Triggers[:3])
	rapid.Check(t, func(t *rapid.T) {
		var rules []rule.Rule
		for i := range rapid.IntRange(0, 12).Draw(t, "n") {
			rules = append(rules, rule.Rule{
				ID: fmt.Sprintf("%02d", i), Trigger: trigger.Draw(t, "t"),
				Scope: scope.Draw(t, "scope"),
			})
		}
		e := rule.Event{Type: trigger.Draw(t, "type"), At: scope.Draw(t, "at")}
		var want []rule.Rule
		fits := func(r, at string) bool { return r == "" || r == at }
		for _, r := range rules {
			if r.Trigger == e.Type && fits(r.Scope.Course, e.At.Course) && fits(r.Scope.Section, e.At.Section) &&
				fits(r.Scope.Module, e.At.Module) && fits(r.Scope.Activity, e.At.Activity) {
				want = append(want, r)
			}
		}
		if got := rule.NewIndex(rules).Match(e); !assert.ObjectsAreEqual(want, got) {
			t.Fatalf("%+v: want %v, got %v", e, want, got)
		}
	})
}

var values = rule.Values{
	"person": {"givenName": "Ana", "email": "ana@fernmoor.example", "roles": []any{"student"}},
	"event":  {"score": 0.92, "percent": int64(50)},
}

func TestConditions(t *testing.T) {
	x := rule.NewExpressions()
	for text, want := range map[string]bool{
		"": true, "  ": true,
		`person.givenName == "Ana"`:                              true,
		`event.score >= 0.95`:                                    false,
		`"student" in person.roles && event.percent > 25`:        true,
		`has(event.late) && event.late`:                          false,
		`person.email.lowerAscii().endsWith("fernmoor.example")`: true,
	} {
		require.NoError(t, x.CheckCondition(text), text)
		got, err := x.Holds(text, values)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
}

func TestConditionsThatCannotBeUsed(t *testing.T) {
	x := rule.NewExpressions()
	for text, want := range map[string]string{
		`person.givenName ==`: "Syntax error",
		`persn.givenName`:     "undeclared reference",
		`1 + 1`:               "must be true or false",
		strings.Repeat("true || ", 1000) + "true": "longer than",
	} {
		err := x.CheckCondition(text)
		require.ErrorIs(t, err, rule.ErrExpression)
		assert.ErrorContains(t, err, want)
	}
	_, err := x.Holds(`event.nothing == 1`, values)
	assert.ErrorContains(t, err, "no such key")
	_, err = x.Holds(`person.givenName`, values)
	assert.ErrorContains(t, err, "instead of true or false")
}

func TestCostlyConditionStops(t *testing.T) {
	x := rule.NewExpressions()
	list := "[" + strings.TrimSuffix(strings.Repeat("1,", 60), ",") + "]"
	_, err := x.Holds(list+".all(a, "+list+".all(b, "+list+".all(c, a == b && b == c)))", nil)
	require.ErrorIs(t, err, rule.ErrExpression)
	assert.ErrorContains(t, err, "cost limit")
}

func TestMappingGivesPlainValues(t *testing.T) {
	x := rule.NewExpressions()
	for text, want := range map[string]any{
		`"joined-" + person.givenName`: "joined-Ana", `event.score`: 0.92,
		`person.roles`: []any{"student"},
	} {
		got, err := x.Value(text, values)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
}

// Nothing that somebody writes into a text costs time or memory out of proportion.
func TestTextsEndSoon(t *testing.T) {
	nested := `{{define "a"}}x{{end}}`
	for i := range 30 {
		nested += fmt.Sprintf(`{{define "%c"}}{{template "%c"}}{{template "%c"}}{{end}}`, 'b'+i, 'a'+i, 'a'+i)
	}
	for what, text := range map[string]string{
		"definitions":      nested + `{{template "z"}}`,
		"a block":          `{{block "b" .}}x{{end}}`,
		"a number":         `{{range 1000000000}}{{end}}`,
		"a variable":       `{{$n := 1000000000}}{{range $n}}{{end}}`,
		"ranges in ranges": `{{range .event.a}}{{range .event.a}}{{end}}{{end}}`,
		"a wide number":    `{{printf "%999999999d" 1}}`,
		"a starred width":  `{{printf "%*d" 999999999 1}}`,
		"doubling":         `{{$x := "aaaaaaaa"}}` + strings.Repeat(`{{$x = printf "%s%s" $x $x}}`, 40) + `{{$x}}`,
		"printing":         `{{$x := "aaaaaaaa"}}` + strings.Repeat(`{{$x = print $x $x}}`, 40) + `{{$x}}`,
		"escaping":         `{{"\\"` + strings.Repeat(`|js`, 40) + `}}`,
		"length":           strings.Repeat("a", 70<<10),
		"counting":         `{{range .event.n}}{{end}}`,
		"a long list":      `{{range .event.long}}{{end}}`,
	} {
		_, err := rule.Fill(text, rule.Values{"event": {
			"a": []any{"x"}, "n": int64(5_000_000_000),
			"long": make([]any, 20_000),
		}})
		assert.ErrorIs(t, err, rule.ErrText, what)
	}
	got, err := rule.Fill(`{{if .person.givenName}}{{with .person.givenName}}{{.}}{{end}}{{end}}{{range $i, $x := .event.list}}{{$i}}{{$x}}{{end}}`, rule.Values{"person": {"givenName": "Ana"}, "event": {"list": []any{"a", "b"}}})
	require.NoError(t, err)
	assert.Equal(t, "Ana0a1b", got)
}

func TestFill(t *testing.T) {
	got, err := rule.Fill("Well done, {{.person.givenName}}!", values)
	require.NoError(t, err)
	assert.Equal(t, "Well done, Ana!", got)
	_, err = rule.Fill("{{.person.shoeSize}}", values)
	assert.ErrorIs(t, err, rule.ErrText)
	assert.ErrorIs(t, rule.CheckText("{{.person"), rule.ErrText)
	_, err = rule.Fill(`{{range .person.roles}}{{printf "%300000d" 1}}{{end}}`, values)
	assert.ErrorContains(t, err, "grows beyond")
}

// The cost of matching follows the rules that match: compare the two figures.
func BenchmarkMatch(b *testing.B) {
	for _, n := range []int{100, 10_000} {
		b.Run(fmt.Sprintf("rules=%d", n), func(b *testing.B) {
			rules := make([]rule.Rule, n)
			for i := range rules {
				rules[i] = rule.Rule{
					ID: fmt.Sprint(i), Trigger: rule.ModuleCompleted,
					Scope: rule.Scope{Course: fmt.Sprint(i)},
				}
				if i < 5 {
					rules[i].Scope = rule.Scope{}
				}
			}
			index := rule.NewIndex(rules)
			b.ReportAllocs()
			for b.Loop() {
				index.Match(rule.Event{Type: rule.ModuleCompleted, At: rule.Scope{Course: "none"}})
			}
		})
	}
}
