package reading

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter/registers"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/store"
	"kanban/internal/wire/oneroster"
)

// maxFindings bounds what one run keeps; the rest is counted in the last one.
const maxFindings = 500

// Known are identifiers that the mirror holds already. A delta refers to them
// without repeating their records; a whole read must not, so it knows none.
type Known struct{ Courses, Sections, People map[string]bool }

// sorter turns records into rows and notices what is wrong with them.
type sorter struct {
	findings []store.Noticed
	deleted  map[string][]string // by collection: records marked as deleted
}

// Sort separates the good records of a read, as rows for the mirror, from what
// is to be noticed. Good rows go in whatever else is wrong; a record that refers
// to something unknown stays out, and of two records with one identifier the
// last one is taken.
func Sort(r registers.Records, known Known) (store.Batch, []store.Noticed) {
	s := &sorter{deleted: map[string][]string{}}
	for _, b := range r.Bad {
		s.notice(finding.RowMalformed, b.Where(), b.Cause)
	}
	for _, column := range r.Extra {
		s.notice(finding.ColumnUnknown, column, "")
	}
	var batch store.Batch
	orgs := keep(s, "/orgs", r.Orgs, func(o oneroster.Org) (oneroster.Base, string) {
		return o.Base, missing("name", o.Name)
	})
	for _, o := range orgs.list {
		batch.Orgs = append(batch.Orgs, []any{o.SourcedID, o.Name, o.Type, id(o.Parent)})
	}
	terms := keep(s, "/academicSessions", r.Sessions, func(t oneroster.AcademicSession) (oneroster.Base, string) {
		if !t.StartDate.IsZero() && t.EndDate.Before(t.StartDate.Time) {
			return t.Base, "it ends before it begins"
		}
		return t.Base, cmp.Or(missing("title", t.Title), missingDate("startDate", t.StartDate), missingDate("endDate", t.EndDate))
	})
	for _, t := range terms.list {
		batch.Terms = append(batch.Terms, []any{t.SourcedID, t.Title, t.Type, t.StartDate.Time, t.EndDate.Time, id(t.Parent)})
	}
	courses := keep(s, "/courses", r.Courses, func(c oneroster.Course) (oneroster.Base, string) {
		return c.Base, missing("title", c.Title)
	})
	for _, c := range courses.list {
		batch.Courses = append(batch.Courses, []any{c.SourcedID, c.Title, c.Org.SourcedID, c.CourseCode})
	}
	classes := keep(s, "/classes", r.Classes, func(c oneroster.Class) (oneroster.Base, string) {
		return c.Base, missing("title", c.Title)
	})
	sections := kept[oneroster.Class]{has: map[string]bool{}}
	for _, c := range classes.list {
		ids := make([]string, 0, len(c.Terms))
		for _, t := range c.Terms {
			ids = append(ids, t.SourcedID)
		}
		if !s.refers("/classes", c.SourcedID, "course", c.Course.SourcedID, courses.has, known.Courses) {
			continue
		}
		sections.has[c.SourcedID] = true
		batch.Sections = append(batch.Sections, []any{c.SourcedID, c.Title, c.ClassCode, c.ClassType, c.Course.SourcedID, c.School.SourcedID, ids})
	}
	people := keep(s, "/users", r.Users, func(u oneroster.User) (oneroster.Base, string) {
		return u.Base, cmp.Or(missing("givenName", u.GivenName), missing("familyName", u.FamilyName))
	})
	for _, u := range people.list {
		batch.People = append(batch.People, personRow(u))
	}
	s.enrolments(r.Enrollments, refs{sections.has, known.Sections}, refs{people.has, known.People}, &batch)
	s.modes(r.Modes, &batch)
	if extra := len(s.findings) - maxFindings; extra > 0 {
		s.findings = append(s.findings[:maxFindings], store.Noticed{Code: finding.RowMalformed, Subject: "the register", Detail: fmt.Sprintf("and %d findings more", extra)})
	}
	return batch, s.findings
}

func (s *sorter) notice(code finding.Code, subject, detail string) {
	s.findings = append(s.findings, store.Noticed{Code: code, Subject: subject, Detail: detail})
}

// refs are the identifiers that may be referred to: of this read, of the mirror.
type refs [2]map[string]bool

// modes says which tables a package replaces and which it only changes.
func (s *sorter) modes(modes map[string]oneroster.Mode, batch *store.Batch) {
	if modes == nil {
		return
	}
	batch.Partial, batch.Deleted = map[string]bool{}, map[string][]string{}
	for table, file := range map[string]string{
		"orgs": oneroster.FileOrgs, "terms": oneroster.FileSessions, "courses": oneroster.FileCourses,
		"sections": oneroster.FileClasses, "people": oneroster.FileUsers, "enrolments": oneroster.FileEnrollments,
	} {
		batch.Partial[table] = modes[file] != oneroster.Bulk
		if modes[file] == oneroster.Delta {
			batch.Deleted[table] = s.deleted["/"+file]
		}
	}
}

func (s *sorter) refers(path, from, what, to string, known ...map[string]bool) bool {
	if !slices.ContainsFunc(known, func(m map[string]bool) bool { return m[to] }) {
		s.notice(finding.ReferenceUnknown, path+" "+from, fmt.Sprintf("its %s %q is not in the register", what, to))
		return false
	}
	return true
}

// kept is a collection without deleted, doubled and unusable records.
type kept[T any] struct {
	list []T
	has  map[string]bool
}

func keep[T any](s *sorter, path string, all []T, check func(T) (oneroster.Base, string)) kept[T] {
	k := kept[T]{has: make(map[string]bool, len(all))}
	at := make(map[string]int, len(all))
	for i, x := range all {
		base, problem := check(x)
		subject := fmt.Sprintf("%s record %d (%s)", path, i+1, base.SourcedID)
		switch {
		case base.SourcedID == "":
			s.notice(finding.RowMalformed, subject, "it has no sourcedId")
		case base.Status == oneroster.ToBeDeleted || base.Status == "inactive":
			s.deleted[path] = append(s.deleted[path], base.SourcedID)
		case problem != "":
			s.notice(finding.RowMalformed, subject, problem)
		case k.has[base.SourcedID]:
			s.notice(finding.RowDuplicate, subject, "the last one was taken")
			k.list[at[base.SourcedID]] = x
		default:
			at[base.SourcedID] = len(k.list)
			k.has[base.SourcedID] = true
			k.list = append(k.list, x)
		}
	}
	return k
}

func (s *sorter) enrolments(all []oneroster.Enrollment, sections, people refs, batch *store.Batch) {
	list := keep(s, "/enrollments", all, func(e oneroster.Enrollment) (oneroster.Base, string) {
		if !e.BeginDate.IsZero() && !e.EndDate.IsZero() && e.EndDate.Before(e.BeginDate.Time) {
			return e.Base, "it ends before it begins"
		}
		return e.Base, missing("role", e.Role)
	})
	seen := map[string]string{}
	for _, e := range list.list {
		if !s.refers("/enrollments", e.SourcedID, "class", e.Class.SourcedID, sections[:]...) || !s.refers("/enrollments", e.SourcedID, "user", e.User.SourcedID, people[:]...) {
			continue
		}
		pair := e.Class.SourcedID + "\x00" + e.User.SourcedID + "\x00" + e.Role
		if other := seen[pair]; other != "" {
			s.notice(finding.EnrolmentDuplicate, "/enrollments "+e.SourcedID, fmt.Sprintf("%s is enrolled in %s by %s already", e.User.SourcedID, e.Class.SourcedID, other))
			continue
		}
		seen[pair] = e.SourcedID
		batch.Enrolments = append(batch.Enrolments, []any{e.SourcedID, e.Class.SourcedID, e.User.SourcedID, e.Role, day(e.BeginDate), day(e.EndDate)})
	}
}

func personRow(u oneroster.User) []any {
	key, err := roster.AddressKey(u.Email)
	if err != nil {
		key = ""
	}
	secondary := len(u.Roles) > 0
	for _, r := range u.Roles {
		secondary = secondary && r.RoleType == "secondary"
	}
	return []any{u.SourcedID, u.GivenName, u.FamilyName, u.Email, key, u.Username, cmp.Or(u.Identifier, u.SourcedID), u.UserMasterIdentifier, secondary, bool(u.EnabledUser)}
}

func id(r *oneroster.Ref) string {
	if r == nil {
		return ""
	}
	return r.SourcedID
}

func day(d oneroster.Date) *time.Time {
	if d.IsZero() {
		return nil
	}
	return &d.Time
}

func missing(name, value string) string {
	if strings.TrimSpace(value) == "" {
		return name + " is missing"
	}
	return ""
}

func missingDate(name string, d oneroster.Date) string {
	if d.IsZero() {
		return name + " is missing"
	}
	return ""
}
