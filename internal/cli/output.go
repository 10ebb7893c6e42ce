package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"reflect"
	"strings"
	"time"

	pretty "github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
	"kanban/internal/wire/sheet"
)

// state is a state's character, the same shape as on the console's pages, and its
// word: never one alone.
func state(s roster.State) string { return s.About().Signal + " " + words(string(s), 1) }

// table is something to print: columns for people and files, value for JSON.
type table struct {
	value   any
	columns []string
	rows    [][]string
	ids     []string // of the rows
	empty   string   // what to say when there are no rows
}

// tableOf makes a table of records.
func tableOf[T any](records []T, empty string, columns []string, row func(T) []string) table {
	t := table{value: records, columns: columns, empty: empty}
	for _, r := range records {
		t.rows = append(t.rows, row(r))
		t.ids = append(t.ids, idOf(r))
	}
	return t
}

// idOf is a record's id, "" when it has none.
func idOf(record any) string {
	v := reflect.Indirect(reflect.ValueOf(record))
	if v.Kind() != reflect.Struct {
		return ""
	}
	for _, name := range []string{"ID", "PersonID", "SectionID"} {
		if f := v.FieldByName(name); f.IsValid() && f.Kind() == reflect.String {
			return f.String()
		}
	}
	return ""
}

// withIDs adds a first column of ids.
func (t table) withIDs() table {
	rows := make([][]string, len(t.rows))
	for i, r := range t.rows {
		id := ""
		if i < len(t.ids) {
			id = t.ids[i]
		}
		rows[i] = append([]string{id}, r...)
	}
	t.columns, t.rows = append([]string{"id"}, t.columns...), rows
	return t
}

func (t table) print(cmd *cli.Command) error {
	out := cmd.Root().Writer
	if out == nil {
		out = os.Stdout
	}
	if cmd.Bool("ids") {
		t = t.withIDs()
	}
	switch cmd.String("output") {
	case "json":
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		return e.Encode(t.value)
	case "csv":
		return sheet.CSV(out, t.columns, cells(t.rows, true))
	}
	if len(t.rows) == 0 && t.empty != "" {
		_, err := fmt.Fprintln(out, t.empty)
		return err
	}
	return t.text(out)
}

// gap between columns.
const gap = 2

// text lays the table out in columns. On a terminal, cells that would not fit are
// broken into lines; elsewhere every record is one line.
func (t table) text(out io.Writer) error {
	rows := [][]string{each(t.columns, strings.ToUpper)}
	for _, r := range cells(t.rows, false) {
		rows = append(rows, each(r, func(s string) string { return strings.Join(strings.Fields(s), " ") }))
	}
	widths := columnWidths(rows)
	if f, ok := out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil {
			shrink(widths, width-1)
		}
	}
	_, err := fmt.Fprintln(out, layOut(rows, widths))
	return err
}

// layOut writes rows in columns of these widths, in cells of a terminal.
func layOut(rows [][]string, widths []int) string {
	style := pretty.StyleDefault
	style.Options = pretty.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", strings.Repeat(" ", gap)
	w := pretty.NewWriter()
	w.SetStyle(style)
	w.SuppressTrailingSpaces()
	columns := make([]pretty.ColumnConfig, len(widths))
	for i, n := range widths {
		columns[i] = pretty.ColumnConfig{
			Number: i + 1, WidthMin: n, WidthMax: n, WidthMaxEnforcer: text.WrapSoft,
			Align: text.AlignLeft,
		}
	}
	w.SetColumnConfigs(columns)
	for _, r := range rows {
		row := make(pretty.Row, len(r))
		for i, c := range r {
			row[i] = c
		}
		w.AppendRow(row)
	}
	return w.Render()
}

func each(in []string, f func(string) string) []string {
	out := make([]string, len(in))
	for i, s := range in {
		out[i] = f(s)
	}
	return out
}

func columnWidths(rows [][]string) []int {
	widths := make([]int, len(rows[0]))
	for _, r := range rows {
		for i, c := range r {
			widths[i] = max(widths[i], text.StringWidthWithoutEscSequences(c))
		}
	}
	return widths
}

// shrink takes room from the widest columns until all of them fit.
func shrink(widths []int, room int) {
	const least = 10
	for {
		total, widest := 0, 0
		for i, w := range widths {
			total += w + gap
			if w > widths[widest] {
				widest = i
			}
		}
		if total-gap <= room || widths[widest] <= least {
			return
		}
		widths[widest]--
	}
}

// say prints a sentence for people; it is left out of JSON and CSV.
func say(cmd *cli.Command, format string, args ...any) {
	if cmd.String("output") == "table" {
		fmt.Fprintf(out(cmd), format+"\n", args...)
	}
}

// printJSON prints one record.
func printJSON(cmd *cli.Command, record any) error {
	e := json.NewEncoder(out(cmd))
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(record)
}

// out is where answers go.
func out(cmd *cli.Command) io.Writer {
	if w := cmd.Root().Writer; w != nil {
		return w
	}
	return os.Stdout
}

func when(t *time.Time) string {
	if t == nil {
		return "–"
	}
	if t.Local().Year() != time.Now().Year() {
		return t.Local().Format("2 Jan 2006 15:04")
	}
	return t.Local().Format("2 Jan 15:04:05")
}

// aMoment begins a cell that holds a time by RFC 3339: CSV has it so, and people read it
// like every other time.
const aMoment = "\x1e"

// moment is a time as a cell of a table.
func moment(t *time.Time) string {
	if t == nil {
		return aMoment
	}
	return aMoment + t.Local().Format(time.RFC3339)
}

// cell gives what a cell says to people, or to programs.
func cell(text string, program bool) string {
	stamp, ok := strings.CutPrefix(text, aMoment)
	if !ok || program {
		return stamp
	}
	t, err := time.Parse(time.RFC3339, stamp)
	if err != nil { // there is none
		return when(nil)
	}
	return when(&t)
}

func cells(rows [][]string, program bool) [][]string {
	out := make([][]string, len(rows))
	for i, r := range rows {
		out[i] = each(r, func(c string) string { return cell(c, program) })
	}
	return out
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

// words gives an outcome, a state or a count in words, for one person or several.
func words(name string, n int) string {
	if name == string(roster.OutcomeNeedsPerson) {
		if n == 1 {
			return "needs a person"
		}
		return "need a person"
	}
	return strings.ReplaceAll(name, "-", " ")
}

// count says how many there are of something.
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// counts says how many there are of each of some names, in their order.
func counts[K ~string](c map[K]int, order []K) string {
	var parts []string
	for _, o := range order {
		if n := c[o]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, words(string(o), n)))
		}
	}
	return strings.Join(parts, ", ")
}

// numbered says how many there are of something that is put differently for one.
func numbered(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}
