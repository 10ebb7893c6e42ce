package cli

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"kanban/internal/core/roster"
	"kanban/internal/core/schedule"
)

func TestSchedulesAreWrittenAsPeopleSayThem_R4(t *testing.T) {
	for text, want := range map[string]schedule.Schedule{
		"by-hand":                   {Kind: schedule.ByHand},
		" after-read ":              {Kind: schedule.AfterRead},
		"every 30":                  {Kind: schedule.Every, Minutes: 30},
		"daily 06:30":               {Kind: schedule.Daily, At: "06:30"},
		"daily 06:30 Monday,friday": {Kind: schedule.Daily, At: "06:30", Days: []string{"monday", "friday"}},
		"daily   23:59   sunday":    {Kind: schedule.Daily, At: "23:59", Days: []string{"sunday"}},
	} {
		got, err := parseSchedule(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{
		"", "  ", "every", "every x", "every 1", "daily", "daily 25:00",
		"daily 06:30 payday", "hourly",
	} {
		_, err := parseSchedule(text)
		assert.ErrorIs(t, err, errUsage, "%q", text)
	}
}

// What is not given stays; what is given with no- is reverted.
func TestOnlyWhatIsGivenOfAPolicyChanges(t *testing.T) {
	change := func(args ...string) (p roster.Policy, err error) {
		p = roster.DefaultPolicy()
		p.Hold, p.Notify = true, true
		app := &cli.Command{
			Name: "x", Flags: policyFlags(),
			Action: func(_ context.Context, cmd *cli.Command) error { return changePolicy(cmd, &p) },
		}
		err = app.Run(t.Context(), append([]string{"x"}, args...))
		return p, err
	}
	was, err := change()
	require.NoError(t, err)
	now, err := change("--leavers", "keep", "--no-hold", "--own", "--role", "teacher", "--schedule", "every 60",
		"--removal-number", "3", "--removal-share", "0.5")
	require.NoError(t, err)
	assert.Equal(t, roster.Policy{
		Roles: []roster.Role{roster.Teacher}, Leavers: roster.LeaversKeep, Hold: false, OwnTarget: true, Notify: true,
		RemovalNumber: 3, RemovalShare: 0.5,
		Schedule: schedule.Schedule{Kind: schedule.Every, Minutes: 60},
	}, now)
	assert.True(t, was.Hold && was.Notify)
	_, err = change("--schedule", "sometimes")
	assert.ErrorIs(t, err, errUsage)
}
