package registers

import (
	"context"
	"fmt"
	"io"
	"slices"

	"kanban/internal/wire/oneroster"
)

// Files is a OneRoster CSV package.
type Files struct {
	*oneroster.Package
	roles map[string]role // by user
	bad   []Bad           // of roles.csv, the first ones
	worse int             // how many there are
	// A row of roles.csv could not be read: of whom nothing is said there, nothing is known.
	unsure bool
}

// role is what roles.csv says about one user.
type role struct {
	kind string // the strongest role type
	org  string // of the primary role, else of the first one
}

// mostBad bounds how many unreadable rows of roles.csv are kept until users.csv is read;
// the others are counted.
const mostBad = 10_000

// OpenFiles opens a package and reads its roles, which other files need.
func OpenFiles(content io.ReaderAt, size int64, limits oneroster.Limits) (*Files, error) {
	p, err := oneroster.OpenPackage(content, size, limits)
	if err != nil {
		return nil, err
	}
	f := &Files{Package: p, roles: map[string]role{}}
	wrong := func(b Bad) {
		b.File = oneroster.FileRoles
		if f.worse++; len(f.bad) < mostBad {
			f.bad = append(f.bad, b)
		}
	}
	err = p.Rows(oneroster.FileRoles, func(r oneroster.Row) error {
		if oneroster.Word(r.Get("status")) != oneroster.ToBeDeleted {
			user := r.Get("userSourcedId")
			known := f.roles[user]
			kind := oneroster.Word(r.Get("roleType"))
			if known.org == "" || kind == "primary" {
				known.org = r.Get("orgSourcedId")
			}
			known.kind = oneroster.Stronger(known.kind, kind)
			f.roles[user] = known
		}
		return nil
	}, func(b oneroster.Bad) error {
		f.unsure = true
		wrong(Bad{Position: b.Line, Column: b.Column, Cause: b.Cause})
		return nil
	}, func(column string) { wrong(Bad{Column: column, Unknown: true, Cause: "column " + column}) })
	return f, err
}

// Mode is what the manifest says.
func (f *Files) Mode(collection string) oneroster.Mode {
	if m, ok := f.Modes[collection]; ok {
		return m
	}
	return oneroster.Absent
}

// PassedOver are the files of the package that are not about rosters.
func (f *Files) PassedOver() (names []string) {
	for name, mode := range f.Modes {
		if mode != oneroster.Absent && name != oneroster.FileRoles && !slices.Contains(Collections, name) {
			names = append(names, name+".csv")
		}
	}
	slices.Sort(names)
	return names
}

// Where names a line of a file.
func (f *Files) Where(collection string, position int) string {
	if position == 0 {
		return collection + ".csv"
	}
	return fmt.Sprintf("%s.csv line %d", collection, position)
}

// user is a row of users.csv with what roles.csv and the older form say of it.
type user struct {
	oneroster.Row
	role
}

func (u user) Get(column string) string {
	switch column {
	case oneroster.RoleTypeColumn:
		return u.kind
	case oneroster.PrimaryOrgColumn:
		if own := u.Row.Get(column); own != "" {
			return own
		}
		return u.org
	}
	return u.Row.Get(column)
}

func (u user) Sum() uint64 {
	sum := u.Row.Sum()
	for _, c := range []byte(u.kind + "/" + u.org) {
		sum = sum*31 + uint64(c)
	}
	return sum
}

// Each reads one file.
func (f *Files) Each(ctx context.Context, collection string, each func(int, oneroster.Record) error,
	bad func(Bad) error,
) error {
	if collection == oneroster.FileUsers {
		for _, b := range f.bad {
			if err := bad(b); err != nil {
				return err
			}
		}
		if more := f.worse - len(f.bad); more > 0 {
			_ = bad(Bad{File: oneroster.FileRoles, Cause: fmt.Sprintf("%d more rows of roles.csv could not be read",
				more)})
		}
	}
	read := 0
	err := f.Rows(collection, func(r oneroster.Row) error {
		if read++; read%5000 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if collection != oneroster.FileUsers {
			return each(r.Line, r)
		}
		u := user{r, f.roles[r.Get("sourcedId")]}
		if u.kind == "" && f.unsure {
			u.kind = oneroster.RoleTypeUnsaid
		}
		// 1.1 has one role, in the row itself
		if (u.kind == "" || u.kind == oneroster.RoleTypeUnsaid) && r.Get("role") != "" {
			u.kind = "primary"
			if orgs := oneroster.List(r.Get("orgSourcedIds")); len(orgs) > 0 {
				u.org = orgs[0]
			}
		}
		return each(r.Line, u)
	}, func(b oneroster.Bad) error {
		return bad(Bad{Position: b.Line, ID: b.ID, Column: b.Column, Cause: b.Cause, Damaged: b.Damaged})
	}, func(column string) {
		_ = bad(Bad{Column: column, Unknown: true, Cause: "column " + column})
	})
	if err != nil {
		return fmt.Errorf("reading %s.csv: %w", collection, err)
	}
	return nil
}
