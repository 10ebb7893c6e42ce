package rule_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kanban/internal/core/rule"
)

func TestResultsThatCount_E8(t *testing.T) {
	at := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	of := func(letters string) (all []rule.Result) {
		for i, l := range letters {
			r := rule.Result{Trigger: rule.AssessmentPassed, At: at.Add(time.Duration(i) * time.Hour)}
			if l == 'f' {
				r.Trigger = rule.AssessmentFailed
			}
			all = append(all, r)
		}
		return all
	}
	for _, c := range []struct {
		results             string
		latest, best, first bool // whether it counts as a pass
	}{
		{"p", true, true, true},
		{"f", false, false, false},
		{"fp", true, true, false},
		{"pf", false, true, true},
		{"fpfp", true, true, false},
		{"fpf", false, true, false},
		{"ppf", false, true, true},
	} {
		for counts, pass := range map[rule.Counts]bool{
			rule.LatestResult: c.latest, rule.BestResult: c.best,
			rule.FirstResult: c.first,
		} {
			assert.Equal(t, pass, counts.Holds(rule.AssessmentPassed, of(c.results)), "%s %s", counts, c.results)
			assert.Equal(t, !pass, counts.Holds(rule.AssessmentFailed, of(c.results)), "%s %s", counts, c.results)
		}
		assert.True(t, rule.EveryResult.Holds(rule.AssessmentFailed, of(c.results)))
	}
}

// However results are ordered, the same one counts, also when several are of one moment.
func TestResultsCountInAnyOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) rule.Result {
			return rule.Result{
				Trigger: rapid.SampledFrom([]rule.Trigger{rule.AssessmentPassed, rule.AssessmentFailed}).Draw(t,
					"result"),
				At:  time.Unix(int64(rapid.IntRange(0, 3).Draw(t, "at")), 0),
				Key: rapid.StringMatching(`[a-z]{6}`).Draw(t, "key"),
			}
		}), 1, 6).Draw(t, "results")
		mixed := rapid.Permutation(all).Draw(t, "mixed")
		for _, c := range []rule.Counts{rule.LatestResult, rule.BestResult, rule.FirstResult} {
			assert.Equal(t, c.Holds(rule.AssessmentPassed, all), c.Holds(rule.AssessmentPassed, mixed))
			assert.NotEqual(t, c.Holds(rule.AssessmentPassed, all), c.Holds(rule.AssessmentFailed, all),
				"one of the two")
		}
	})
}

func TestWhichResultCountsForARule(t *testing.T) {
	undone := rule.Draft{Trigger: "assessment.failed", UndoneBy: []string{"assessment.passed"}}
	assert.Equal(t, rule.LatestResult, undone.ResultThatCounts())
	assert.Equal(t, rule.EveryResult, rule.Draft{Trigger: "assessment.failed"}.ResultThatCounts())
	assert.Equal(t, rule.EveryResult, rule.Draft{
		Trigger:  "section.joined",
		UndoneBy: []string{"section.left"},
	}.ResultThatCounts())
	undone.Counts = rule.BestResult
	assert.Equal(t, rule.BestResult, undone.ResultThatCounts())
}
