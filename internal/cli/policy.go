package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/core/roster"
	"kanban/internal/core/schedule"
)

// policyFlags are the flags that change what a pairing wants; with more for the
// command's own.
func policyFlags(more ...cli.Flag) []cli.Flag {
	return slices.Concat(more, []cli.Flag{
		&cli.StringSliceFlag{Name: "role", Usage: "the roles that are carried"},
		&cli.StringFlag{Name: "leavers", Usage: "remove, deactivate or keep people who left"},
		&cli.BoolWithInverseFlag{Name: "hold", Usage: "keep learners back until the class is opened"},
		&cli.BoolWithInverseFlag{Name: "notify", Usage: "let the service notify new members"},
		&cli.BoolWithInverseFlag{Name: "own", Usage: "take out members whom Kanban did not put in"},
		&cli.StringFlag{
			Name:  "schedule",
			Usage: "when it runs by itself: by-hand, after-read, \"every 30\" (minutes), \"daily 06:30\", \"daily 06:30 monday,friday\"",
		},
		&cli.IntFlag{Name: "removal-number", Usage: "stop above so many removals"},
		&cli.FloatFlag{Name: "removal-share", Usage: "stop above this share of removals, 0 to 1"},
	})
}

// changePolicy changes what was given; the rest stays.
func changePolicy(cmd *cli.Command, p *roster.Policy) (err error) {
	for name, set := range map[string]func(){
		"leavers":  func() { p.Leavers = roster.Leavers(cmd.String("leavers")) },
		"hold":     func() { p.Hold = cmd.Bool("hold") },
		"notify":   func() { p.Notify = cmd.Bool("notify") },
		"own":      func() { p.OwnTarget = cmd.Bool("own") },
		"schedule": func() { p.Schedule, err = parseSchedule(cmd.String("schedule")) },
		"role": func() {
			p.Roles = nil
			for _, r := range cmd.StringSlice("role") {
				p.Roles = append(p.Roles, roster.Role(r))
			}
		},
		"removal-number": func() { p.RemovalNumber = cmd.Int("removal-number") },
		"removal-share":  func() { p.RemovalShare = cmd.Float("removal-share") },
	} {
		if cmd.IsSet(name) {
			set()
		}
	}
	return err
}

// parseSchedule reads "by-hand", "after-read", "every 30", "daily 06:30" and
// "daily 06:30 monday,friday".
func parseSchedule(text string) (schedule.Schedule, error) {
	var s schedule.Schedule
	var err error
	switch words := strings.Fields(text); {
	case len(words) == 0:
		err = fmt.Errorf("it is empty; to run it by hand only, say by-hand")
	case words[0] == string(schedule.Every) && len(words) == 2:
		s.Kind = schedule.Every
		s.Minutes, err = strconv.Atoi(words[1])
	case words[0] == string(schedule.Daily) && len(words) >= 2:
		s.Kind, s.At = schedule.Daily, words[1]
		if len(words) == 3 {
			s.Days = strings.Split(strings.ToLower(words[2]), ",")
		}
	default:
		s.Kind = schedule.Kind(words[0])
	}
	if err == nil {
		err = s.Check()
	}
	if err != nil {
		return s, fmt.Errorf("%w: --schedule %q: %w", errUsage, text, err)
	}
	return s, nil
}
