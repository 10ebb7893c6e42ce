package gradebooks

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/wire/oneroster"
)

// Declared is what an interface declares of its gradebook.
type Declared struct {
	Declaration
	Needs grade.Needs
	Book  grade.Book
	// Makes says that assignments may be made there, Locks that teachers cannot change those
	// that were made from outside.
	Makes, Locks bool
	// CommentsSeen says that learners can see comments there.
	CommentsSeen bool
	// ResultsForGiven says that whoever was given an assignment has a result there; whoever has none was not given it.
	ResultsForGiven bool
	// TermCategories are titles of the categories of term grades, in small letters.
	TermCategories []string
	// Late is for how long what was carried out may be missing when it is read again.
	Late time.Duration
}

// Declare reads what an interface declares from its settings.
func Declare(settings map[string]string) Declared {
	yes := func(name string) bool { return settings[name] == adapter.Yes }
	number := func(name string) int { n, _ := strconv.Atoi(settings[name]); return n }
	day := func(name string, later int) time.Time {
		at, err := time.Parse(time.DateOnly, settings[name])
		if err != nil {
			return time.Time{}
		}
		return at.AddDate(0, 0, later)
	}
	d := Declared{
		Declaration: Usual(),
		Needs: grade.Needs{
			Due: yes("needsDue"), InPeriod: yes("needsPeriod"), NotBeforeTerm: yes("needsTerm"),
			PointsAboveZero: yes("needsPoints"), Category: yes("needsCategory"), Opens: day("opens", 0),
			MaxTitle: number("longestTitle"),
		},
		Book: grade.Book{
			Comments: settings["comments"] != adapter.No, Texts: settings["texts"] != adapter.No,
			MaxComment: number("longestComment"), Decimals: 2, OverMaximum: yes("overMaximum"),
		},
		Makes: settings["makes"] != adapter.No, Locks: yes("locks"),
		CommentsSeen: settings["commentsSeen"] != adapter.No, ResultsForGiven: yes("resultsForGiven"),
		Late: time.Duration(number("late")) * time.Second,
	}
	if end := day("closes", 1); !end.IsZero() {
		d.Needs.Closes = end.Add(-time.Nanosecond)
	}
	if text := settings["decimals"]; text != "" {
		d.Book.Decimals = min(number("decimals"), 6)
	}
	d.ByDate = settings["final"] == adapter.FinalByDate
	version := oneroster.V12
	if settings["version"] == string(oneroster.V11) {
		version = oneroster.V11
	}
	switch d.Book.Flags = FlagsOf(version); settings["flags"] {
	case adapter.FlagsTwo:
		d.Book.Flags &= grade.Exempt | grade.NotSubmitted
	case adapter.FlagsNone:
		d.Book.Flags = 0
	}
	for title := range strings.SplitSeq(settings["termCategories"], ",") {
		if title = strings.ToLower(strings.TrimSpace(title)); title != "" {
			d.TermCategories = append(d.TermCategories, title)
		}
	}
	return d
}

// IsTerm reports whether a category is one of term grades.
func (d Declared) IsTerm(title string) bool {
	return slices.Contains(d.TermCategories, strings.ToLower(strings.TrimSpace(title)))
}

// Scopes that an interface asks for.
var Scopes = []string{oneroster.ScopeGradebookRead, oneroster.ScopeGradebookPut, oneroster.ScopeGradebookDelete}

// Probe looks whether the gradebook can be read, and whether it grants writing.
func (g *Gradebook) Probe(ctx context.Context) []adapter.Report {
	read, write, remove, err := g.Grants(ctx)
	if err == nil && read {
		err = g.first(ctx)
	}
	in := adapter.ReportOf(adapter.ScoresIn, "A token was given out and assignments can be read.", err)
	out := adapter.ReportOf(adapter.ScoresOut, "Writing is granted; unproven until the first run.", err)
	if err == nil && !read {
		in = refused(adapter.ScoresIn, oneroster.ScopeGradebookRead)
	}
	switch {
	case err != nil:
	case !write:
		out = refused(adapter.ScoresOut, oneroster.ScopeGradebookPut)
	case !remove:
		out.Detail += " Deleting is not granted, so that a score that was blank cannot be made blank again."
	}
	return []adapter.Report{in, out}
}

func refused(c adapter.Capability, scope string) adapter.Report {
	return adapter.Report{
		Capability: c, State: adapter.NotAllowed, Code: finding.NotAllowed,
		Detail: "The gradebook did not grant " + scope + ". Its administrator gives that right to the client.",
	}
}

// first reads the first page of the assignments.
func (g *Gradebook) first(ctx context.Context) error {
	err := g.client.Pages(ctx, oneroster.FileLineItems, g.client.First(oneroster.FileLineItems, time.Time{}), 0,
		func(oneroster.Page) error { return errEnough })
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

// errEnough ends a read of which only the first page is wanted.
var errEnough = errors.New("enough was read")
