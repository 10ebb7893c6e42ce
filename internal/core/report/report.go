// Package report computes what people read about many: how far learners have come, where
// they stop, what was awarded, what rules and services did. It knows neither where the
// facts are kept nor how a report is drawn.
package report

import (
	"fmt"
	"iter"
	"slices"
	"time"
)

// Name names a report.
type Name string

// The reports.
const (
	Completion Name = "completion" // how far learners have come, and where they stop
	Stopped    Name = "stopped"    // who has done nothing for a while, and whether a nudge helped
	Behind     Name = "behind"     // who is below a mark or has done nothing so far
	Badges     Name = "badges"     // what was awarded, opened, shared and revoked
	Holdings   Name = "holdings"   // the learners of a section by the badges that they can get
	Rosters    Name = "rosters"    // who joined and left, and what needs somebody
	Rules      Name = "rules"      // what each rule did
	Services   Name = "services"   // how each service answered
	Scores     Name = "scores"     // what agrees, waits or is in conflict, and why
)

// Unit says what a value is.
type Unit string

// The units.
const (
	Text  Unit = "text"
	Count Unit = "count"
	Share Unit = "share" // of 1, shown as a percentage
	Days  Unit = "days"
	Time  Unit = "time"
	Day   Unit = "day"
	Span  Unit = "milliseconds"
)

// Column is a column of a table.
type Column struct {
	Title string
	Unit  Unit
}

// Row holds a value for each column: a string, an int, a float64, a time.Time, or nil for none.
type Row []any

// Rows are the rows of a table, one after the other: there may be more than fit into memory.
type Rows iter.Seq2[Row, error]

// Listed makes rows of what is in memory.
func Listed(list []Row) Rows {
	return func(yield func(Row, error) bool) {
		for _, r := range list {
			if !yield(r, nil) {
				return
			}
		}
	}
}

// Kind is how a chart is drawn.
type Kind string

// The kinds of charts.
const (
	Bars  Kind = "bars"  // one bar for each label, of the series put end to end
	Lines Kind = "lines" // one line for each series over the labels, which are days or months
)

// Tone says what a series means, for its colour.
type Tone string

// The tones.
const (
	Done   Tone = "done"
	Open   Tone = "open"
	Bad    Tone = "bad"
	Rest   Tone = "rest"
	Second Tone = "second"
)

// Series are the values of one thing, one for each label of the chart.
type Series struct {
	Title  string
	Tone   Tone
	Values []float64
}

// Chart is what can be seen in one look.
type Chart struct {
	Kind   Kind
	Labels []string
	Series []Series
}

// Most is the greatest length of a bar or value of a line.
func (c Chart) Most() (most float64) {
	for i := range c.Labels {
		sum := 0.0
		for _, s := range c.Series {
			if c.Kind == Lines {
				most = max(most, s.Values[i])
			}
			sum += s.Values[i]
		}
		if c.Kind == Bars {
			most = max(most, sum)
		}
	}
	return most
}

// Part is a table of a report with its chart.
type Part struct {
	Title   string
	Chart   *Chart // nil for none
	Columns []Column
	Rows    Rows
	Total   int    // how many rows there are
	Empty   string // what to say when there are none
}

// Table makes a part of what is in memory.
func Table(title, empty string, columns []Column, rows []Row, chart *Chart) Part {
	if chart != nil && len(chart.Labels) == 0 {
		chart = nil
	}
	return Part{Title: title, Empty: empty, Columns: columns, Rows: Listed(rows), Total: len(rows), Chart: chart}
}

// Source is something that was read for a report.
type Source struct {
	Name   string
	ReadAt *time.Time // nil when it was never read
}

// Report is what people read.
type Report struct {
	Name    Name
	Title   string
	Scope   []string // to what it is narrowed, in words
	MadeAt  time.Time
	Sources []Source
	Summary []string // what there is to see, in sentences
	Parts   []Part
	Remarks []string // what is left out, and why
}

// Of counts things in words: 1 learner, 2 learners.
func Of(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Ratio is a share for a cell; nil of nothing.
func Ratio(n, of int) any {
	if of == 0 {
		return nil
	}
	return float64(n) / float64(of)
}

// Percent says a share in words.
func Percent(n, of int) string {
	if of == 0 {
		return "none"
	}
	return share(float64(n) / float64(of))
}

// Quartiles are the values below which a quarter, a half and three quarters lie, each between
// the two nearest in proportion; nothing of none.
type Quartiles struct{ Lower, Median, Upper float64 }

// QuartilesOf gives the quartiles of values, which it orders.
func QuartilesOf(values []float64) (q Quartiles, ok bool) {
	if len(values) == 0 {
		return q, false
	}
	slices.Sort(values)
	at := func(p float64) float64 {
		place := p * float64(len(values)-1)
		low := int(place)
		high := min(low+1, len(values)-1)
		return values[low] + (values[high]-values[low])*(place-float64(low))
	}
	return Quartiles{at(0.25), at(0.5), at(0.75)}, true
}

// Cells gives the quartiles as cells: lower, median, upper; nil for none.
func (q Quartiles) Cells(ok bool) []any {
	if !ok {
		return []any{nil, nil, nil}
	}
	return []any{q.Lower, q.Median, q.Upper}
}
