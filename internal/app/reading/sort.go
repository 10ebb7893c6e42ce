package reading

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kanban/internal/adapter/registers"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/store"
	"kanban/internal/wire/oneroster"
)

// maxFindings bounds what one run keeps; the rest is counted in the last one.
const maxFindings = 500

// shape says how the records of one collection become rows of the mirror.
type shape struct {
	collection string
	values     func(*row) // adds the values after the sourced id, in the order of the table's columns
}

var shapes = map[string]shape{
	"orgs": {oneroster.FileOrgs, func(r *row) {
		r.needs("name")
		r.text("type")
		r.text("parentSourcedId")
	}},
	"terms": {oneroster.FileSessions, func(r *row) {
		r.needs("title")
		r.text("type")
		r.needs("startDate")
		r.needs("endDate")
		r.days("startDate", "endDate", len(r.Values)-2)
		r.text("parentSourcedId")
	}},
	"courses": {oneroster.FileCourses, func(r *row) {
		r.needs("title")
		r.text("orgSourcedId")
		r.text("courseCode")
	}},
	"sections": {oneroster.FileClasses, func(r *row) {
		r.needs("title")
		r.text("classCode")
		r.text("classType")
		r.text("courseSourcedId")
		r.text("schoolSourcedId")
		r.list(oneroster.List(r.get("termSourcedIds")))
	}},
	"people": {oneroster.FileUsers, func(r *row) {
		r.needs("givenName")
		r.needs("familyName")
		r.text("email")
		key, err := roster.AddressKey(r.get("email"))
		if err != nil {
			key = ""
		}
		r.add(key)
		r.text("username")
		if r.get("identifier") != "" {
			r.text("identifier")
		} else {
			r.add(r.ID)
		}
		r.userIDs()
		r.text(oneroster.PrimaryOrgColumn)
		r.text("userMasterIdentifier")
		switch r.get(oneroster.RoleTypeColumn) {
		case "":
			if r.partial {
				r.Values = append(r.Values, store.Null) // nothing was said: what is known stays
			} else {
				r.add("f")
			}
		case "secondary":
			r.add("t")
		default:
			r.add("f")
		}
		r.flag("enabledUser")
	}},
	"enrolments": {oneroster.FileEnrollments, func(r *row) {
		r.text("classSourcedId")
		r.text("userSourcedId")
		r.needs("role")
		r.text("beginDate")
		r.text("endDate")
		r.days("beginDate", "endDate", len(r.Values)-2)
		if role := r.get("role"); !slices.Contains(oneroster.EnrolmentRoles, role) && !strings.HasPrefix(role, "ext:") {
			r.Again = true
			r.remark(finding.RoleUnknown, "its role is "+fmt.Sprintf("%q", role))
		}
	}},
}

// row is one record on its way into the mirror.
type row struct {
	store.MirrorRow
	record  oneroster.Record
	partial bool // of a list of changes
	dates   *dayCheck
	remark  func(finding.Code, string)
	code    finding.Code // why it cannot go in, "" when it can
	detail  string
}

func (r *row) get(column string) string { return strings.TrimSpace(r.record.Get(column)) }

func (r *row) add(value string) {
	if !utf8.ValidString(value) || strings.IndexByte(value, 0) >= 0 {
		r.fail(finding.RowMalformed, "it holds bytes that are no UTF-8 text")
	}
	r.Values = append(r.Values, value)
}

func (r *row) fail(code finding.Code, detail string) {
	if r.code == "" {
		r.code, r.detail = code, detail
	}
}

func (r *row) text(column string) { r.add(r.get(column)) }

func (r *row) needs(column string) {
	value := r.get(column)
	if value == "" {
		r.fail(finding.RowMalformed, column+" is missing")
	}
	r.add(value)
}

func (r *row) flag(column string) {
	switch value := r.get(column); value {
	case "true", "TRUE", "True":
		r.add("t")
	case "false", "FALSE", "False", "":
		r.add("f")
	default:
		r.fail(finding.RowMalformed, fmt.Sprintf("%s: %q is neither true nor false", column, value))
	}
}

// days checks the two values at an index and after it, which are a first and a
// last day or absent.
func (r *row) days(first, last string, at int) {
	if r.code != "" {
		return
	}
	for i, column := range []string{first, last} {
		switch value := r.Values[at+i]; {
		case value == "":
			r.Values[at+i] = store.Null
		case !r.dates.valid(value):
			r.fail(finding.RowMalformed, fmt.Sprintf("%s: %q is not a date like 2026-09-01", column, value))
		default:
			r.Values[at+i] = value[:len(time.DateOnly)]
		}
	}
	if a, b := r.Values[at], r.Values[at+1]; a != store.Null && b != store.Null && b < a {
		r.fail(finding.DatesReversed, fmt.Sprintf("it begins on %s and ends on %s", a, b))
	}
}

var arrayEscapes = strings.NewReplacer(`\`, `\\`, `"`, `\"`)

// list adds an array in PostgreSQL's text form.
func (r *row) list(items []string) {
	quoted := make([]string, len(items))
	for i, item := range items {
		quoted[i] = `"` + arrayEscapes.Replace(item) + `"`
	}
	r.add("{" + strings.Join(quoted, ",") + "}")
}

func (r *row) userIDs() {
	value := r.get("userIds")
	if value == "" {
		r.add("{}")
		return
	}
	var ids []string
	for _, id := range oneroster.UserIDs(value) {
		ids = append(ids, id.Identifier)
	}
	r.list(ids)
}

// dayCheck remembers which texts are days: a register holds few different ones.
type dayCheck map[string]bool

func (d *dayCheck) valid(value string) bool {
	ok, known := (*d)[value]
	if !known {
		_, err := time.Parse(time.DateOnly, value[:min(len(value), len(time.DateOnly))])
		ok = err == nil
		if len(*d) > 10_000 {
			clear(*d)
		}
		(*d)[strings.Clone(value)] = ok
	}
	return ok
}

// sorted feeds the mirror with the good records of a read and notices what is
// wrong with the others. It is a store.Incoming.
type sorted struct {
	source   registers.Source
	progress func(what string, read int) error
	noticed  []store.Noticed
	unlisted int
}

func (s *sorted) notice(code finding.Code, subject, detail string) {
	if len(s.noticed) >= maxFindings {
		s.unlisted++
		return
	}
	s.noticed = append(s.noticed, store.Noticed{Code: code, Subject: subject, Detail: detail})
}

// Partial tables only change.
func (s *sorted) Partial(table string) bool {
	return s.source.Mode(shapes[table].collection) != oneroster.Bulk
}

// Where says where a record stands.
func (s *sorted) Where(table string, position int) string {
	return s.source.Where(shapes[table].collection, position)
}

// Each turns the records of a table into rows.
func (s *sorted) Each(ctx context.Context, table string, seen func(int, uint64, func() string) bool, put func(store.MirrorRow) error) error {
	shape := shapes[table]
	if s.source.Mode(shape.collection) == oneroster.Absent {
		return nil
	}
	read := 0
	r := &row{dates: &dayCheck{}, partial: s.Partial(table)}
	var failed error
	err := s.source.Each(ctx, shape.collection, func(position int, record oneroster.Record) error {
		if read++; read%2000 == 0 {
			if err := s.progress(shape.collection, read); err != nil {
				return err
			}
		}
		id := func() string { return strings.Clone(record.Get("sourcedId")) }
		hash := record.Sum()
		if seen(position, hash, id) {
			return nil
		}
		s.prepare(r, shape, position, hash, record)
		if r.code != "" {
			s.notice(r.code, s.subject(shape.collection, position, r.ID), r.detail)
			return put(store.MirrorRow{Position: position, ID: strings.Clone(r.ID), Bad: true})
		}
		return put(r.MirrorRow)
	}, func(b registers.Bad) {
		code, cause := finding.RowMalformed, b.Cause
		if b.Unknown {
			code = finding.ColumnUnknown
		} else if b.Column != "" {
			cause = b.Column + ": " + cause
		}
		s.notice(code, s.subject(cmp.Or(b.File, shape.collection), b.Position, b.ID), cause)
		if b.ID != "" {
			failed = put(store.MirrorRow{Position: b.Position, ID: b.ID, Bad: true})
		}
	})
	return errors.Join(err, failed)
}

func (s *sorted) prepare(r *row, shape shape, position int, hash uint64, record oneroster.Record) {
	id := strings.TrimSpace(record.Get("sourcedId"))
	r.MirrorRow = store.MirrorRow{Position: position, Hash: hash, ID: id, Values: r.Values[:0]}
	r.record, r.code, r.detail = record, "", ""
	r.remark = func(code finding.Code, detail string) {
		s.notice(code, s.subject(shape.collection, position, id), detail)
	}
	r.add(id)
	if id == "" {
		r.fail(finding.RowMalformed, "it has no sourcedId")
	}
	switch strings.TrimSpace(record.Get("status")) {
	case oneroster.ToBeDeleted, "inactive":
		r.Deleted, r.ID = true, strings.Clone(id)
	default: // blank in bulk files
		shape.values(r)
	}
}

func (s *sorted) subject(collection string, position int, id string) string {
	where := s.source.Where(collection, position)
	if id != "" {
		where += " (" + strings.Clone(id) + ")"
	}
	return where
}

// findings are what was noticed about single records, then in relation to
// others, then how much more there was.
func (s *sorted) findings(m store.Merged) []store.Noticed {
	all := append(s.noticed, m.Noticed...)
	more := s.unlisted + m.Unlisted
	if extra := len(all) - maxFindings; extra > 0 {
		all, more = all[:maxFindings], more+extra
	}
	if more > 0 {
		all = append(all, store.Noticed{Code: finding.RowMalformed, Subject: "the register", Detail: fmt.Sprintf("and %d findings more", more)})
	}
	return all
}
