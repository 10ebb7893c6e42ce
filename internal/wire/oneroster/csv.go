package oneroster

import (
	"archive/zip"
	"bufio"
	"encoding/csv"
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

// List gives the parts of a comma-separated value.
func List(value string) []string {
	var out []string
	for _, s := range strings.Split(value, ",") {
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
	in := bufio.NewReaderSize(&bounded{from: f, packed: int64(p.files[file+".csv"].CompressedSize64)}, 1<<16)
	if mark, _ := in.Peek(3); string(mark) == "\ufeff" {
		_, _ = in.Discard(3)
	}
	reader := csv.NewReader(in)
	reader.FieldsPerRecord, reader.ReuseRecord = -1, true
	header, err := reader.Read()
	header = slices.Clone(header)
	if err != nil {
		return fmt.Errorf("%w: %s.csv has no header row: %w", ErrPackage, file, err)
	}
	row := Row{column: make(map[string]int, len(header)), seed: xxhash.Sum64String(strings.Join(header, "\xff")), scratch: new([]byte)}
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
	for n := 0; ; n++ {
		if n > MostRows {
			return fmt.Errorf("%w: %s.csv has more than %d rows", ErrPackage, file, MostRows)
		}
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
		if i := slices.IndexFunc(values, func(v string) bool { return len(v) > LongestField }); i >= 0 {
			bad(row.Line, strings.TrimSpace(header[i]), fmt.Sprintf("the value is longer than %d bytes", LongestField))
			continue
		}
		row.values = values
		if err := each(row); err != nil {
			return err
		}
	}
}
