package registers

import (
	"context"
	"fmt"
	"io"

	"kanban/internal/wire/oneroster"
)

// ReadPackage reads a OneRoster CSV package. Rows that cannot be read are in
// Records.Bad, with file, line and column.
func ReadPackage(ctx context.Context, file io.ReaderAt, size int64, progress Progress) (Records, error) {
	p, err := oneroster.OpenPackage(file, size)
	if err != nil {
		return Records{}, err
	}
	all := Records{Modes: p.Modes}
	x := &fileReader{ctx: ctx, p: p, all: &all, progress: progress}
	roles := map[string][]oneroster.UserRole{}
	err = x.rows(oneroster.FileRoles, func(r oneroster.Row) error {
		if r.Get("status") != oneroster.ToBeDeleted {
			user := r.Get("userSourcedId")
			roles[user] = append(roles[user], oneroster.UserRole{RoleType: r.Get("roleType"), Role: r.Get("role")})
		}
		return nil
	})
	if err == nil {
		err = decode(x, oneroster.FileOrgs, &all.Orgs)
	}
	if err == nil {
		err = decode(x, oneroster.FileSessions, &all.Sessions)
	}
	if err == nil {
		err = decode(x, oneroster.FileCourses, &all.Courses)
	}
	if err == nil {
		err = decode(x, oneroster.FileClasses, &all.Classes)
	}
	if err == nil {
		err = decode(x, oneroster.FileUsers, &all.Users)
	}
	for i, u := range all.Users {
		if len(u.Roles) == 0 {
			all.Users[i].Roles = roles[u.SourcedID]
		}
	}
	if err == nil {
		err = decode(x, oneroster.FileEnrollments, &all.Enrollments)
	}
	return all, err
}

type fileReader struct {
	ctx      context.Context
	p        *oneroster.Package
	all      *Records
	progress Progress
}

// rows reads one file and collects what is wrong with it.
func (x *fileReader) rows(file string, each func(oneroster.Row) error) error {
	read := 0
	return x.p.Rows(file, func(r oneroster.Row) error {
		if read++; read%5000 == 0 {
			if err := x.ctx.Err(); err != nil {
				return err
			}
			x.progress(file, read, 0)
		}
		return each(r)
	}, func(line int, column, cause string) {
		x.bad(file, line, "", column, cause)
	}, func(column string) {
		x.all.Extra = append(x.all.Extra, file+".csv "+column)
	})
}

func (x *fileReader) bad(file string, line int, id, column, cause string) {
	if column != "" {
		cause = column + ": " + cause
	}
	x.all.Bad = append(x.all.Bad, Bad{Path: file + ".csv", Line: true, Position: line, ID: id, Cause: cause})
}

func decode[T any](x *fileReader, file string, into *[]T) error {
	err := x.rows(file, func(r oneroster.Row) error {
		record, column, cause := oneroster.Decode[T](r)
		if cause != nil {
			x.bad(file, r.Line, r.Get("sourcedId"), column, cause.Error())
			return nil
		}
		*into = append(*into, record)
		return nil
	})
	if err != nil {
		return fmt.Errorf("reading %s.csv: %w", file, err)
	}
	return nil
}
