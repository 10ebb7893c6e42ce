package apptest

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/app/registers"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/oneroster"
)

// Pupil is somebody in the register of the second school.
type Pupil struct{ ID, Identifier, Email, Given, Family, Role string }

// SecondSchool connects a register that is read from files, with one section, WEST-1, in which some people are.
func (w *World) SecondSchool(people ...Pupil) connectionstore.Interface {
	w.t.Helper()
	register := w.Connect("oneroster-csv", "West school", map[string]string{})
	w.ReadSecond(register, people...)
	return register
}

// ReadSecond reads it once more, with these people.
func (w *World) ReadSecond(register connectionstore.Interface, people ...Pupil) runstore.Run {
	w.t.Helper()
	r, err := w.Registers.Start(w.t.Context(), "test",
		registers.Request{InterfaceID: register.ID, Upload: SecondPackage(w.t, people...), Approved: true})
	require.NoError(w.t, err)
	require.NoError(w.t, w.Registers.Work(w.t.Context(), r.ID, true))
	r, err = runstore.FindRun(w.t.Context(), w.Store, r.ID)
	require.NoError(w.t, err)
	return r
}

// SecondPackage is the second school's register as a package of files.
func SecondPackage(t testing.TB, people ...Pupil) []byte {
	t.Helper()
	one := func(row map[string]string) oneroster.Table {
		return oneroster.Table{Mode: oneroster.Bulk, Rows: []map[string]string{row}}
	}
	from, to := time.Now().AddDate(0, -2, 0).Format(time.DateOnly), time.Now().AddDate(0, 3,
		0).Format(time.DateOnly)
	users, enrolments := oneroster.Table{Mode: oneroster.Bulk}, oneroster.Table{Mode: oneroster.Bulk}
	for _, p := range people {
		role := p.Role
		if role == "" {
			role = "student"
		}
		users.Rows = append(users.Rows, map[string]string{
			"sourcedId": p.ID, "enabledUser": "true", "username": p.ID, "givenName": p.Given,
			"familyName": p.Family,
			"identifier": p.Identifier, "email": p.Email,
		})
		enrolments.Rows = append(enrolments.Rows, map[string]string{
			"sourcedId": "e-" + p.ID, "classSourcedId": "west-1", "schoolSourcedId": "west", "userSourcedId": p.ID,
			"role": role,
		})
	}
	var content bytes.Buffer
	require.NoError(t, oneroster.WritePackage(&content, "West", map[string]oneroster.Table{
		oneroster.FileOrgs: one(map[string]string{"sourcedId": "west", "name": "West school", "type": "school"}),
		oneroster.FileSessions: one(map[string]string{
			"sourcedId": "now", "title": "This term", "type": "term", "startDate": from, "endDate": to,
			"schoolYear": to[:4],
		}),
		oneroster.FileCourses: one(map[string]string{
			"sourcedId": "west-c", "title": "West course", "courseCode": "WEST", "orgSourcedId": "west",
		}),
		oneroster.FileClasses: one(map[string]string{
			"sourcedId": "west-1", "title": "West one", "classCode": "WEST-1", "classType": "scheduled",
			"courseSourcedId": "west-c", "schoolSourcedId": "west", "termSourcedIds": "now",
		}),
		oneroster.FileUsers: users, oneroster.FileEnrollments: enrolments,
	}))
	return content.Bytes()
}
