package oneroster

import (
	"encoding/json"
	"strconv"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"
)

// Record is one record of a register, whichever way it came. Its values are
// named as the columns of the CSV binding; records of the REST binding give
// theirs under the same names. A record is valid only during the call that gets it.
type Record interface {
	// Get gives the value of a column, "" when there is none.
	Get(column string) string
	// Sum is a fingerprint: records with equal sums hold the same.
	Sum() uint64
}

// RoleTypeColumn is a value that users have beside the standard's columns: the
// strongest roleType of their roles, "" when no role is known.
const RoleTypeColumn = "roleType"

// RoleTypeUnsaid stands in the RoleTypeColumn of a user whose role could not be read.
const RoleTypeUnsaid = "?"

// Word is a word of the standard's vocabulary as it is compared: without regard to case and
// to space around it.
func Word(value string) string { return strings.ToLower(strings.TrimSpace(value)) }

// PrimaryOrgColumn is the user's main organisation: their primaryOrg, else that
// of their primary role.
const PrimaryOrgColumn = "primaryOrgSourcedId"

// columns is a record type of the REST binding.
type columns interface {
	get(column string) string
}

// parsed is a record that came as JSON.
type parsed struct {
	columns
	raw json.RawMessage
}

func (p parsed) Get(column string) string { return p.get(column) }
func (p parsed) Sum() uint64              { return xxhash.Sum64(p.raw) }

// Parse reads one JSON record of a collection, which is named as its CSV file.
func Parse(file string, raw json.RawMessage) (Record, error) {
	var into columns
	switch file {
	case FileOrgs:
		into = new(Org)
	case FileSessions:
		into = new(AcademicSession)
	case FileCourses:
		into = new(Course)
	case FileClasses:
		into = new(Class)
	case FileUsers:
		into = new(User)
	case FileEnrollments:
		into = new(Enrollment)
	case FileCategories:
		into = new(Category)
	case FileLineItems:
		into = new(LineItem)
	case FileResults:
		into = new(Result)
	case FileScoreScales:
		into = new(ScoreScale)
	default:
		panic("oneroster: there is no collection " + file)
	}
	err := json.Unmarshal(raw, into)
	return parsed{into, raw}, err
}

func (b Base) get(column string) string {
	switch column {
	case "sourcedId":
		return b.SourcedID
	case "status":
		return b.Status
	case "dateLastModified":
		return b.DateLastModified
	}
	return ""
}

func (o *Org) get(column string) string {
	switch column {
	case "name":
		return o.Name
	case "type":
		return o.Type
	case "identifier":
		return o.Identifier
	case "parentSourcedId":
		return o.Parent.id()
	}
	return o.Base.get(column)
}

func (a *AcademicSession) get(column string) string {
	switch column {
	case "title":
		return a.Title
	case "type":
		return a.Type
	case "startDate":
		return a.StartDate.text()
	case "endDate":
		return a.EndDate.text()
	case "parentSourcedId":
		return a.Parent.id()
	case "schoolYear":
		return a.SchoolYear
	}
	return a.Base.get(column)
}

func (c *Course) get(column string) string {
	switch column {
	case "title":
		return c.Title
	case "courseCode":
		return c.CourseCode
	case "orgSourcedId":
		return c.Org.SourcedID
	case "grades":
		return strings.Join(c.Grades, ",")
	case "subjects":
		return strings.Join(c.Subjects, ",")
	}
	return c.Base.get(column)
}

func (c *Class) get(column string) string {
	switch column {
	case "title":
		return c.Title
	case "classCode":
		return c.ClassCode
	case "classType":
		return c.ClassType
	case "location":
		return c.Location
	case "courseSourcedId":
		return c.Course.SourcedID
	case "schoolSourcedId":
		return c.School.SourcedID
	case "termSourcedIds":
		ids := make([]string, len(c.Terms))
		for i, t := range c.Terms {
			ids[i] = t.SourcedID
		}
		return strings.Join(ids, ",")
	case "grades":
		return strings.Join(c.Grades, ",")
	case "subjects":
		return strings.Join(c.Subjects, ",")
	}
	return c.Base.get(column)
}

func (u *User) get(column string) string {
	switch column {
	case "enabledUser":
		return strconv.FormatBool(bool(u.EnabledUser))
	case "username":
		return u.Username
	case "userIds":
		ids := make([]string, len(u.UserIDs))
		for i, x := range u.UserIDs {
			ids[i] = "{" + x.Type + ":" + x.Identifier + "}"
		}
		return strings.Join(ids, ",")
	case "givenName":
		return u.GivenName
	case "familyName":
		return u.FamilyName
	case "identifier":
		return u.Identifier
	case "email":
		return u.Email
	case "userMasterIdentifier":
		return u.UserMasterIdentifier
	case PrimaryOrgColumn:
		if u.PrimaryOrg != nil {
			return u.PrimaryOrg.SourcedID
		}
		for _, r := range u.Roles {
			if Word(r.RoleType) != "secondary" {
				return r.Org.SourcedID
			}
		}
		if len(u.Roles) > 0 {
			return u.Roles[0].Org.SourcedID
		}
		if len(u.Orgs) > 0 {
			return u.Orgs[0].SourcedID
		}
		return ""
	case RoleTypeColumn:
		strongest := ""
		if len(u.Roles) == 0 && u.Role != "" {
			strongest = "primary" // 1.1 has one role
		}
		for _, r := range u.Roles {
			strongest = Stronger(strongest, Word(r.RoleType))
		}
		return strongest
	}
	return u.Base.get(column)
}

func (e *Enrollment) get(column string) string {
	switch column {
	case "userSourcedId":
		return e.User.SourcedID
	case "classSourcedId":
		return e.Class.SourcedID
	case "schoolSourcedId":
		return e.School.SourcedID
	case "role":
		return e.Role
	case "primary":
		return strconv.FormatBool(bool(e.Primary))
	case "beginDate":
		return e.BeginDate.text()
	case "endDate":
		return e.EndDate.text()
	}
	return e.Base.get(column)
}

// Stronger gives the one of two role types that counts for a user who has both:
// whoever has one primary role is no second account.
func Stronger(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	if a != "secondary" || b != "secondary" {
		return "primary"
	}
	return "secondary"
}

// UserIDs reads the userIds column: "{type:identifier},{type:identifier}".
func UserIDs(value string) (ids []UserID) {
	for _, part := range List(value) {
		kind, identifier, ok := strings.Cut(strings.Trim(part, "{}"), ":")
		if ok && identifier != "" {
			ids = append(ids, UserID{kind, identifier})
		}
	}
	return ids
}

func (r *Ref) id() string {
	if r == nil {
		return ""
	}
	return r.SourcedID
}

func (d Date) text() string {
	if d.IsZero() {
		return ""
	}
	return d.Format(time.DateOnly)
}
