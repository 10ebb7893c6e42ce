package grade_test

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/grade"
)

// What is kept of a mark comes back as it was, also one that is no number.
func TestMarksComeBackAsTheyWereKept(t *testing.T) {
	for _, m := range []grade.Mark{
		{},
		{Kind: grade.Points, Points: 0},
		{Kind: grade.Points, Points: 17.25, Flags: grade.Late | grade.Missing, Comment: "well \"done\""},
		{Kind: grade.Text, Text: "passed"},
		{Kind: grade.Done},
		{Kind: grade.Points, Points: math.NaN()},
	} {
		text, err := json.Marshal(m)
		require.NoError(t, err)
		var back grade.Mark
		require.NoError(t, json.Unmarshal(text, &back), "%s", text)
		assert.Equal(t, m.String(), back.String(), "%s", text)
		assert.Equal(t, []any{m.Kind, m.Flags, m.Comment}, []any{back.Kind, back.Flags, back.Comment})
	}
	for _, text := range []string{`{"kind":"stars"}`, `[]`, `{"kind":1}`} {
		assert.Error(t, json.Unmarshal([]byte(text), &grade.Mark{}), text)
	}
}

// A plan comes back as it was kept, with its fingerprint.
func TestPlansComeBackAsTheyWereKept(t *testing.T) {
	var counted grade.Outcome
	for _, o := range grade.Outcomes {
		text, err := o.MarshalText()
		require.NoError(t, err)
		require.NoError(t, counted.UnmarshalText(text))
		assert.Equal(t, o, counted)
	}
	require.Error(t, counted.UnmarshalText([]byte("maybe")))
	plan := grade.Plan{Items: []grade.ItemPlan{{
		ID: "i", Outcome: grade.ItemMade,
		Entries: []grade.Entry{{
			Who: "p", Outcome: grade.New, Reason: "score-new", Ours: grade.Mark{Kind: grade.Points, Points: 3},
			Lost: grade.Late, Shortened: true,
		}},
	}}}
	text, err := json.Marshal(plan)
	require.NoError(t, err)
	var back grade.Plan
	require.NoError(t, json.Unmarshal(text, &back))
	assert.Equal(t, plan, back)
	assert.Equal(t, plan.Fingerprint(), back.Fingerprint())
}
