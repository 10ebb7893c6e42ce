package cli

import (
	"context"
	"fmt"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/report"
	"kanban/internal/wire/api"
	"kanban/internal/wire/chart"
)

// narrowing are the flags by which reports are narrowed and set.
func narrowing() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "organisation", Usage: "only sections of this organisation and those below it; its name or id"},
		&cli.StringFlag{Name: "term", Usage: "only sections of this term (its title)"},
		&cli.StringFlag{Name: "course", Usage: "only this course (code or title)"},
		&cli.StringFlag{Name: "section", Usage: "only this section (code or title)"},
		&cli.StringFlag{Name: "teacher", Usage: "only sections of this teacher; name or id"},
		&cli.StringFlag{Name: "from", Usage: "from `DAY` on, such as 2026-10-01"},
		&cli.StringFlag{Name: "to", Usage: "up to `DAY`"},
		&cli.StringFlag{Name: "by", Usage: "what completion compares: course, section, term, organisation or teacher"},
		&cli.IntFlag{Name: "days", Usage: "after how many `DAYS` without activity somebody has stopped; 14 when not given"},
		&cli.IntFlag{Name: "mark", Usage: "the score in `PERCENT` below which somebody needs help; 50 when not given"},
	}
}

// asked is what the flags ask for.
func asked(cmd *cli.Command) url.Values {
	q := url.Values{}
	for _, f := range []string{"organisation", "term", "course", "section", "teacher", "from", "to", "by"} {
		if cmd.String(f) != "" {
			q.Set(f, cmd.String(f))
		}
	}
	for _, f := range []string{"days", "mark"} {
		if cmd.IsSet(f) {
			q.Set(f, strconv.Itoa(cmd.Int(f)))
		}
	}
	return q
}

func reportsOf() *cli.Command {
	return &cli.Command{
		Name: "reports", Usage: "How far learners have come, who stopped, badges, rosters, rules, services and scores",
		Category: "learning",
		Commands: []*cli.Command{reportsList(), reportsShow(), reportsSave(), reportMailsOf(), reportsRecount()},
	}
}

func reportsList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List the reports",
		Description: "  kanban reports list",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			all, err := client.Get[[]api.ReportKind](ctx, connect(cmd), "/reports")
			if err != nil {
				return err
			}
			return tableOf(all, "", []string{"report", "what it shows", "narrowed by"},
				func(r api.ReportKind) []string {
					return []string{r.Name, r.About, strings.Join(r.Takes, ", ")}
				}).print(cmd)
		},
	}
}

func reportsShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "Show a report", ArgsUsage: "REPORT",
		Description: `What is not given narrows nothing. As CSV it is one table with all its rows: the first, or that of --part.

  kanban reports show completion --course PROP
  kanban reports show completion --course PROP --by term
  kanban reports show stopped --days 7
  kanban reports show badges --from 2026-09-01 --output csv --part 2`,
		Flags: append(narrowing(), &cli.IntFlag{Name: "part", Usage: "only this table, counted from 1"}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c, q := connect(cmd), asked(cmd)
			if cmd.String("output") == "csv" {
				if cmd.IsSet("part") {
					q.Set("part", strconv.Itoa(cmd.Int("part")))
				}
				content, err := c.Download(ctx, "/reports/"+url.PathEscape(args[0])+"/file.csv?"+q.Encode())
				if err == nil {
					_, err = out(cmd).Write(content)
				}
				return err
			}
			r, err := client.Get[api.MadeReport](ctx, c, "/reports/"+url.PathEscape(args[0])+"?"+q.Encode())
			if err != nil {
				return err
			}
			if n := cmd.Int("part"); n != 0 {
				if n < 1 || n > len(r.Parts) {
					return usage(cmd, fmt.Sprintf("--part is %d; the report has %d", n, len(r.Parts)))
				}
				r.Parts = r.Parts[n-1 : n]
			}
			if cmd.String("output") == "json" {
				return table{value: r}.print(cmd)
			}
			return printReport(cmd, r)
		},
	}
}

func reportsSave() *cli.Command {
	return &cli.Command{
		Name: "save", Usage: "Save a report as a file", ArgsUsage: "REPORT FILE",
		Description: `FILE ends with .xlsx or .csv for the tables, .pdf for the report to print, .svg or .png for its chart.

  kanban reports save completion funnel.pdf --course PROP
  kanban reports save badges badges.xlsx
  kanban reports save completion sections.png --course PROP --part 2`,
		Flags: append(narrowing(), &cli.IntFlag{Name: "part", Usage: "which table or chart, counted from 1", Value: 1}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2)
			if err != nil {
				return err
			}
			form := strings.TrimPrefix(strings.ToLower(filepath.Ext(args[1])), ".")
			if !slices.Contains([]string{"csv", "xlsx", "svg", "png", "pdf"}, form) {
				return usage(cmd, "the file ends with .csv, .xlsx, .svg, .png or .pdf")
			}
			q := asked(cmd)
			q.Set("part", strconv.Itoa(cmd.Int("part")))
			content, err := connect(cmd).Download(ctx, "/reports/"+url.PathEscape(
				args[0])+"/file."+form+"?"+q.Encode())
			if err != nil {
				return err
			}
			if err := os.WriteFile(args[1], content, 0o644); err != nil { //nolint:gosec // the file that was named
				return err
			}
			say(cmd, "Saved the report %s as %s.", args[0], args[1])
			return nil
		},
	}
}

// printReport prints a report: what there is to see, each chart drawn with characters, each table.
func printReport(cmd *cli.Command, r api.MadeReport) error {
	say(cmd, "%s", r.Title)
	about := report.Report{Scope: r.Scope, MadeAt: r.MadeAt.Local()}
	for _, s := range r.Sources {
		about.Sources = append(about.Sources, report.Source(s))
	}
	say(cmd, "%s", chart.About(about))
	say(cmd, "\n%s", strings.Join(r.Summary, "\n"))
	for _, p := range r.Parts {
		say(cmd, "\n%s", strings.ToUpper(p.Title))
		if p.Chart != nil {
			say(cmd, "%s", drawn(*p.Chart))
		}
		t := table{empty: p.Empty}
		for _, c := range p.Columns {
			t.columns = append(t.columns, c.Title)
		}
		for _, row := range p.Rows {
			t.rows = append(t.rows, said(p.Columns, row))
		}
		if err := t.print(cmd); err != nil {
			return err
		}
		if more := p.Total - len(p.Rows); more > 0 {
			say(cmd, "and %d more; see them all with: kanban reports save %s %s.xlsx", more, r.Name, r.Name)
		}
	}
	for _, x := range r.Remarks {
		say(cmd, "\n%s", x)
	}
	return nil
}

// said says the cells of a row as people read them.
func said(columns []api.ReportColumn, row []any) []string {
	out := make([]string, len(row))
	for i, cell := range row {
		unit := report.Unit(columns[i].Unit)
		if text, is := cell.(string); is && unit == report.Time {
			if at, err := time.Parse(time.RFC3339, text); err == nil {
				cell = at
			}
		}
		out[i] = unit.Say(cell, time.Local)
	}
	return out
}

// How a chart of characters is drawn.
const (
	barWidth  = 48
	mostDrawn = 40
)

// fills are the characters of tones.
var fills = map[string]string{"done": "█", "open": "▒", "bad": "▓", "rest": "░", "second": "▚"}

// drawn draws a chart with characters, one line for each label.
func drawn(c api.ReportChart) string {
	var b strings.Builder
	if len(c.Series) > 1 {
		for _, s := range c.Series {
			fmt.Fprintf(&b, "%s %s  ", fills[s.Tone], s.Title)
		}
		b.WriteString("\n")
	}
	core := report.Chart{Kind: report.Bars, Labels: c.Labels}
	wide := 0
	for _, s := range c.Series {
		core.Series = append(core.Series, report.Series{Values: s.Values})
	}
	first := max(len(c.Labels)-mostDrawn, 0)
	if c.Kind == string(report.Bars) {
		first = 0 // of days the last ones are drawn, of groups the first
	}
	labels := c.Labels[first:min(first+mostDrawn, len(c.Labels))]
	for _, l := range labels {
		wide = max(wide, text.StringWidthWithoutEscSequences(chart.Moment(l)))
	}
	most := max(core.Most(), 1)
	for i, l := range labels {
		sum, length := 0.0, 0
		line := text.Pad(chart.Moment(l), wide, ' ') + "  "
		for _, s := range c.Series {
			v := s.Values[first+i]
			sum += v
			to := int(math.Round(sum / most * barWidth))
			if v > 0 && to == length {
				to++ // what is there can be seen
			}
			line += strings.Repeat(fills[s.Tone], to-length)
			length = to
		}
		fmt.Fprintf(&b, "%s %s\n", line, strconv.FormatFloat(sum, 'f', -1, 64))
	}
	if rest := len(c.Labels) - len(labels); rest > 0 {
		fmt.Fprintf(&b, "and %d more\n", rest)
	}
	return b.String()
}
