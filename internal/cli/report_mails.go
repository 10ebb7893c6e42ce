package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/schedule"
	"kanban/internal/wire/api"
)

// sending are the flags by which it is said when, how and to whom a report is sent.
func sending() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "to", Usage: "e-mail `ADDRESS`; can be given several times"},
		&cli.StringFlag{Name: "at", Usage: "`TIME` of day, such as 07:00"},
		&cli.StringSliceFlag{Name: "on", Usage: "`DAY`, such as monday; every day when not given; can be given several times"},
		&cli.StringFlag{Name: "form", Usage: "pdf, xlsx, csv, png or svg; pdf when not given"},
	}
}

func reportMailsOf() *cli.Command {
	return &cli.Command{
		Name: "mails", Usage: "Reports that are sent by mail by the clock",
		Commands: []*cli.Command{
			reportMailsList(), reportMailsAdd(), reportMailsEdit(), reportMailsRemove(), reportMailsSend(),
		},
	}
}

func reportMailsList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List the reports that are sent, the one that is due next first",
		Description: "  kanban reports mails list",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			page, err := client.Get[api.Page[api.ReportMail]](ctx, connect(cmd), "/report-mails")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "No report is sent.", []string{
				"id", "report", "narrowed to", "as", "when", "to", "next", "the last time",
			}, func(m api.ReportMail) []string {
				next := moment(m.NextAt)
				if m.Paused {
					next = "paused"
				}
				return []string{
					m.ID, m.Report, narrowedTo(m.Narrowed), m.Form, m.Schedule.String(),
					strings.Join(m.Recipients, ", "), next,
					lastTime(m.Last),
				}
			}).print(cmd)
		},
	}
}

// narrowedTo says to what a report is narrowed.
func narrowedTo(fields map[string]string) string {
	var out []string
	for field, text := range fields {
		out = append(out, field+" "+text)
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

// lastTime says what became of the latest mails.
func lastTime(all []api.SentReport) string {
	if len(all) == 0 {
		return "not sent yet"
	}
	sent := 0
	for _, x := range all {
		if x.SentAt == nil {
			return x.To + ": " + x.Trouble
		}
		sent++
	}
	return fmt.Sprintf("%d sent on %s", sent, when(all[0].SentAt))
}

// wanted reads the flags into a mail; what is not given stays as it is.
func wanted(cmd *cli.Command, m *api.NewReportMail) {
	if q := asked(cmd); len(q) > 0 {
		m.Narrowed = map[string]string{}
		for field := range q {
			m.Narrowed[field] = q.Get(field)
		}
	}
	if cmd.IsSet("form") {
		m.Form = cmd.String("form")
	}
	if cmd.IsSet("to") {
		m.Recipients = cmd.StringSlice("to")
	}
	m.Schedule.Kind = schedule.Daily
	if cmd.IsSet("at") {
		m.Schedule.At = cmd.String("at")
	}
	if cmd.IsSet("on") {
		m.Schedule.Days = cmd.StringSlice("on")
	}
}

func reportMailsAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "Let a report be sent by mail by the clock", ArgsUsage: "REPORT",
		Description: `It is narrowed as with show. A mail holds the file, what there is to see in sentences, and where to look at it.

  kanban reports mails add completion --course PROP --on monday --at 07:00 --to head@school.example
  kanban reports mails add behind --form xlsx --at 06:30 --to office@school.example --to head@school.example`,
		Flags: append(renamed(narrowing()), sending()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			m := api.NewReportMail{Report: args[0], Form: "pdf", Recipients: []string{}}
			wanted(cmd, &m)
			if m.Schedule.At == "" || len(m.Recipients) == 0 {
				return usage(cmd, "give --at, a time of day, and --to, to whom")
			}
			made, err := client.Post[api.ReportMail](ctx, connect(cmd), "/report-mails", m)
			if err != nil {
				return err
			}
			say(cmd, "The report %s is sent %s, next on %s.", made.Report, made.Schedule, when(made.NextAt))
			return nil
		},
	}
}

// renamed leaves out the flag --to of reports, which is to whom here: a report that is sent again and again ends on
// no day.
func renamed(flags []cli.Flag) []cli.Flag {
	return slices.DeleteFunc(flags, func(f cli.Flag) bool {
		return slices.ContainsFunc(f.Names(), func(n string) bool { return n == "to" || n == "from" })
	})
}

// findReportMail finds one by its id.
func findReportMail(ctx context.Context, c *client.Client, id string) (m api.ReportMail, err error) {
	page, err := client.Get[api.Page[api.ReportMail]](ctx, c, "/report-mails")
	if err != nil {
		return m, err
	}
	for _, x := range page.Items {
		if x.ID == id {
			return x, nil
		}
	}
	return m, fmt.Errorf("no mail has the id %q; see them with: kanban reports mails list", id)
}

func reportMailsEdit() *cli.Command {
	return &cli.Command{
		Name: "edit", Usage: "Change when, how or to whom a report is sent; what is not given stays", ArgsUsage: "ID",
		Description: `  kanban reports mails edit ID --at 08:00 --on monday --on thursday
  kanban reports mails edit ID --pause
  kanban reports mails edit ID --resume`,
		Flags: append(append(renamed(narrowing()), sending()...),
			&cli.BoolFlag{Name: "pause", Usage: "send it no longer for the time being"},
			&cli.BoolFlag{Name: "resume", Usage: "send it again"}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			m, err := findReportMail(ctx, c, args[0])
			if err != nil {
				return err
			}
			wanted(cmd, &m.NewReportMail)
			m.Paused = (m.Paused || cmd.Bool("pause")) && !cmd.Bool("resume")
			made, err := client.Edit[api.ReportMail](ctx, c, http.MethodPut, "/report-mails/"+m.ID, m.Version,
				m.NewReportMail)
			if err != nil {
				return err
			}
			if made.Paused {
				say(cmd, "The report %s is paused.", made.Report)
				return nil
			}
			say(cmd, "The report %s is sent %s, next on %s.", made.Report, made.Schedule, when(made.NextAt))
			return nil
		},
	}
}

func reportMailsRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Let a report be sent no longer", ArgsUsage: "ID",
		Description: "  kanban reports mails remove ID",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			_, err = client.Send[client.Empty](ctx, connect(cmd), http.MethodDelete, "/report-mails/"+args[0], nil)
			if err != nil {
				return err
			}
			say(cmd, "It is sent no longer.")
			return nil
		},
	}
}

func reportMailsSend() *cli.Command {
	return &cli.Command{
		Name: "send", Usage: "Send a report now, besides when it is due", ArgsUsage: "ID",
		Description: "  kanban reports mails send ID",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			if _, err := client.Post[client.Empty](ctx, connect(cmd), "/report-mails/"+args[0]+"/send",
				nil); err != nil {
				return err
			}
			say(cmd, "It is on its way.")
			return nil
		},
	}
}
