// Package oneroster speaks OneRoster 1.2 rostering, over REST and as CSV files.
//
//	client := oneroster.NewClient(oneroster.V12, address, tokenAddress, id, secret, call.Options{})
//	err := client.Pages(ctx, oneroster.FileUsers, client.First(oneroster.FileUsers, time.Time{}), 0,
//		func(p oneroster.Page) error { … })
package oneroster

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"
)

// BasePath of the rostering service (OneRoster 1.2 REST binding, "Base URL").
const BasePath = "/ims/oneroster/rostering/v1p2"

// ScopeRosterReadonly allows every rostering read except demographics.
const ScopeRosterReadonly = "https://purl.imsglobal.org/spec/or/v1p2/scope/roster.readonly"

// BasePath11 and ScopeRosterReadonly11 are those of services that speak OneRoster 1.1 only.
const (
	BasePath11            = "/ims/oneroster/v1p1"
	ScopeRosterReadonly11 = "https://purl.imsglobal.org/spec/or/v1p1/scope/roster.readonly"
)

// Version is the version of the REST binding that a service speaks.
type Version string

// The versions.
const (
	V12 Version = "1.2"
	V11 Version = "1.1"
)

// Status of a record (OneRoster 1.2, "status"). 1.0 has "inactive" too, and files of mode bulk
// leave it blank.
const (
	Active      = "active"
	ToBeDeleted = "tobedeleted"
)

// Bool reads the standard's "true"/"false" strings and real booleans alike and
// writes the strings.
type Bool bool

// UnmarshalJSON reads true, false, "true" and "false".
func (b *Bool) UnmarshalJSON(text []byte) error {
	var s string
	if json.Unmarshal(text, &s) != nil {
		s = string(text)
	}
	v, err := strconv.ParseBool(s)
	if err != nil || len(s) < 4 {
		return fmt.Errorf("%s is neither true nor false", text)
	}
	*b = Bool(v)
	return nil
}

// MarshalJSON writes "true" or "false".
func (b Bool) MarshalJSON() ([]byte, error) { return json.Marshal(strconv.FormatBool(bool(b))) }

// Date is a day without a time, YYYY-MM-DD; the zero Date is absent.
type Date struct{ time.Time }

// NewDate is the day of t.
func NewDate(t time.Time) Date {
	return Date{time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC)}
}

// UnmarshalJSON reads a date, a date and time (whose time is dropped), or "".
func (d *Date) UnmarshalJSON(text []byte) error {
	var s string
	if err := json.Unmarshal(text, &s); err != nil {
		return fmt.Errorf("%s is not a date", text)
	}
	if s == "" {
		*d = Date{}
		return nil
	}
	t, err := ParseDay(s)
	if err != nil {
		return err
	}
	*d = Date{t}
	return nil
}

// ParseDay reads a day in either of the forms that registers give: 2026-09-01, or with a time behind it,
// which is dropped: the day is the one that is written.
func ParseDay(s string) (time.Time, error) {
	day, rest := s[:min(len(s), len(time.DateOnly))], s[min(len(s), len(time.DateOnly)):]
	t, err := time.Parse(time.DateOnly, day)
	if err == nil && (rest == "" || slices.ContainsFunc(clockTimes, func(layout string) bool {
		_, wrong := time.Parse(layout, rest)
		return wrong == nil
	})) {
		return t, nil
	}
	return t, fmt.Errorf("%q is not a date like 2026-09-01", s)
}

// clockTimes are the forms of a time behind a day.
var clockTimes = []string{"T15:04:05Z07:00", "T15:04:05", " 15:04:05", "T15:04Z07:00", "T15:04"}

// MarshalJSON writes YYYY-MM-DD, or "" for the zero Date.
func (d Date) MarshalJSON() ([]byte, error) {
	if d.IsZero() {
		return []byte(`""`), nil
	}
	return json.Marshal(d.Format(time.DateOnly))
}

// EnrolmentRoles are the roles that the standard knows (1.2 and 1.1, "roleType"
// of enrollments); others are extensions, written ext:token.
var EnrolmentRoles = []string{
	"student", "teacher", "administrator", "proctor", "aide", "guardian", "parent",
	"relative",
}

// Ref names another record by its sourcedId (OneRoster 1.2 rostering, "GUIDRef").
type Ref struct {
	Href      string `json:"href"`
	SourcedID string `json:"sourcedId"`
	Type      string `json:"type"`
}

// Base holds what every record has.
type Base struct {
	SourcedID        string `json:"sourcedId"`
	Status           string `json:"status"`
	DateLastModified string `json:"dateLastModified"`
}

// Common gives what every record has.
func (b Base) Common() Base { return b }

// Org is an organisation (OneRoster 1.2 rostering, "Org"; orgs.csv).
type Org struct {
	Base
	Name       string `json:"name"`
	Type       string `json:"type"`
	Identifier string `json:"identifier,omitempty"`
	Parent     *Ref   `json:"parent,omitempty"`
}

// AcademicSession is a term, a grading period or a school year (OneRoster 1.2 rostering,
// "AcademicSession"; academicSessions.csv).
type AcademicSession struct {
	Base
	Title      string `json:"title"`
	Type       string `json:"type"`
	StartDate  Date   `json:"startDate"`
	EndDate    Date   `json:"endDate"`
	Parent     *Ref   `json:"parent,omitempty"`
	SchoolYear string `json:"schoolYear"`
}

// Course is a course (OneRoster 1.2 rostering, "Course"; courses.csv).
type Course struct {
	Base
	Title      string `json:"title"`
	CourseCode string `json:"courseCode,omitempty"`
	Org        Ref    `json:"org"`
	Grades     Words  `json:"grades,omitempty"`
	Subjects   Words  `json:"subjects,omitempty"`
}

// Class is a section (OneRoster 1.2 rostering, "Class"; classes.csv).
type Class struct {
	Base
	Title     string `json:"title"`
	ClassCode string `json:"classCode,omitempty"`
	ClassType string `json:"classType"`
	Location  string `json:"location,omitempty"`
	Course    Ref    `json:"course"`
	School    Ref    `json:"school"`
	Terms     []Ref  `json:"terms"`
	Grades    Words  `json:"grades,omitempty"`
	Subjects  Words  `json:"subjects,omitempty"`
}

// Words is a list of words, such as grades and subjects. Whatever is no such list is none:
// nothing else of the record depends on it.
type Words []string

// UnmarshalJSON takes a list of texts, or one text.
func (w *Words) UnmarshalJSON(text []byte) error {
	var list []string
	if json.Unmarshal(text, &list) == nil {
		*w = list
		return nil
	}
	var one string
	*w = nil
	if json.Unmarshal(text, &one) == nil {
		*w = List(one)
	}
	return nil
}

// UserID is an identifier of a user in another system.
type UserID struct {
	Type       string `json:"type"`
	Identifier string `json:"identifier"`
}

// UserRole is a role of a user in an organisation.
type UserRole struct {
	RoleType string `json:"roleType"`
	Role     string `json:"role"`
	Org      Ref    `json:"org"`
}

// User is a person (OneRoster 1.2 rostering, "User"; users.csv and roles.csv). 1.2 requires
// givenName, familyName, enabledUser and roles.
type User struct {
	Base
	UserMasterIdentifier string     `json:"userMasterIdentifier,omitempty"`
	Username             string     `json:"username,omitempty"`
	UserIDs              []UserID   `json:"userIds,omitempty"`
	EnabledUser          Bool       `json:"enabledUser"`
	GivenName            string     `json:"givenName"`
	FamilyName           string     `json:"familyName"`
	Roles                []UserRole `json:"roles"`
	Identifier           string     `json:"identifier,omitempty"`
	Email                string     `json:"email,omitempty"`
	PrimaryOrg           *Ref       `json:"primaryOrg,omitempty"`

	// Role and Orgs stand in place of roles in 1.1.
	Role string `json:"role,omitempty"`
	Orgs []Ref  `json:"orgs,omitempty"`
}

// Enrollment puts a user into a class, with a role and first and last days (OneRoster 1.2
// rostering, "Enrollment"; enrollments.csv). Without days it holds as long as it is listed.
type Enrollment struct {
	Base
	User      Ref    `json:"user"`
	Class     Ref    `json:"class"`
	School    Ref    `json:"school"`
	Role      string `json:"role"`
	Primary   Bool   `json:"primary"`
	BeginDate Date   `json:"beginDate,omitzero"`
	EndDate   Date   `json:"endDate,omitzero"`
}

// StatusInfo is the standard's error body (OneRoster 1.2 REST binding, "imsx_StatusInfo").
type StatusInfo struct {
	CodeMajor   string    `json:"imsx_codeMajor"`
	Severity    string    `json:"imsx_severity"`
	Description string    `json:"imsx_description"`
	CodeMinor   codeMinor `json:"imsx_CodeMinor"`
}

type codeMinor struct {
	Fields []codeMinorField `json:"imsx_codeMinorField"`
}

type codeMinorField struct {
	Name  string `json:"imsx_codeMinorFieldName"`
	Value string `json:"imsx_codeMinorFieldValue"`
}

// statusInfos is the error body of 1.1.
type statusInfos struct {
	Set []struct {
		Description string `json:"imsx_description"`
	} `json:"statusInfoSet"`
}

// NewStatusInfo makes an error body with one minor code, e.g. "unknownobject".
func NewStatusInfo(minor, description string) StatusInfo {
	return StatusInfo{
		CodeMajor: "failure", Severity: "error", Description: description,
		CodeMinor: codeMinor{Fields: []codeMinorField{{Name: "TargetEndSystem", Value: minor}}},
	}
}
