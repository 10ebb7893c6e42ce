package oneroster

import (
	"archive/zip"
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/cespare/xxhash/v2"
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
	FileCategories:  {"sourcedId", "title"},
	FileLineItems:   {"sourcedId", "title", "classSourcedId"},
	FileResults:     {"sourcedId", "lineItemSourcedId", "studentSourcedId", "scoreStatus"},
	FileScoreScales: {"sourcedId", "title", "scoreScaleValue"},
	FileItemScales:  {"lineItemSourcedId", "scoreScaleSourcedId"},
}

// Headers are the standard's columns of each file, in its order (1.2), followed
// by those that only 1.1 has.
var Headers = map[string][]string{
	FileOrgs: {"sourcedId", "status", "dateLastModified", "name", "type", "identifier", "parentSourcedId"},
	FileSessions: {
		"sourcedId", "status", "dateLastModified", "title", "type", "startDate", "endDate",
		"parentSourcedId", "schoolYear",
	},
	FileCourses: {
		"sourcedId", "status", "dateLastModified", "schoolYearSourcedId", "title", "courseCode",
		"grades", "orgSourcedId", "subjects", "subjectCodes",
	},
	FileClasses: {
		"sourcedId", "status", "dateLastModified", "title", "grades", "courseSourcedId", "classCode",
		"classType", "location", "schoolSourcedId", "termSourcedIds", "subjects", "subjectCodes", "periods",
	},
	FileUsers: {
		"sourcedId", "status", "dateLastModified", "enabledUser", "username", "userIds", "givenName",
		"familyName", "middleName", "identifier", "email", "sms", "phone", "agentSourcedIds", "grades", "password",
		"userMasterIdentifier", "resourceSourcedIds", "preferredGivenName", "preferredMiddleName",
		"preferredFamilyName", "primaryOrgSourcedId", "pronouns",
	},
	FileRoles: {
		"sourcedId", "status", "dateLastModified", "userSourcedId", "roleType", "role", "beginDate",
		"endDate", "orgSourcedId", "userProfileSourcedId",
	},
	FileEnrollments: {
		"sourcedId", "status", "dateLastModified", "classSourcedId", "schoolSourcedId", "userSourcedId",
		"role", "primary", "beginDate", "endDate",
	},
	FileCategories: {"sourcedId", "status", "dateLastModified", "title", "weight"},
	FileLineItems: {
		"sourcedId", "status", "dateLastModified", "title", "description", "assignDate", "dueDate",
		"classSourcedId", "categorySourcedId", "gradingPeriodSourcedId", "resultValueMin", "resultValueMax",
		"schoolSourcedId",
	},
	FileResults: {
		"sourcedId", "status", "dateLastModified", "lineItemSourcedId", "studentSourcedId", "scoreStatus", "score",
		"scoreDate", "comment", "textScore", "classSourcedId", "inProgress", "incomplete", "late", "missing",
	},
	FileScoreScales: {
		"sourcedId", "status", "dateLastModified", "title", "type", "orgSourcedId", "courseSourcedId",
		"classSourcedId", "scoreScaleValue",
	},
	FileItemScales: {
		"sourcedId", "status", "dateLastModified", "title", "lineItemSourcedId", "scoreScaleSourcedId",
	},
}

// only11 are columns of 1.1 that 1.2 no longer has.
var only11 = []string{"orgSourcedIds", "role"}

// ErrPackage is wrapped by every error about a package that cannot be read.
var ErrPackage = errors.New("not a OneRoster CSV package")

// Package is an opened CSV package.
type Package struct {
	Version string // "1.2" or "1.1"
	Modes   map[string]Mode
	files   map[string]*zip.File
	limits  Limits
	ended   bool // the manifest's last line has an end, so that the other files' have one too
}

// OpenPackage reads the manifest of a package (a ZIP with all files at its root), whose
// files may be as large as limits says.
func OpenPackage(r io.ReaderAt, size int64, limits Limits) (*Package, error) {
	archive, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("%w: it is no ZIP archive: %w", ErrPackage, err)
	}
	p := &Package{Modes: map[string]Mode{}, files: map[string]*zip.File{}, limits: limits.orDefault()}
	for _, f := range archive.File {
		p.files[f.Name] = f
	}
	if p.files["manifest.csv"] == nil {
		return nil, fmt.Errorf("%w: manifest.csv is missing; all files must stand at the root of the archive",
			ErrPackage)
	}
	bad := func(b Bad) error {
		return fmt.Errorf("%w: manifest.csv line %d: %s", ErrPackage, b.Line, b.Cause)
	}
	if err := p.rows("manifest", nil, func(r Row) error {
		name, value := r.Get("propertyName"), r.Get("value")
		if name == "oneroster.version" {
			p.Version = value
		}
		if file, ok := strings.CutPrefix(name, "file."); ok {
			p.Modes[file] = Mode(strings.ToLower(strings.TrimSpace(value)))
		}
		return nil
	}, bad); err != nil {
		return nil, err
	}
	if p.Version != "1.2" && p.Version != "1.1" {
		return nil, fmt.Errorf("%w: manifest.csv says version %q; 1.1 and 1.2 can be read", ErrPackage, p.Version)
	}
	for name, mode := range p.Modes {
		if mode != Absent && mode != Bulk && mode != Delta {
			return nil, fmt.Errorf("%w: manifest.csv says %q of %s; absent, bulk and delta are known", ErrPackage,
				mode, name)
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
	seed   uint64 // of the header, so that equal values in other columns differ

	scratch *[]byte
}

// Sum is a fingerprint of the row and its header: the XXH64 of its values, each
// ended by a byte that stands in no UTF-8.
func (r Row) Sum() uint64 {
	text := (*r.scratch)[:0]
	for _, v := range r.values {
		text = append(append(text, v...), 0xff)
	}
	*r.scratch = text
	return xxhash.Sum64(text) ^ r.seed
}

// Get gives a value by column name, "" when there is none.
func (r Row) Get(column string) string {
	if i, ok := r.column[column]; ok && i < len(r.values) {
		return r.values[i]
	}
	return ""
}

// List gives the parts of a comma-separated value, without the space around them and without
// empty ones (OneRoster 1.2 CSV binding, "List").
func List(value string) []string {
	var out []string
	for _, s := range strings.Split(value, ",") {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	return out
}

// Bad is something in a file that could not be read.
type Bad struct {
	Line   int    // 0 when it is about the whole file
	ID     string // the row's sourcedId, "" when that cannot be told
	Column string // the column at fault, "" when there is none
	Cause  string
	// Damaged says that the row's form is broken, so that another row may be lost in it and
	// what looks like its sourcedId may be another's. Otherwise one value cannot be used.
	Damaged bool
}

// Rows calls each for every record of a file, and bad for every one that cannot be read;
// reading goes on after it, unless it gives an error. extra are columns that the standard does not know (other than
// metadata.*). A file that is absent has no rows. A file that is no table of this kind is an
// ErrPackage, before each is called.
func (p *Package) Rows(file string, each func(Row) error, bad func(Bad) error, extra func(column string)) error {
	if mode, ok := p.Modes[file]; !ok || mode == Absent {
		return nil
	}
	return p.rows(file, extra, each, bad)
}

// Columns are the columns of a file, nil when it is absent or has no header.
func (p *Package) Columns(file string) []string {
	if mode, ok := p.Modes[file]; !ok || mode == Absent {
		return nil
	}
	f, err := p.open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	header, err := f.header(file)
	if err != nil {
		return nil
	}
	return slices.Clone(header)
}

// table is an opened file.
type table struct {
	io.Closer
	*records
	start []byte
}

func (p *Package) open(file string) (*table, error) {
	from := p.files[file+".csv"]
	f, err := from.Open()
	if err != nil {
		return nil, fmt.Errorf("%w: opening %s.csv: %w", ErrPackage, file, err)
	}
	in := bufio.NewReaderSize(&bounded{from: f, packed: int64(from.CompressedSize64), limits: p.limits}, 1<<16)
	start, _ := in.Peek(1 << 12)
	t := &table{Closer: f, records: newRecords(in), start: slices.Clone(start)}
	if mark, _ := in.Peek(3); string(mark) == "\ufeff" {
		_, _ = in.Discard(3)
	}
	return t, nil
}

// header reads the first row: the columns. Each may be there once.
func (t *table) header(file string) ([]string, error) {
	if err := form(t.start); err != nil {
		return nil, fmt.Errorf("%w: %s.csv: %w", ErrPackage, file, err)
	}
	row, err := t.next()
	if err == nil && row.cause != "" {
		err = errors.New(row.cause)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %s.csv has no header row: %w", ErrPackage, file, err)
	}
	names := make([]string, len(row.values))
	for i, name := range row.values {
		names[i] = strings.TrimSpace(name)
		if names[i] != "" && slices.Contains(names[:i], names[i]) {
			return nil, fmt.Errorf("%w: %s.csv has the column %s twice; it is not clear which of them counts",
				ErrPackage, file, names[i])
		}
	}
	t.width = len(names)
	return names, nil
}

func (p *Package) rows(file string, extra func(string), each func(Row) error, bad func(Bad) error) error {
	t, err := p.open(file)
	if err != nil {
		return err
	}
	defer t.Close()
	header, err := t.header(file)
	if err != nil {
		return err
	}
	row := Row{
		column: make(map[string]int, len(header)), seed: xxhash.Sum64String(strings.Join(header, "\xff")),
		scratch: new([]byte),
	}
	for i, name := range header {
		row.column[name] = i
		if known := Headers[file]; known != nil && extra != nil && !slices.Contains(known, name) &&
			!slices.Contains(only11, name) && !strings.HasPrefix(name, "metadata.") {
			extra(name)
		}
	}
	for _, name := range required[file] {
		if _, ok := row.column[name]; !ok {
			return fmt.Errorf("%w: %s.csv lacks the column %s", ErrPackage, file, name)
		}
	}
	key, keyed := row.column["sourcedId"]
	for n := 0; ; n++ {
		got, err := t.next()
		switch {
		case err == io.EOF && file == "manifest":
			p.ended = !t.open
			return nil
		case err == io.EOF && t.open && p.ended:
			return bad(Bad{
				Line:    t.line - 1,
				Cause:   "the file does not end with a line break, as manifest.csv does: its end may be missing",
				Damaged: true,
			})
		case err == io.EOF:
			return nil
		case err != nil:
			return fmt.Errorf("%w: reading %s.csv: %w", ErrPackage, file, err)
		case n >= p.limits.Rows:
			return fmt.Errorf("%w: %s.csv has more than %d rows, the limit of this interface (mostRows); raise it if that is right", ErrPackage, file, p.limits.Rows)
		}
		b := Bad{Line: got.line, Cause: got.cause, Damaged: true}
		switch {
		case got.cause != "":
			if keyed {
				b.ID = firstOf(got.text, key)
			}
		case len(got.values) != len(header):
			// more of them are two rows in one
			if keyed && key < len(got.values)-1 && len(got.values) < 2*len(header)-1 {
				b.ID = strings.Clone(got.values[key])
			}
			b.Cause = fmt.Sprintf("it has %d values, the header %d", len(got.values), len(header))
		default:
			if i := slices.IndexFunc(got.values, func(v string) bool { return len(v) > LongestField }); i >= 0 {
				if keyed {
					b.ID = strings.Clone(got.values[key])
				}
				b.Column, b.Cause, b.Damaged = header[i], fmt.Sprintf("the value is longer than %d bytes",
					LongestField), false
				break
			}
			row.Line, row.values = got.line, got.values
			if err := each(row); err != nil {
				return err
			}
			continue
		}
		if err := bad(b); err != nil {
			return err
		}
	}
}
