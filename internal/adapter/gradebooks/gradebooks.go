// Package gradebooks reads and writes a gradebook that speaks OneRoster, and
// gives its records in the terms in which scores are compared. Records of the
// REST binding and of files are read alike.
//
//	book := gradebooks.New(c, call.Options{})
//	err := book.Each(ctx, oneroster.FileResults, since, func(r oneroster.Record) error {
//		result, err := gradebooks.ResultOf(r, gradebooks.Usual())
//		…
//	}, bad)
package gradebooks

import (
	"context"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/grade"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

// Collections of a gradebook, in the order in which they are read: whatever a
// record refers to comes before it.
var Collections = []string{
	oneroster.FileCategories, oneroster.FileScoreScales, oneroster.FileLineItems, oneroster.FileResults,
}

// Declaration says what a gradebook's words mean, as its interface declares it.
type Declaration struct {
	// Statuses are what each scoreStatus means; one that is not named is a draft.
	Statuses map[string]grade.Status
	// ByDate says that a final score is released once its scoreDate has come.
	ByDate bool
}

// Usual is what the standard's words mean where nobody says otherwise: only what is
// fully graded, or exempt, is final.
func Usual() Declaration {
	return Declaration{Statuses: map[string]grade.Status{
		oneroster.ScoreFullyGraded:     grade.Final,
		oneroster.ScoreExempt:          grade.Final,
		oneroster.ScorePartiallyGraded: grade.Partly,
		oneroster.ScoreSubmitted:       grade.Unmarked,
		oneroster.ScoreNotSubmitted:    grade.Unmarked,
	}}
}

// FlagsOf are the flags that a version of the standard has room for.
func FlagsOf(version oneroster.Version) grade.Flags {
	if version == oneroster.V11 {
		return grade.Exempt | grade.NotSubmitted
	}
	return grade.Exempt | grade.NotSubmitted | grade.Missing | grade.Late | grade.Incomplete
}

// Result is a result with where it belongs.
type Result struct {
	grade.Result
	ID, Item, Student, Class string
	Unread                   bool // it could not be understood
}

// Item is an assignment with where it belongs.
type Item struct {
	grade.LineItem
	Class, Scale string
	Unread       bool // it could not be understood
}

// Scale is a score scale with where it belongs.
type Scale struct {
	ID, Title, Class, Course string
	Values                   grade.Scale
}

// ErrRecord is wrapped by errors about records that cannot be understood.
var ErrRecord = errors.New("the record cannot be understood")

func wrong(r oneroster.Record, column, format string, args ...any) error {
	return fmt.Errorf("%w: %s of %q: %s", ErrRecord, column, r.Get("sourcedId"), fmt.Sprintf(format, args...))
}

// gone reports whether a record is marked as deleted. Files of mode bulk leave the status blank.
func gone(r oneroster.Record) bool {
	status := oneroster.Word(r.Get("status"))
	return status != "" && status != oneroster.Active
}

// CategoryOf reads a category. Its weight is negative when it has none.
func CategoryOf(r oneroster.Record) (grade.Category, error) {
	c := grade.Category{ID: r.Get("sourcedId"), Title: strings.TrimSpace(r.Get("title")), Weight: -1}
	if c.ID == "" || c.Title == "" {
		return c, wrong(r, "title", "it has no id or no title")
	}
	if text := r.Get("weight"); text != "" {
		n, err := oneroster.ParseNumber(text)
		if err != nil {
			return c, wrong(r, "weight", "%v", err)
		}
		c.Weight = n
	}
	return c, nil
}

// ItemOf reads a line item.
func ItemOf(r oneroster.Record) (Item, error) {
	x := Item{
		LineItem: grade.LineItem{
			ID: r.Get("sourcedId"), Title: strings.TrimSpace(r.Get("title")), Category: r.Get("categorySourcedId"),
			Period: r.Get("gradingPeriodSourcedId"), Gone: gone(r),
		},
		Class: r.Get("classSourcedId"), Scale: r.Get("scoreScaleSourcedId"),
	}
	if x.ID == "" || x.Class == "" {
		return x, wrong(r, "classSourcedId", "it has no id or no class")
	}
	for column, into := range map[string]*time.Time{"assignDate": &x.Assigned, "dueDate": &x.Due} {
		text := r.Get(column)
		if text == "" {
			continue
		}
		at, err := oneroster.ParseMoment(text)
		if err != nil {
			return x, wrong(r, column, "%v", err)
		}
		*into = at
	}
	if text := r.Get("resultValueMax"); text != "" {
		n, err := oneroster.ParseNumber(text)
		if err != nil {
			return x, wrong(r, "resultValueMax", "%v", err)
		}
		x.Maximum = n
	}
	return x, nil
}

// ScaleOf reads a score scale. A range such as 90-100 stands for its upper end.
func ScaleOf(r oneroster.Record) (Scale, error) {
	s := Scale{
		ID: r.Get("sourcedId"), Title: r.Get("title"), Class: r.Get("classSourcedId"),
		Course: r.Get("courseSourcedId"),
		Values: grade.Scale{},
	}
	for _, v := range oneroster.ScaleValues(r.Get("scoreScaleValue")) {
		s.Values[strings.ToLower(strings.TrimSpace(v.LHS))] = grade.ParseScaleValue(v.RHS)
	}
	if s.ID == "" || len(s.Values) == 0 {
		return s, wrong(r, "scoreScaleValue", "it has no id or no values")
	}
	return s, nil
}

// ResultOf reads a result of a source. A score that is no number stands in it as one
// that is none, so that it is refused and shown and nothing else depends on it.
func ResultOf(r oneroster.Record, d Declaration, now time.Time) (Result, error) {
	x, err := resultOf(r)
	if err != nil {
		return x, err
	}
	word := oneroster.Word(r.Get("scoreStatus"))
	status, known := d.Statuses[word]
	if !known {
		status = grade.Draft
	}
	x.Status, x.Deleted = status, gone(r)
	// A score beside a status that says nothing was marked is a draft.
	if status == grade.Unmarked && x.Mark.Kind != grade.None {
		x.Status = grade.Draft
	}
	if status == grade.Final && d.ByDate && (x.Marked.IsZero() || x.Marked.After(now)) {
		x.Status = grade.Unreleased
	}
	return x, nil
}

// HeldOf reads a result of a book: what is fully graded and has no value is done.
func HeldOf(r oneroster.Record) (Result, error) {
	x, err := resultOf(r)
	if err == nil && x.Mark.Kind == grade.None && oneroster.Word(r.Get("scoreStatus")) == oneroster.ScoreFullyGraded {
		x.Mark.Kind = grade.Done
	}
	x.Deleted = gone(r)
	return x, err
}

func resultOf(r oneroster.Record) (Result, error) {
	x := Result{
		ID: r.Get("sourcedId"), Item: r.Get("lineItemSourcedId"), Student: r.Get("studentSourcedId"),
		Class: r.Get("classSourcedId"),
	}
	if x.ID == "" || x.Item == "" || x.Student == "" {
		return x, wrong(r, "lineItemSourcedId", "it has no id, no line item or no student")
	}
	x.Mark.Comment = r.Get("comment")
	switch word := oneroster.Word(r.Get("scoreStatus")); word {
	case oneroster.ScoreExempt:
		x.Mark.Flags |= grade.Exempt
	case oneroster.ScoreNotSubmitted:
		x.Mark.Flags |= grade.NotSubmitted
	}
	for column, flag := range map[string]grade.Flags{
		"missing": grade.Missing, "late": grade.Late, "incomplete": grade.Incomplete,
	} {
		switch oneroster.Word(r.Get(column)) {
		case "true":
			x.Mark.Flags |= flag
		case "false", "":
		default:
			return x, wrong(r, column, "%q is neither true nor false", r.Get(column))
		}
	}
	if text := strings.TrimSpace(r.Get("score")); text != "" {
		n, err := oneroster.ParseNumber(text)
		if err != nil {
			n = math.NaN()
		}
		x.Mark.Kind, x.Mark.Points = grade.Points, n
	} else if text := strings.TrimSpace(r.Get("textScore")); text != "" {
		x.Mark.Kind, x.Mark.Text = grade.Text, text
	}
	if text := r.Get("scoreDate"); text != "" {
		at, err := oneroster.ParseMoment(text)
		if err != nil {
			return x, wrong(r, "scoreDate", "%v", err)
		}
		x.Marked = at
	}
	return x, nil
}

// Gradebook is one that is reached over REST.
type Gradebook struct {
	client  *oneroster.Client
	version oneroster.Version
}

// New uses an interface that has address, tokenAddress, clientId and clientSecret, and
// version, with the scopes that it is to ask for (the last parts of their names).
func New(c adapter.Interface, scopes []string, o call.Options) *Gradebook {
	version := oneroster.V12
	if c.Settings["version"] == string(oneroster.V11) {
		version = oneroster.V11
	}
	return &Gradebook{oneroster.NewGradebook(version, c.Settings["address"], c.Settings["tokenAddress"],
		c.Settings["clientId"], c.Secret["clientSecret"], scopes, adapter.WithTransport(c, o)), version}
}

// Version is that of the standard which it speaks.
func (g *Gradebook) Version() oneroster.Version { return g.version }

// Grants says which of the gradebook scopes it was granted: to read, to write, to delete.
func (g *Gradebook) Grants(ctx context.Context) (read, write, remove bool, err error) {
	scopes, err := g.client.Authorise(ctx)
	if err != nil {
		return false, false, false, err
	}
	has := func(last string) bool { return oneroster.Granted(scopes, g.version, last) }
	read, write = has(oneroster.ScopeGradebookRead), has(oneroster.ScopeGradebookPut)
	return read, write, has(oneroster.ScopeGradebookDelete), nil
}

// Each reads a collection to its end, only what changed after since when that is given,
// and calls bad for every record that cannot be read; the others go on, unless it gives an error.
func (g *Gradebook) Each(ctx context.Context, collection string, since time.Time, each func(oneroster.Record) error,
	bad func(position int, err error) error,
) error {
	return g.client.Pages(ctx, collection, g.client.First(collection, since), 0, func(p oneroster.Page) error {
		for i, raw := range p.Items {
			r, err := oneroster.Parse(collection, raw)
			if err != nil {
				err = bad(p.Read-len(p.Items)+i+1, err)
			} else {
				err = each(r)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// ID makes the id of a record of ours out of what it stands for, the same every time.
func ID(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return "kanban-" + strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(sum[:15]))
}
