package registers

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kanban/internal/adapter"
	"kanban/internal/adapter/registers"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/store/mirror"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/oneroster"
)

// mostBad bounds how many records of one collection may be unusable: beyond it, it is no
// register.
const mostBad = 50_000

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
		r.ref("parentSourcedId")
	}},
	"terms": {oneroster.FileSessions, func(r *row) {
		r.needs("title")
		r.text("type")
		r.needs("startDate")
		r.needs("endDate")
		r.days("startDate", "endDate", len(r.Values)-2)
		r.last(r.calendar.SessionEndsAfter)
		r.ref("parentSourcedId")
	}},
	"courses": {oneroster.FileCourses, func(r *row) {
		r.needs("title")
		r.ref("orgSourcedId")
		r.text("courseCode")
		r.words("grades")
		r.words("subjects")
	}},
	"sections": {oneroster.FileClasses, func(r *row) {
		r.needs("title")
		r.text("classCode")
		r.text("classType")
		r.ref("courseSourcedId")
		r.ref("schoolSourcedId")
		r.list("termSourcedIds", oneroster.List(r.get("termSourcedIds")))
		r.words("grades")
		r.words("subjects")
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
		r.ref(oneroster.PrimaryOrgColumn)
		r.text("userMasterIdentifier")
		switch r.get(oneroster.RoleTypeColumn) {
		case oneroster.RoleTypeUnsaid:
			r.Values = append(r.Values, mirror.Null)
		case "":
			if r.partial {
				r.Values = append(r.Values, mirror.Null) // nothing was said: what is known stays
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
		r.ref("classSourcedId")
		r.ref("userSourcedId")
		role := r.get("role")
		known := slices.Contains(oneroster.EnrolmentRoles, oneroster.Word(role))
		if known {
			role = oneroster.Word(role)
		}
		if role == "" {
			r.fail(finding.RowMalformed, "role is missing")
		}
		r.add(role)
		r.text("beginDate")
		r.text("endDate")
		r.days("beginDate", "endDate", len(r.Values)-2)
		r.last(r.calendar.EnrolmentEndsAfter)
		r.stands()
		if !known && !strings.HasPrefix(role, "ext:") {
			r.Again, r.Unsure = true, true
			r.remark(finding.RoleUnknown, "its role is "+fmt.Sprintf("%q", role))
		}
	}},
}

// row is one record on its way into the mirror.
type row struct {
	mirror.MirrorRow
	record  oneroster.Record
	partial bool // of a list of changes
	dates   *dayCheck
	calendar
	remark func(finding.Code, string)
	code   finding.Code // why it cannot go in, "" when it can
	detail string
}

func (r *row) get(column string) string { return strings.TrimSpace(r.record.Get(column)) }

// Limits of what the mirror keeps, in bytes: a sourcedId has at most 255 characters
// (OneRoster 1.2, "sourcedId"), and the database finds nothing by values that are too long.
const (
	longestID    = 4 * 255
	longestValue = 2000
)

// isText reports whether a value can be kept: it is UTF-8 without the character 0.
func isText(value string) bool { return utf8.ValidString(value) && strings.IndexByte(value, 0) < 0 }

func (r *row) add(value string) { r.Values = append(r.Values, value) }

// keep adds the value of a column, unless it cannot be kept.
func (r *row) keep(column, value string, longest int) {
	switch {
	case !isText(value):
		r.fail(finding.RowMalformed, column+": it holds bytes that are no UTF-8 text")
	case len(value) > longest:
		r.fail(finding.RowMalformed, fmt.Sprintf("%s: the value is longer than %d bytes", column, longest))
	}
	r.add(value)
}

func (r *row) fail(code finding.Code, detail string) {
	if r.code == "" {
		r.code, r.detail = code, detail
	}
}

func (r *row) text(column string) { r.keep(column, r.get(column), longestValue) }

// words adds a list of words as people read it.
func (r *row) words(column string) {
	r.keep(column, strings.Join(oneroster.List(r.get(column)), ", "), longestValue)
}

// ref adds the sourcedId of another record.
func (r *row) ref(column string) { r.keep(column, r.get(column), longestID) }

func (r *row) needs(column string) {
	value := r.get(column)
	if value == "" {
		r.fail(finding.RowMalformed, column+" is missing")
	}
	r.keep(column, value, longestValue)
}

func (r *row) flag(column string) {
	switch value := oneroster.Word(r.get(column)); value {
	case "true":
		r.add("t")
	case "false", "":
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
			r.Values[at+i] = mirror.Null
		case !r.dates.valid(value):
			r.fail(finding.RowMalformed, fmt.Sprintf("%s: %q is not a date like 2026-09-01", column, value))
		default:
			r.Values[at+i] = value[:len(time.DateOnly)]
		}
	}
	if a, b := r.Values[at], r.Values[at+1]; a != mirror.Null && b != mirror.Null && b < a {
		r.fail(finding.DatesReversed, fmt.Sprintf("it begins on %s and ends on %s", a, b))
	}
}

// calendar is what a register's dates mean.
type calendar struct {
	adapter.Dates
	Today string // in the institution's zone, YYYY-MM-DD
}

// last makes the value added last a last day.
func (r *row) last(after bool) {
	end := &r.Values[len(r.Values)-1]
	if !after || r.code != "" || *end == mirror.Null {
		return
	}
	day, err := time.Parse(time.DateOnly, *end)
	if err != nil {
		return // days has said so
	}
	*end = day.AddDate(0, 0, -1).Format(time.DateOnly)
}

// stands adds where an enrolment stands today, after its first and its last day.
func (r *row) stands() {
	first, last := r.Values[len(r.Values)-2], r.Values[len(r.Values)-1]
	switch {
	case last != mirror.Null && last < r.Today:
		r.add(mirror.EnrolmentOver)
	case first != mirror.Null && first > r.Today:
		r.add(mirror.EnrolmentWaiting)
	default:
		r.add(mirror.EnrolmentIn)
	}
}

var arrayEscapes = strings.NewReplacer(`\`, `\\`, `"`, `\"`)

// list adds a column's values as an array in PostgreSQL's text form.
func (r *row) list(column string, items []string) {
	quoted := make([]string, len(items))
	for i, item := range items {
		if !isText(item) || len(item) > longestID {
			r.fail(finding.RowMalformed, column+": a value is too long, or no UTF-8 text")
		}
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
	r.list("userIds", ids)
}

// dayCheck remembers which texts are days: a register holds few different ones.
type dayCheck map[string]bool

func (d *dayCheck) valid(value string) bool {
	ok, known := (*d)[value]
	if !known {
		_, err := oneroster.ParseDay(value)
		ok = err == nil
		if len(*d) > 10_000 {
			clear(*d)
		}
		(*d)[strings.Clone(value)] = ok
	}
	return ok
}

// sorted feeds the mirror with the good records of a read and notices what is
// wrong with the others. It is a mirror.Incoming.
type sorted struct {
	source   registers.Source
	progress func(what string, read int) error
	calendar calendar
	approved bool // a person said that what is missing is meant to be missing
	noticed  []runstore.Noticed
	unlisted int
	// Why nothing of a table may be ended by this read, by table.
	incomplete map[string]string
}

func (s *sorted) notice(code finding.Code, subject, detail string) {
	if len(s.noticed) >= maxFindings {
		s.unlisted++
		return
	}
	s.noticed = append(s.noticed, runstore.Noticed{Code: code, Subject: readable(subject), Detail: readable(detail)})
}

// longestNotice bounds what a finding says of a value that was read, in bytes.
const longestNotice = 400

// readable makes a text of what came from outside: it can be kept and shown.
func readable(text string) string {
	if len(text) > longestNotice {
		text = text[:longestNotice] + "…"
	}
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\ufffd"), "\x00", "\ufffd")
}

// Incomplete says why a table could not be read whole, "" when it could: then what was not
// seen may be there all the same.
func (s *sorted) Incomplete(table string) string { return s.incomplete[table] }

// from are the columns of the register that columns of the mirror come from, where they may be
// missing from a file.
var from = map[string]map[string]string{
	"orgs":    {"parent": "parentSourcedId"},
	"terms":   {"parent": "parentSourcedId", "type": "type"},
	"courses": {"org": "orgSourcedId", "code": "courseCode", "level": "grades", "subject": "subjects"},
	"sections": {
		"level": "grades", "subject": "subjects", "code": "classCode", "class_type": "classType",
		"org": "schoolSourcedId", "terms": "termSourcedIds",
	},
	"people": {
		"email": "email", "user_name": "username", "identifier": "identifier", "user_ids": "userIds",
		"master": "userMasterIdentifier",
	},
	"enrolments": {"begin_date": "beginDate", "end_date": "endDate"},
}

// Lacking are the columns of a table that the register does not give.
func (s *sorted) Lacking(table string) (columns []string) {
	given := s.source.Columns(shapes[table].collection)
	if given == nil || s.approved {
		return nil
	}
	for column, name := range from[table] {
		if !slices.Contains(given, name) {
			columns = append(columns, column)
		}
	}
	slices.Sort(columns)
	return columns
}

// unidentified notes that a record came of which nobody knows which one it is.
func (s *sorted) unidentified(table, where, cause string) {
	if s.incomplete == nil {
		s.incomplete = map[string]string{}
	}
	if s.incomplete[table] == "" {
		s.incomplete[table] = readable(where + ": " + cause)
	}
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
func (s *sorted) Each(ctx context.Context, table string, seen func(int, uint64, func() string) bool,
	put func(mirror.MirrorRow) error,
) error {
	shape := shapes[table]
	if s.source.Mode(shape.collection) == oneroster.Absent {
		return nil
	}
	read := 0
	r := &row{dates: &dayCheck{}, partial: s.Partial(table), calendar: s.calendar}
	bad := 0
	refuse := func(m mirror.MirrorRow) error {
		if bad++; bad > mostBad {
			return fmt.Errorf("%w: more than %d records of %s cannot be used", oneroster.ErrPackage, mostBad,
				shape.collection)
		}
		return put(m)
	}
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
			if r.ID == "" || !isText(r.ID) || len(r.ID) > longestID {
				s.unidentified(table, s.source.Where(shape.collection, position), r.detail)
				return refuse(mirror.MirrorRow{Position: position, Bad: true})
			}
			return refuse(mirror.MirrorRow{Position: position, ID: strings.Clone(r.ID), Bad: true})
		}
		return put(r.MirrorRow)
	}, func(b registers.Bad) error {
		code, cause := finding.RowMalformed, b.Cause
		if b.Unknown {
			code = finding.ColumnUnknown
		} else if b.Column != "" {
			cause = b.Column + ": " + cause
		}
		s.notice(code, s.subject(cmp.Or(b.File, shape.collection), b.Position, b.ID), cause)
		id := strings.TrimSpace(b.ID)
		switch {
		case b.Unknown, b.File != "": // about no record of this table
		case id == "" || !isText(id) || len(id) > longestID:
			s.unidentified(table, s.source.Where(shape.collection, b.Position), cause)
			return refuse(mirror.MirrorRow{Position: b.Position, Bad: true})
		default:
			return refuse(mirror.MirrorRow{Position: b.Position, ID: id, Bad: true, Damaged: b.Damaged})
		}
		return nil
	})
	return err
}

func (s *sorted) prepare(r *row, shape shape, position int, hash uint64, record oneroster.Record) {
	id := strings.TrimSpace(record.Get("sourcedId"))
	r.MirrorRow = mirror.MirrorRow{Position: position, Hash: hash, ID: id, Values: r.Values[:0]}
	r.record, r.code, r.detail = record, "", ""
	r.remark = func(code finding.Code, detail string) {
		s.notice(code, s.subject(shape.collection, position, id), detail)
	}
	r.keep("sourcedId", id, longestID)
	if id == "" {
		r.fail(finding.RowMalformed, "it has no sourcedId")
	}
	switch status := oneroster.Word(record.Get("status")); status {
	case oneroster.ToBeDeleted, "inactive":
		r.Deleted, r.ID = r.code == "", strings.Clone(id)
	case oneroster.Active, "": // blank in bulk files
		shape.values(r)
	default:
		r.fail(finding.StatusUnknown, "its status is "+fmt.Sprintf("%q", status))
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
func (s *sorted) findings(m mirror.Merged) []runstore.Noticed {
	for _, name := range s.source.PassedOver() {
		s.notice(finding.FilePassedOver, name, "Kanban reads rosters only")
	}
	all := append(s.noticed, m.Noticed...)
	more := s.unlisted + m.Unlisted
	if extra := len(all) - maxFindings; extra > 0 {
		all, more = all[:maxFindings], more+extra
	}
	if more > 0 {
		all = append(all, runstore.Noticed{
			Code: finding.RowMalformed, Subject: "the register",
			Detail: fmt.Sprintf("and %d findings more", more),
		})
	}
	return all
}
