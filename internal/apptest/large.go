package apptest

import (
	"bytes"
	"fmt"
	"strconv"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/app/registers"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/wire/oneroster"
	"kanban/internal/wire/scim"
)

// Large makes a school of many sections, each with so many learners, of whom each
// is in two sections, and reads it. Every section is paired with a space of the
// workspace in which its learners are, except every tenth, which is not paired.
// It gives the register, the workspace and how many pairings there are.
func (w *World) Large(sections, learners int) (register, workspace connectionstore.Interface, pairings int) {
	w.t.Helper()
	ctx := w.t.Context()
	register = w.LargeRegister(sections, learners)
	workspace = w.Workspace()

	people := sections * learners / 2
	users := make([]scim.User, people)
	for i := range users {
		name := "learner" + strconv.Itoa(i)
		users[i] = scim.User{
			ID: "l" + strconv.Itoa(i), UserName: name, ExternalID: "p" + strconv.Itoa(i),
			Active: true, Name: scim.Name{
				GivenName:  "Given" + strconv.Itoa(i),
				FamilyName: "Family",
			}, Emails: []scim.Email{{Value: name + "@fernmoor.example"}},
		}
	}
	groups := make([]scim.Group, sections)
	for i := range groups {
		groups[i] = scim.Group{ID: "s" + strconv.Itoa(i), DisplayName: fmt.Sprintf("Section %d", i)}
		for n := range learners {
			groups[i].Members = append(groups[i].Members,
				scim.Member{Value: "l" + strconv.Itoa((i*learners+n)%people), Type: "User"})
		}
	}
	w.Standins.Workspace.Hold(users, groups)
	// As after a first run of each: paired, run, everybody placed and in step.
	var err error
	for _, sql := range []string{
		`INSERT INTO accounts (interface_id, remote_id, person_id) SELECT $2, 'l' || substr(sourced_id, 2), id
			FROM people WHERE interface_id = $1`,
		`INSERT INTO pairings (id, section_id, interface_id, target_name, target_ref, target_seen, policy, counts,
			ran_at, compared_at)
			SELECT gen_random_uuid(), id, $2, title, sourced_id, title,
				'{"roles":["student","teacher"],"leavers":"remove","removalNumber":10,"removalShare":0.2,"schedule":{"kind":"every","minutes":60}}',
				'{"in-step":` + strconv.Itoa(learners) + `}', now(), now() FROM sections WHERE interface_id = $1 AND substr(sourced_id, 2)::int % 10 <> 9`,
		`INSERT INTO placements (pairing_id, remote_id, person_id, name) SELECT p.id, a.remote_id, a.person_id, 'Name'
			FROM pairings p
			JOIN sections s ON s.id = p.section_id AND $1 = s.interface_id AND $2 = p.interface_id
			JOIN enrolments e ON e.interface_id = s.interface_id AND e.section = s.sourced_id
				JOIN accounts a ON a.remote_id = 'l' || substr(e.person, 2)`,
	} {
		_, err = w.Store.Pool.Exec(ctx, sql, register.ID, workspace.ID)
		require.NoError(w.t, err)
	}
	_, err = w.Store.Pool.Exec(ctx, `ANALYZE`)
	require.NoError(w.t, err)
	pairings, err = pairingstore.CountPairings(ctx, w.Store, workspace.ID)
	require.NoError(w.t, err)
	return register, workspace, pairings
}

// LargeRegister reads a school of so many sections, ten to a course, of so many
// learners each; everybody is in two sections.
func (w *World) LargeRegister(sections, learners int) connectionstore.Interface {
	w.t.Helper()
	var content bytes.Buffer
	require.NoError(w.t, oneroster.WritePackage(&content, "Large", largeSchool(sections, learners)))
	register := w.Connect("oneroster-csv", "Large school", map[string]string{})
	r, err := w.Registers.Start(w.t.Context(), "test",
		registers.Request{InterfaceID: register.ID, Upload: content.Bytes()})
	require.NoError(w.t, err)
	require.NoError(w.t, w.Registers.Work(w.t.Context(), r.ID, true))
	return register
}

func largeSchool(sections, learners int) map[string]oneroster.Table {
	rows := func(n int, row func(i int, id string) map[string]string) oneroster.Table {
		t := oneroster.Table{Mode: oneroster.Bulk}
		for i := range n {
			t.Rows = append(t.Rows, row(i, strconv.Itoa(i)))
		}
		return t
	}
	from, to := time.Now().AddDate(0, -2, 0).Format(time.DateOnly), time.Now().AddDate(0, 3, 0).Format(time.DateOnly)
	people := sections * learners / 2
	return map[string]oneroster.Table{
		oneroster.FileOrgs: rows(1, func(int, string) map[string]string {
			return map[string]string{"sourcedId": "o", "name": "Large school", "type": "school"}
		}),
		oneroster.FileSessions: rows(1, func(int, string) map[string]string {
			return map[string]string{
				"sourcedId": "t", "title": "This term", "type": "term", "startDate": from,
				"endDate": to, "schoolYear": to[:4],
			}
		}),
		oneroster.FileCourses: rows(sections/10+1, func(_ int, id string) map[string]string {
			return map[string]string{
				"sourcedId": "c" + id, "title": "Course " + id, "courseCode": "C" + id,
				"orgSourcedId": "o",
			}
		}),
		oneroster.FileClasses: rows(sections, func(i int, id string) map[string]string {
			return map[string]string{
				"sourcedId": "s" + id, "title": "Section " + id, "classCode": "S" + id,
				"classType": "scheduled", "courseSourcedId": "c" + strconv.Itoa(i/10), "schoolSourcedId": "o",
				"termSourcedIds": "t",
			}
		}),
		oneroster.FileUsers: rows(people, func(_ int, id string) map[string]string {
			return map[string]string{
				"sourcedId": "p" + id, "enabledUser": "true", "username": "learner" + id,
				"givenName": "Given" + id, "familyName": "Family", "email": "learner" + id + "@fernmoor.example",
			}
		}),
		oneroster.FileEnrollments: rows(sections*learners, func(i int, id string) map[string]string {
			return map[string]string{
				"sourcedId": "e" + id, "classSourcedId": "s" + strconv.Itoa(i/learners),
				"schoolSourcedId": "o", "userSourcedId": "p" + strconv.Itoa(i%people), "role": "student",
				"primary": "false",
			}
		}),
	}
}
