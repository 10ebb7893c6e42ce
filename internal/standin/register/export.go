package register

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"kanban/internal/standin/school"
	"kanban/internal/wire/oneroster"
)

// export gives the whole register as a OneRoster CSV package.
func (r *Register) export(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", `attachment; filename="register.zip"`)
	_ = oneroster.WritePackage(w, r.school.Name, Tables(r.school))
}

// Tables are the files of a bulk package of the school.
func Tables(s *school.School) map[string]oneroster.Table {
	out := map[string]oneroster.Table{}
	add := func(file string, row map[string]string) {
		t := out[file]
		t.Mode = oneroster.Bulk
		t.Rows = append(t.Rows, row)
		out[file] = t
	}
	add(oneroster.FileOrgs, map[string]string{
		"sourcedId": schoolID, "name": s.Name, "type": "school",
		"identifier": "FGS",
	})
	for _, row := range sessionRows(s) {
		add(oneroster.FileSessions, row)
	}
	for _, c := range s.Courses {
		add(oneroster.FileCourses, map[string]string{
			"sourcedId": c.ID, "orgSourcedId": schoolID, "title": c.Title,
			"courseCode": c.Code,
		})
	}
	for _, x := range s.Sections() {
		kind := "scheduled"
		if x.Homeroom {
			kind = "homeroom"
		}
		add(oneroster.FileClasses, map[string]string{
			"sourcedId": x.ID, "title": x.Title, "classCode": x.Code,
			"classType": kind, "courseSourcedId": x.CourseID, "schoolSourcedId": schoolID, "termSourcedIds": x.TermID,
			"grades": strings.Join(x.Levels, ","), "subjects": strings.Join(x.Subjects, ","),
		})
	}
	for _, p := range s.People() {
		add(oneroster.FileUsers, map[string]string{
			"sourcedId": p.ID, "enabledUser": strconv.FormatBool(!p.Disabled),
			"username": p.UserName, "givenName": p.GivenName, "familyName": p.FamilyName, "email": p.Email,
			"userMasterIdentifier": p.Master,
		})
		kind := "primary"
		if p.Secondary {
			kind = "secondary"
		}
		add(oneroster.FileRoles, map[string]string{
			"sourcedId": "role-" + p.ID, "userSourcedId": p.ID,
			"roleType": kind, "role": p.Role, "orgSourcedId": schoolID,
		})
	}
	for _, e := range s.Enrolments() {
		if !e.Ended {
			add(oneroster.FileEnrollments, Enrolment(e))
		}
	}
	return out
}

// Enrolment is one row of enrollments.csv.
func Enrolment(e school.Enrolment) map[string]string {
	return map[string]string{
		"sourcedId": e.ID, "classSourcedId": e.SectionID, "schoolSourcedId": schoolID,
		"userSourcedId": e.PersonID, "role": e.Role, "primary": fmt.Sprint(e.Role == "teacher"),
		"beginDate": e.Begin.Format(time.DateOnly),
	}
}

// sessionRows are the terms and their grading periods.
func sessionRows(s *school.School) (rows []map[string]string) {
	day := func(t time.Time) string { return t.Format(time.DateOnly) }
	year := strconv.Itoa(s.Terms[1].End.Year())
	for _, t := range s.Terms {
		rows = append(rows, map[string]string{
			"sourcedId": t.ID, "title": t.Title, "type": "term", "startDate": day(t.Start), "endDate": day(t.End),
			"schoolYear": year,
		})
	}
	for _, p := range periods(s) {
		rows = append(rows, map[string]string{
			"sourcedId": p.ID, "title": p.Title, "type": "gradingPeriod", "parentSourcedId": termOf(p),
			"startDate": day(p.Start), "endDate": day(p.End.AddDate(0, 0, 1)), "schoolYear": year,
		})
	}
	return rows
}
