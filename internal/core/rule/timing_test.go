package rule_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/rule"
)

func TestSpan(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"": 0, " 90m ": 90 * time.Minute, "2h": 2 * time.Hour,
		"3d": 72 * time.Hour, "0d": 0,
	} {
		got, err := rule.Span(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"3", "d", "-1d", "3 weeks", "1.5h", "400d", "99999999999999999999d"} {
		_, err := rule.Span(text)
		assert.ErrorIs(t, err, rule.ErrTiming, text)
	}
}

func TestQuietHours(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Vienna")
	require.NoError(t, err)
	night, noon := rule.QuietHours{From: "22:00", To: "07:00"}, rule.QuietHours{From: "12:00", To: "13:30"}
	for _, c := range []struct {
		quiet    rule.QuietHours
		at, want string
	}{
		{night, "2026-05-04T21:59:00+02:00", "2026-05-04T21:59:00+02:00"},
		{night, "2026-05-04T22:00:00+02:00", "2026-05-05T07:00:00+02:00"},
		{night, "2026-05-05T03:00:00+02:00", "2026-05-05T07:00:00+02:00"},
		{night, "2026-05-05T07:00:00+02:00", "2026-05-05T07:00:00+02:00"},
		{noon, "2026-05-05T12:45:00+02:00", "2026-05-05T13:30:00+02:00"},
		{noon, "2026-05-05T13:30:00+02:00", "2026-05-05T13:30:00+02:00"},
		// The night in which the clocks go back is an hour longer, the one in which
		// they go forward an hour shorter; it ends at seven by the clock.
		{night, "2026-10-24T22:30:00+02:00", "2026-10-25T07:00:00+01:00"},
		{night, "2026-03-28T22:30:00+01:00", "2026-03-29T07:00:00+02:00"},
		{rule.QuietHours{}, "2026-05-05T03:00:00+02:00", "2026-05-05T03:00:00+02:00"},
	} {
		at, err := time.Parse(time.RFC3339, c.at)
		require.NoError(t, err)
		want, err := time.Parse(time.RFC3339, c.want)
		require.NoError(t, err)
		assert.True(t, want.Equal(c.quiet.Until(at, zone)), "%v at %s: %s", c.quiet, c.at, c.quiet.Until(at, zone))
	}
	for _, q := range []rule.QuietHours{{From: "22:00"}, {From: "25:00", To: "07:00"}, {From: "07:00", To: "07:00"}} {
		assert.ErrorIs(t, q.Check(), rule.ErrTiming)
	}
	assert.ErrorIs(t, rule.Limit{Most: 1, Per: "year"}.Check(), rule.ErrTiming)
	assert.Equal(t, 24*time.Hour, rule.Limit{Per: "day"}.Window())
}
