package rule_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/rule"
)

func TestConditionsThatCanNeverHold_E5(t *testing.T) {
	x := rule.NewExpressions()
	domains := rule.Domains(rule.ProgressCrossed)
	domains["event.percent"] = rule.Domain{
		OneOf: []any{int64(25), int64(50), int64(75), int64(100)},
		About: "event.percent is 25, 50, 75 or 100 here",
	}
	for text, why := range map[string]string{
		`event.percent == 30`: "event.percent is 25, 50, 75 or 100 here",
		`event.percent > 50 && event.percent < 75 && person.email != ""`: "25, 50, 75 or 100",
		`event.percent in [10, 20] || event.type == "module.completed"`:  "event.type is",
		`progress.percent > 100`:                         "between 0 and 100",
		`progress.percent > 40 && 40 > progress.percent`: "between 0 and 100",
		`false`: "it can never hold",
	} {
		assert.ErrorContains(t, x.CheckPossible(text, rule.ProgressCrossed, domains), why, text)
	}
	for _, text := range []string{
		``, `event.percent >= 30`, `event.percent == 50 || false`, `person.email.endsWith("x")`,
		`progress.percent > 40 && progress.percent < 42`, `event.percent * 2 == 50`,
		`progress.percent * 2 > 150`, `event.exists(k, k == "percent")`, `!(event.percent == 30)`,
		`section.code == "" ? event.percent == 30 : true`, `has(event.percent)`,
		`100 / (event.percent - 25) > 1`,
	} {
		assert.NoError(t, x.CheckPossible(text, rule.ProgressCrossed, domains), text)
	}
	passed := rule.Domains(rule.AssessmentPassed)
	assert.ErrorContains(t, x.CheckPossible(`event.score >= 80`, rule.AssessmentPassed, passed), "so 80 % is 0.8")
	assert.ErrorContains(t, x.CheckPossible(`has(event.score) && event.score > 1`, rule.AssessmentPassed, passed),
		"event.score lies between -1 and 1")
	for _, text := range []string{
		`!has(event.score)`, `event.score > 0.99 && event.score < 0.995`,
		`!has(event.score) || event.score > 7`, `event.score > 7 || person.name == "x"`,
	} {
		assert.NoError(t, x.CheckPossible(text, rule.AssessmentPassed, passed), text)
	}
}

// A condition that holds for some event is never refused.
func TestNothingPossibleIsRefused_E5(t *testing.T) {
	x := rule.NewExpressions()
	number := rapid.SampledFrom([]string{"-1", "0", "0.5", "0.8", "1", "25", "30", "100", "101"})
	rapid.Check(t, func(t *rapid.T) {
		var build func(depth int) string
		build = func(depth int) string {
			if depth == 0 || rapid.Bool().Draw(t, "leaf") {
				switch rapid.IntRange(0, 3).Draw(t, "kind") {
				case 0:
					return "has(event.score)"
				case 1:
					return `person.email == "a"`
				}
				a := rapid.SampledFrom([]string{"event.score", "event.percent", "progress.percent"}).Draw(t,
					"attribute")
				return a + rapid.SampledFrom([]string{" < ", " <= ", " > ", " >= ", " == ", " != "}).Draw(t,
					"operator") + number.Draw(t, "number")
			}
			if rapid.IntRange(0, 3).Draw(t, "not") == 0 {
				return "!(" + build(depth-1) + ")"
			}
			return "(" + build(depth-1) + rapid.SampledFrom([]string{" && ", " || "}).Draw(t,
				"join") + build(depth-1) + ")"
		}
		text := build(4)
		refused := x.CheckPossible(text, rule.AssessmentPassed, rule.Domains(rule.AssessmentPassed)) != nil
		v := rule.Values{
			"event":    {"percent": int64(rapid.IntRange(0, 100).Draw(t, "percent"))},
			"progress": {"percent": int64(rapid.IntRange(0, 100).Draw(t, "now"))},
			"person":   {"email": rapid.SampledFrom([]string{"a", "b"}).Draw(t, "email")},
		}
		if rapid.Bool().Draw(t, "scored") {
			v["event"]["score"] = rapid.OneOf(rapid.Float64Range(-1, 1),
				rapid.SampledFrom([]float64{-1, 0, 0.5, 0.8, 1})).Draw(t, "score")
		}
		holds, err := x.Holds(text, v)
		require.False(t, err == nil && holds && refused, fmt.Sprintf("%s holds for %v", text, v))
	})
}
