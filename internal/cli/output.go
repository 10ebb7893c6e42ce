package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
)

// signals are the characters that stand for states, the same shapes as on the
// console's pages. They never stand alone: the word is always beside them.
var signals = map[roster.State]string{
	roster.NeedsPerson: "▲", roster.OutOfStep: "◐", roster.NeverRun: "○", roster.Held: "◧",
	roster.Paused: "‖", roster.InStep: "●", roster.NotPaired: "·", roster.Ended: "□",
}

func state(s roster.State) string { return signals[s] + " " + strings.ReplaceAll(string(s), "-", " ") }

// table is something to print: columns for people and files, value for JSON.
type table struct {
	value   any
	columns []string
	rows    [][]string
	empty   string // what to say when there are no rows
}

// tableOf makes a table of records.
func tableOf[T any](records []T, empty string, columns []string, row func(T) []string) table {
	t := table{value: records, columns: columns, empty: empty}
	for _, r := range records {
		t.rows = append(t.rows, row(r))
	}
	return t
}

func (t table) print(cmd *cli.Command) error {
	out := cmd.Root().Writer
	if out == nil {
		out = os.Stdout
	}
	switch cmd.String("output") {
	case "json":
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		return e.Encode(t.value)
	case "csv":
		w := csv.NewWriter(out)
		_ = w.Write(t.columns)
		for _, r := range t.rows {
			_ = w.Write(harmless(r))
		}
		w.Flush()
		return w.Error()
	}
	if len(t.rows) == 0 && t.empty != "" {
		_, err := fmt.Fprintln(out, t.empty)
		return err
	}
	return t.text(out)
}

func (t table) text(out io.Writer) error {
	w := tabwriter.NewWriter(out, 0, 4, 2, ' ', 0)
	heads := make([]string, len(t.columns))
	for i, c := range t.columns {
		heads[i] = strings.ToUpper(c)
	}
	fmt.Fprintln(w, strings.Join(heads, "\t"))
	for _, r := range t.rows {
		for i := range r {
			r[i] = strings.Join(strings.Fields(r[i]), " ")
		}
		fmt.Fprintln(w, strings.Join(r, "\t"))
	}
	return w.Flush()
}

// harmless keeps spreadsheets from running cells as formulas.
func harmless(row []string) []string {
	out := make([]string, len(row))
	for i, c := range row {
		if c != "" && strings.ContainsRune("=+-@\t\r", rune(c[0])) {
			c = "'" + c
		}
		out[i] = c
	}
	return out
}

// say prints a sentence for people; it is left out of JSON and CSV.
func say(cmd *cli.Command, format string, args ...any) {
	if cmd.String("output") == "table" {
		out := cmd.Root().Writer
		if out == nil {
			out = os.Stdout
		}
		fmt.Fprintf(out, format+"\n", args...)
	}
}

func when(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return t.Local().Format("2 Jan 15:04:05")
}

// bar shows the progress of a run when people look on, and nothing otherwise.
func bar() func(api.Run) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return func(api.Run) {}
	}
	b := progressbar.NewOptions(-1, progressbar.OptionSetWriter(os.Stderr), progressbar.OptionClearOnFinish(),
		progressbar.OptionSetWidth(24), progressbar.OptionEnableColorCodes(false), progressbar.OptionShowCount())
	return func(r api.Run) {
		if r.Total > 0 {
			b.ChangeMax(r.Total)
		}
		b.Describe(r.Step)
		_ = b.Set(r.Done)
		if r.Ended() {
			_ = b.Finish()
		}
	}
}

func counts(c map[roster.Outcome]int) string {
	var parts []string
	for _, o := range roster.Outcomes {
		if n := c[o]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, strings.ReplaceAll(string(o), "-", " ")))
		}
	}
	return strings.Join(parts, ", ")
}
