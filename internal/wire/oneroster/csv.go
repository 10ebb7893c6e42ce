package oneroster

import (
	"archive/zip"
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// Mode says how a file of a CSV package is meant (OneRoster 1.2 CSV binding,
// "manifest.csv").
type Mode string

// The modes.
const (
	Absent Mode = "absent"
	Bulk   Mode = "bulk"  // the complete current set: whatever it lacks is gone
	Delta  Mode = "delta" // only what changed: rows say active or tobedeleted
)

// Names of the files read here, without ".csv".
const (
	FileOrgs        = "orgs"
	FileSessions    = "academicSessions"
	FileCourses     = "courses"
	FileClasses     = "classes"
	FileUsers       = "users"
	FileRoles       = "roles"
	FileEnrollments = "enrollments"
)

// required are the columns without which a file cannot be read. Others may be
// missing or extra; columns are found by name, never by position.
var required = map[string][]string{
	FileOrgs:        {"sourcedId", "name", "type"},
	FileSessions:    {"sourcedId", "title", "type", "startDate", "endDate"},
	FileCourses:     {"sourcedId", "title"},
	FileClasses:     {"sourcedId", "title", "courseSourcedId"},
	FileUsers:       {"sourcedId", "enabledUser", "givenName", "familyName"},
	FileRoles:       {"userSourcedId", "roleType", "role"},
	FileEnrollments: {"sourcedId", "classSourcedId", "userSourcedId", "role"},
}

// Headers are the standard's columns of each file, in its order (1.2), followed
// by those that only 1.1 has.
var Headers = map[string][]string{
	FileOrgs:        {"sourcedId", "status", "dateLastModified", "name", "type", "identifier", "parentSourcedId"},
	FileSessions:    {"sourcedId", "status", "dateLastModified", "title", "type", "startDate", "endDate", "parentSourcedId", "schoolYear"},
	FileCourses:     {"sourcedId", "status", "dateLastModified", "schoolYearSourcedId", "title", "courseCode", "grades", "orgSourcedId", "subjects", "subjectCodes"},
	FileClasses:     {"sourcedId", "status", "dateLastModified", "title", "grades", "courseSourcedId", "classCode", "classType", "location", "schoolSourcedId", "termSourcedIds", "subjects", "subjectCodes", "periods"},
	FileUsers:       {"sourcedId", "status", "dateLastModified", "enabledUser", "username", "userIds", "givenName", "familyName", "middleName", "identifier", "email", "sms", "phone", "agentSourcedIds", "grades", "password", "userMasterIdentifier", "resourceSourcedIds", "preferredGivenName", "preferredMiddleName", "preferredFamilyName", "primaryOrgSourcedId", "pronouns"},
	FileRoles:       {"sourcedId", "status", "dateLastModified", "userSourcedId", "roleType", "role", "beginDate", "endDate", "orgSourcedId", "userProfileSourcedId"},
	FileEnrollments: {"sourcedId", "status", "dateLastModified", "classSourcedId", "schoolSourcedId", "userSourcedId", "role", "primary", "beginDate", "endDate"},
}

// only11 are columns of 1.1 that 1.2 no longer has.
var only11 = []string{"orgSourcedIds", "role"}

// ErrPackage is wrapped by every error about a package that cannot be read.
var ErrPackage = errors.New("not a OneRoster CSV package")

// maxFile bounds one unpacked file, in bytes, so that a small archive cannot
// unpack into everything there is.
const maxFile = 2 << 30

// Package is an opened CSV package.
type Package struct {
	Version string // "1.2" or "1.1"
	Modes   map[string]Mode
	files   map[string]*zip.File
}

// OpenPackage reads the manifest of a package (a ZIP with all files at its root).
func OpenPackage(r io.ReaderAt, size int64) (*Package, error) {
	archive, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("%w: it is no ZIP archive: %w", ErrPackage, err)
	}
	p := &Package{Modes: map[string]Mode{}, files: map[string]*zip.File{}}
	for _, f := range archive.File {
		p.files[f.Name] = f
	}
	if p.files["manifest.csv"] == nil {
		return nil, fmt.Errorf("%w: manifest.csv is missing; all files must stand at the root of the archive", ErrPackage)
	}
	bad := func(line int, column, cause string) {
		err = fmt.Errorf("%w: manifest.csv line %d: %s", ErrPackage, line, cause)
	}
	if readErr := p.rows("manifest", nil, func(r Row) error {
		name, value := r.Get("propertyName"), r.Get("value")
		if name == "oneroster.version" {
			p.Version = value
		}
		if file, ok := strings.CutPrefix(name, "file."); ok {
			p.Modes[file] = Mode(value)
		}
		return nil
	}, bad); readErr != nil || err != nil {
		return nil, errors.Join(readErr, err)
	}
	if p.Version != "1.2" && p.Version != "1.1" {
		return nil, fmt.Errorf("%w: manifest.csv says version %q; 1.1 and 1.2 can be read", ErrPackage, p.Version)
	}
	for name, mode := range p.Modes {
		if mode != Absent && mode != Bulk && mode != Delta {
			return nil, fmt.Errorf("%w: manifest.csv says %q of %s; absent, bulk and delta are known", ErrPackage, mode, name)
		}
		if mode != Absent && p.files[name+".csv"] == nil {
			return nil, fmt.Errorf("%w: manifest.csv promises %s.csv, which is missing", ErrPackage, name)
		}
	}
	return p, nil
}

// Row is one record of a file. It is valid only during the call that gets it.
type Row struct {
	Line   int
	values []string
	column map[string]int
}

// Get gives a value by column name, "" when there is none.
func (r Row) Get(column string) string {
	if i, ok := r.column[column]; ok && i < len(r.values) {
		return r.values[i]
	}
	return ""
}

// List gives the parts of a comma-separated value.
func (r Row) List(column string) []string {
	var out []string
	for _, s := range strings.Split(r.Get(column), ",") {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	return out
}

// BadRow is called for a record that cannot be read.
type BadRow func(line int, column, cause string)

// Rows calls each for every record of a file, and bad for every one that is no
// record; reading goes on after it. extra are columns that the standard does not
// know (other than metadata.*). A file that is absent has no rows.
func (p *Package) Rows(file string, each func(Row) error, bad BadRow, extra func(column string)) error {
	if mode, ok := p.Modes[file]; !ok || mode == Absent {
		return nil
	}
	return p.rows(file, extra, each, bad)
}

func (p *Package) rows(file string, extra func(string), each func(Row) error, bad BadRow) error {
	f, err := p.files[file+".csv"].Open()
	if err != nil {
		return fmt.Errorf("%w: opening %s.csv: %w", ErrPackage, file, err)
	}
	defer f.Close()
	in := bufio.NewReaderSize(io.LimitReader(f, maxFile), 1<<16)
	if mark, _ := in.Peek(3); string(mark) == "\ufeff" {
		_, _ = in.Discard(3)
	}
	reader := csv.NewReader(in)
	reader.FieldsPerRecord, reader.ReuseRecord = -1, true
	header, err := reader.Read()
	if err != nil {
		return fmt.Errorf("%w: %s.csv has no header row: %w", ErrPackage, file, err)
	}
	row := Row{column: make(map[string]int, len(header))}
	for i, name := range header {
		row.column[strings.TrimSpace(name)] = i
		if known := Headers[file]; known != nil && extra != nil && !slices.Contains(known, name) && !slices.Contains(only11, name) && !strings.HasPrefix(name, "metadata.") {
			extra(strings.Clone(name))
		}
	}
	for _, name := range required[file] {
		if _, ok := row.column[name]; !ok {
			return fmt.Errorf("%w: %s.csv lacks the column %s", ErrPackage, file, name)
		}
	}
	width := len(header)
	for {
		values, err := reader.Read()
		var broken *csv.ParseError
		switch {
		case err == io.EOF:
			return nil
		case errors.As(err, &broken):
			bad(broken.StartLine, "", broken.Err.Error())
			continue
		case err != nil:
			return fmt.Errorf("%w: reading %s.csv: %w", ErrPackage, file, err)
		}
		row.Line, _ = reader.FieldPos(0)
		if len(values) != width {
			bad(row.Line, "", fmt.Sprintf("it has %d values, the header %d", len(values), width))
			continue
		}
		row.values = values
		if err := each(row); err != nil {
			return err
		}
	}
}

// decoder turns values of a row into the standard's types and remembers the
// first that cannot be.
type decoder struct {
	row    Row
	column string
	cause  error
}

func (d *decoder) text(column string) string {
	return strings.Clone(strings.TrimSpace(d.row.Get(column)))
}

func (d *decoder) fail(column string, err error) {
	if d.cause == nil {
		d.column, d.cause = column, err
	}
}

func (d *decoder) date(column string) Date {
	var out Date
	if err := out.UnmarshalJSON([]byte(strconv.Quote(d.text(column)))); err != nil {
		d.fail(column, err)
	}
	return out
}

func (d *decoder) bool(column string) Bool {
	text := d.text(column)
	if text == "" {
		return false
	}
	var out Bool
	if err := out.UnmarshalJSON([]byte(strconv.Quote(text))); err != nil {
		d.fail(column, err)
	}
	return out
}

func (d *decoder) base() Base {
	b := Base{SourcedID: d.text("sourcedId"), Status: d.text("status"), DateLastModified: d.text("dateLastModified")}
	if b.Status == "" {
		b.Status = Active // blank in bulk files
	}
	return b
}

func (d *decoder) ref(column string) Ref { return Ref{SourcedID: d.text(column)} }

func (d *decoder) optional(column string) *Ref {
	if d.text(column) == "" {
		return nil
	}
	r := d.ref(column)
	return &r
}

// Decode reads a row as T, which is one of the record types of this package.
// column and cause tell what is wrong when it cannot be.
func Decode[T any](row Row) (record T, column string, cause error) {
	d := &decoder{row: row}
	switch r := any(&record).(type) {
	case *Org:
		*r = Org{Base: d.base(), Name: d.text("name"), Type: d.text("type"), Identifier: d.text("identifier"), Parent: d.optional("parentSourcedId")}
	case *AcademicSession:
		*r = AcademicSession{Base: d.base(), Title: d.text("title"), Type: d.text("type"), StartDate: d.date("startDate"), EndDate: d.date("endDate"), Parent: d.optional("parentSourcedId"), SchoolYear: d.text("schoolYear")}
	case *Course:
		*r = Course{Base: d.base(), Org: d.ref("orgSourcedId"), Title: d.text("title"), CourseCode: d.text("courseCode")}
	case *Class:
		*r = Class{Base: d.base(), Title: d.text("title"), ClassCode: d.text("classCode"), ClassType: d.text("classType"), Location: d.text("location"), Course: d.ref("courseSourcedId"), School: d.ref("schoolSourcedId")}
		for _, id := range row.List("termSourcedIds") {
			r.Terms = append(r.Terms, Ref{SourcedID: strings.Clone(id)})
		}
	case *User:
		*r = User{
			Base: d.base(), Username: d.text("username"), EnabledUser: d.bool("enabledUser"), GivenName: d.text("givenName"), FamilyName: d.text("familyName"),
			Identifier: d.text("identifier"), Email: d.text("email"), UserMasterIdentifier: d.text("userMasterIdentifier"),
		}
		if role := d.text("role"); role != "" { // 1.1 has one role, in the row itself
			r.Roles = []UserRole{{RoleType: "primary", Role: role}}
		}
	case *Enrollment:
		*r = Enrollment{Base: d.base(), Class: d.ref("classSourcedId"), School: d.ref("schoolSourcedId"), User: d.ref("userSourcedId"), Role: d.text("role"), Primary: d.bool("primary"), BeginDate: d.date("beginDate"), EndDate: d.date("endDate")}
	default:
		panic(fmt.Sprintf("oneroster: %T is no record of a CSV file", record))
	}
	return record, d.column, d.cause
}
