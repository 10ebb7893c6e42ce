// Package registers reads a records system that speaks OneRoster 1.2.
package registers

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"kanban/internal/adapter"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

// Records is everything one read gave.
type Records struct {
	Orgs        []oneroster.Org
	Sessions    []oneroster.AcademicSession
	Courses     []oneroster.Course
	Classes     []oneroster.Class
	Users       []oneroster.User
	Enrollments []oneroster.Enrollment
	Bad         []Bad
	// Modes says how each file of a package is meant; nil for a whole read.
	Modes map[string]oneroster.Mode
	// Extra are columns that the standard does not know.
	Extra []string
}

// Bad is a record that could not be read.
type Bad struct {
	Path     string // collection, e.g. /users
	Position int    // 1 for the first record of the collection, or the line of the file
	Line     bool   // Position is a line
	ID       string // its sourcedId, when that much could be read
	Cause    string
}

// Where the bad record stands, in words.
func (b Bad) Where() string {
	what := "record"
	if b.Line {
		what = "line"
	}
	text := fmt.Sprintf("%s %s %d", b.Path, what, b.Position)
	if b.ID != "" && b.ID != "<nil>" {
		text += " (" + b.ID + ")"
	}
	return text
}

// Register is a connected records system.
type Register struct{ client *oneroster.Client }

// New uses a connection of kind oneroster.
func New(c adapter.Connection, o call.Options) *Register {
	return &Register{oneroster.NewClient(c.Settings["address"], c.Settings["tokenAddress"], c.Settings["clientId"], c.Secret["clientSecret"], o)}
}

// Progress is told what is being read, and how much of how much came.
type Progress func(what string, read, total int)

// Read reads the whole register.
func (r *Register) Read(ctx context.Context, progress Progress) (Records, error) {
	var all Records
	err := collect(ctx, r, oneroster.Orgs, &all.Orgs, &all, progress)
	if err == nil {
		err = collect(ctx, r, oneroster.AcademicSessions, &all.Sessions, &all, progress)
	}
	if err == nil {
		err = collect(ctx, r, oneroster.Courses, &all.Courses, &all, progress)
	}
	if err == nil {
		err = collect(ctx, r, oneroster.Classes, &all.Classes, &all, progress)
	}
	if err == nil {
		err = collect(ctx, r, oneroster.Users, &all.Users, &all, progress)
	}
	if err == nil {
		err = collect(ctx, r, oneroster.Enrollments, &all.Enrollments, &all, progress)
	}
	return all, err
}

func collect[T any](ctx context.Context, r *Register, from oneroster.Collection[T], into *[]T, all *Records, progress Progress) error {
	each := func(x T) error {
		*into = append(*into, x)
		return nil
	}
	bad := func(path string, position int, raw json.RawMessage, cause error) {
		var id struct{ SourcedID any }
		_ = json.Unmarshal(raw, &id)
		all.Bad = append(all.Bad, Bad{Path: path, Position: position, ID: fmt.Sprint(id.SourcedID), Cause: cause.Error()})
	}
	return oneroster.Each(ctx, r.client, from, each, bad, func(read, total int) { progress(from.Wrapper, read, total) })
}

// Probe asks for a token and for the first person.
func (r *Register) Probe(ctx context.Context) []adapter.Report {
	if _, err := r.client.Authorise(ctx); err != nil {
		return []adapter.Report{adapter.ReportOf(adapter.PeopleIn, "", err)}
	}
	enough := errors.New("one person is enough")
	err := oneroster.Each(ctx, r.client, oneroster.Users, func(oneroster.User) error { return enough },
		func(string, int, json.RawMessage, error) {}, func(int, int) {})
	if errors.Is(err, enough) {
		err = nil
	}
	return []adapter.Report{adapter.ReportOf(adapter.PeopleIn, "A token was given out and people can be read.", err)}
}
