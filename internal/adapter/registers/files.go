package registers

import (
	"context"
	"fmt"
	"io"

	"kanban/internal/wire/oneroster"
)

// Files is a OneRoster CSV package.
type Files struct {
	*oneroster.Package
	roles map[string]string // by user: the strongest role type
}

// OpenFiles opens a package and reads its roles, which other files need.
func OpenFiles(content io.ReaderAt, size int64) (*Files, error) {
	p, err := oneroster.OpenPackage(content, size)
	if err != nil {
		return nil, err
	}
	f := &Files{p, map[string]string{}}
	err = p.Rows(oneroster.FileRoles, func(r oneroster.Row) error {
		if r.Get("status") != oneroster.ToBeDeleted {
			user := r.Get("userSourcedId")
			f.roles[user] = oneroster.Stronger(f.roles[user], r.Get("roleType"))
		}
		return nil
	}, func(int, string, string) {}, nil)
	return f, err
}

// Mode is what the manifest says.
func (f *Files) Mode(collection string) oneroster.Mode {
	if m, ok := f.Modes[collection]; ok {
		return m
	}
	return oneroster.Absent
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
	roleType string
}

func (u user) Get(column string) string {
	if column == oneroster.RoleTypeColumn {
		return u.roleType
	}
	return u.Row.Get(column)
}

func (u user) Sum() uint64 {
	sum := u.Row.Sum()
	for _, c := range []byte(u.roleType) {
		sum = sum*31 + uint64(c)
	}
	return sum
}

// Each reads one file.
func (f *Files) Each(ctx context.Context, collection string, each func(int, oneroster.Record) error, bad func(Bad)) error {
	read := 0
	err := f.Rows(collection, func(r oneroster.Row) error {
		if read++; read%5000 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if collection != oneroster.FileUsers {
			return each(r.Line, r)
		}
		u := user{r, f.roles[r.Get("sourcedId")]}
		if u.roleType == "" && r.Get("role") != "" { // 1.1 has one role, in the row itself
			u.roleType = "primary"
		}
		return each(r.Line, u)
	}, func(line int, column, cause string) {
		bad(Bad{Position: line, Column: column, Cause: cause})
	}, func(column string) {
		bad(Bad{Column: column, Unknown: true, Cause: "column " + column})
	})
	if err != nil {
		return fmt.Errorf("reading %s.csv: %w", collection, err)
	}
	return nil
}
