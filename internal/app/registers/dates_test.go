package registers_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"kanban/internal/app/connections"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/standin/register"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/oneroster"
)

// dated is a register in which three people are in one section, on the days given as
// "first/last" for each of them.
func dated(days ...string) map[string]oneroster.Table {
	tables := usable()
	people := oneroster.Table{Mode: oneroster.Bulk}
	enrolments := oneroster.Table{Mode: oneroster.Bulk}
	for i, d := range days {
		id := string(rune('a' + i))
		first, last, _ := strings.Cut(d, "/")
		people.Rows = append(people.Rows, rec{
			"sourcedId": id, "enabledUser": "true",
			"givenName": strings.ToUpper(id), "familyName": "Name", "email": id + "@fernmoor.example",
		})
		enrolments.Rows = append(enrolments.Rows, rec{
			"sourcedId": "e-" + id, "userSourcedId": id,
			"classSourcedId": "s", "role": "student", "beginDate": first, "endDate": last,
		})
	}
	tables[oneroster.FileUsers], tables[oneroster.FileEnrollments] = people, enrolments
	sessions := tables[oneroster.FileSessions]
	sessions.Rows = sessions.Rows[:1]
	sessions.Rows[0]["endDate"] = "2031-02-01"
	tables[oneroster.FileSessions] = sessions
	return tables
}

// standing is where each enrolment stands, in their order.
func standing(t *testing.T, w *apptest.World) (all []string) {
	t.Helper()
	rows, err := w.Store.Pool.Query(t.Context(), `SELECT state FROM enrolments ORDER BY sourced_id`)
	require.NoError(t, err)
	defer rows.Close()
	for rows.Next() {
		var x string
		require.NoError(t, rows.Scan(&x))
		all = append(all, x)
	}
	return all
}

func told(t *testing.T, w *apptest.World) map[string]int {
	t.Helper()
	out := map[string]int{}
	events, err := eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Limit: 100})
	require.NoError(t, err)
	for _, e := range events {
		out[e.Type+" "+e.Person]++
	}
	return out
}

// Enrolments begin and end by their own dates, at midnight where the institution is, without
// a read; what a first read finds over is no news.
func TestEnrolmentsBeginAndEndByTheirDates_R1(t *testing.T) {
	w := apptest.New(t)
	zone := time.FixedZone("far east", 12*3600)
	now := time.Date(2026, 10, 5, 12, 0, 0, 0, zone)
	w.Registers.Zone, w.Registers.Clock = zone, func() time.Time { return now }
	files := w.Connect("oneroster-csv", "Files", nil)
	tables := dated("/", "2026-09-01/2026-10-04", "2026-09-01/2026-10-05", "2026-10-06/2026-11-30", "2026-10-05/")
	require.Equal(t, runstore.Finished, upload(t, w, files, pack(t, tables), false).State)
	assert.Equal(t, []string{"in", "over", "in", "waiting", "in"}, standing(t, w), "the last day is a day of it")
	assert.Empty(t, told(t, w), "a first read is no news")
	run := upload(t, w, files, pack(t, tables), false)
	assert.Zero(t, run.Counts["added"]+run.Counts["changed"]+run.Counts["gone"], "the same again writes nothing")

	section := w.Section("")
	line := func(at time.Time) (all []string) {
		lines, err := rosterstore.RosterOn(t.Context(), w.Store, section.ID, at)
		require.NoError(t, err)
		for _, l := range lines {
			all = append(all, l.Name)
		}
		return all
	}
	day := func(month time.Month, d int) time.Time { return time.Date(2026, month, d, 12, 0, 0, 0, time.UTC) }
	assert.Contains(t, line(day(10, 2)), "B Name", "as it was then")
	assert.NotContains(t, line(day(10, 6)), "B Name")
	assert.Contains(t, line(day(10, 20)), "D Name", "as it will be")
	assert.NotContains(t, line(day(12, 20)), "D Name")

	require.NoError(t, w.Registers.Turn(t.Context()))
	assert.Empty(t, told(t, w), "nothing is due before midnight")
	now = time.Date(2026, 10, 6, 0, 1, 0, 0, zone)
	for range 2 {
		require.NoError(t, w.Registers.Turn(t.Context()))
	}
	assert.Equal(t, []string{"in", "over", "over", "in", "in"}, standing(t, w))
	assert.Equal(t, map[string]int{"section.left C Name": 1, "section.joined D Name": 1}, told(t, w))
	run = upload(t, w, files, pack(t, tables), false)
	assert.Zero(t, run.Counts["joined"]+run.Counts["left"], "a read afterwards finds nothing new")
	assert.Equal(t, map[string]int{"section.left C Name": 1, "section.joined D Name": 1}, told(t, w))

	// A register that means the day after by it.
	_, err := w.Connections.Update(t.Context(), "test", files.ID, 0,
		connections.Change{Values: map[string]string{"enrolmentEnd": "the day after it"}})
	require.NoError(t, err)
	tables[oneroster.FileEnrollments].Rows[4]["endDate"] = "2026-10-07"
	upload(t, w, files, pack(t, tables), false)
	assert.Equal(t, []string{"in", "over", "over", "in", "in"}, standing(t, w), "today is the last day")
	now = now.Add(24 * time.Hour)
	require.NoError(t, w.Registers.Turn(t.Context()))
	assert.Equal(t, []string{"in", "over", "over", "in", "over"}, standing(t, w))
	// An end that is put off lets them come back.
	tables[oneroster.FileEnrollments].Rows[2]["endDate"] = "2026-12-01"
	upload(t, w, files, pack(t, tables), false)
	assert.Equal(t, []string{"in", "over", "in", "in", "over"}, standing(t, w))
	assert.Equal(t, 1, told(t, w)["section.joined C Name"])
}

// Whose enrolments are all over may leave the register; whose are not is kept, and said.
func TestWhoIsNoLongerListed_R1(t *testing.T) {
	w := apptest.New(t)
	w.Registers.Clock = func() time.Time { return time.Date(2026, 10, 5, 12, 0, 0, 0, time.UTC) }
	files := w.Connect("oneroster-csv", "Files", nil)
	tables := dated("/", "2026-09-01/2026-09-30", "2026-11-01/", "/")
	upload(t, w, files, pack(t, tables), false)
	people := tables[oneroster.FileUsers]
	people.Rows = people.Rows[:1]
	tables[oneroster.FileUsers] = people
	run := upload(t, w, files, pack(t, tables), true)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	assert.Equal(t, 3, count(t, w, `SELECT count(*) FROM people WHERE gone_at IS NULL`),
		"all but the one who has left")
	var kept []string
	for _, f := range run.Findings {
		if f.Code == finding.StillReferred {
			kept = append(kept, f.Subject)
		}
		assert.NotEqual(t, finding.ReferenceDeleted, f.Code, f.Detail)
	}
	assert.ElementsMatch(t, []string{"users.csv (c)", "users.csv (d)"}, kept)
	assert.Equal(t, []string{"in", "over", "waiting", "in"}, standing(t, w))
	assert.Empty(t, told(t, w))
}

// Whoever has not begun waits, with the day; nobody is in the class before.
func TestWhoHasNotBegunWaits_P2(t *testing.T) {
	w := apptest.New(t)
	now := time.Date(2026, 9, 10, 12, 0, 0, 0, time.UTC)
	w.Registers.Clock = func() time.Time { return now }
	files := w.Connect("oneroster-csv", "Files", nil)
	upload(t, w, files, pack(t, dated("/", "2027-01-08/")), false)
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("").ID,
		InterfaceID: w.Workspace().ID,
	})
	require.NoError(t, err)
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	require.Len(t, preview.Plan.Entries, 2)
	for _, e := range preview.Plan.Entries {
		if e.Name == "B Name" {
			assert.Equal(t, roster.OutcomeWaiting, e.Outcome)
			assert.Equal(t, finding.NotBegun, e.Reason)
			assert.Equal(t, "begins on 8 January 2027", e.Detail)
		} else {
			assert.Equal(t, roster.OutcomeAdd, e.Outcome)
		}
	}
	who, err := rosterstore.WhereaboutsOf(t.Context(), w.Store, w.Person("b").ID)
	require.NoError(t, err)
	require.Len(t, who, 1)
	require.NotNil(t, who[0].BeginsOn)
	assert.Nil(t, who[0].LeftAt)
}

// The same place under a new id is no news: nobody left, joined or moved.
func TestEnrolmentUnderAnotherID(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	tables := register.Tables(w.Standins.School)
	upload(t, w, files, pack(t, tables), false)
	before := places(t, w, files)
	for i, r := range tables[oneroster.FileEnrollments].Rows {
		r["sourcedId"] = fmt.Sprint("again-", i)
	}
	run := upload(t, w, files, pack(t, tables), true)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	assert.Equal(t, before, places(t, w, files))
	assert.Empty(t, told(t, w))
	assert.Zero(t, run.Counts["left"]+run.Counts["joined"])
	assert.Positive(t, run.Counts["renumbered"])
}

// What would take the place of many is asked about, however it comes about, and what a
// package lacks is said before anything changes.
func TestReadsThatWouldTakePlacesWait_R5(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	upload(t, w, files, pack(t, register.Tables(w.Standins.School)), false)
	before := places(t, w, files)
	for want, spoil := range map[string]func(tables map[string]oneroster.Table){
		"sections that are still in the register": func(tables map[string]oneroster.Table) {
			e := tables[oneroster.FileEnrollments]
			kept := 0
			var rows []rec
			for _, r := range e.Rows {
				if r["classSourcedId"] != "sec-soil-a" {
					rows = append(rows, r)
				} else if kept++; kept <= 3 {
					rows = append(rows, r)
				}
			}
			e.Rows = rows
			tables[oneroster.FileEnrollments] = e
		},
		"learners and teachers would lose their place": func(tables map[string]oneroster.Table) {
			for _, r := range tables[oneroster.FileEnrollments].Rows {
				r["endDate"] = "2020-01-01"
				r["beginDate"] = "2019-01-01"
			}
		},
		"of the 70 people": func(tables map[string]oneroster.Table) {
			for i, r := range tables[oneroster.FileUsers].Rows {
				if i%3 > 0 {
					r["status"] = "ToBeDeleted"
				}
			}
		},
	} {
		tables := register.Tables(w.Standins.School)
		spoil(tables)
		run := upload(t, w, files, pack(t, tables), false)
		assert.Equal(t, string(finding.RegisterShrunk), run.ErrorCode, want)
		assert.Contains(t, run.Error, want)
		assert.Equal(t, before, places(t, w, files), want)
	}
	assert.Empty(t, told(t, w))

	content := texts(t, register.Tables(w.Standins.School))
	content["users.csv"] = strings.Replace(content["users.csv"], ",email,", ",mail,", 1)
	run := upload(t, w, files, zipped(t, content), false)
	assert.Equal(t, string(finding.RegisterShrunk), run.ErrorCode)
	assert.Contains(t, run.Error, "users.csv lacks the column email, in which")
	run = upload(t, w, files, zipped(t, content), true)
	assert.Equal(t, runstore.Finished, run.State, "a person may say that it is meant")
}

// What is odd and takes nobody away is said.
func TestOddThingsOfARegisterAreSaid(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", map[string]string{"mostRows": "500"})
	tables := register.Tables(w.Standins.School)
	tables[oneroster.FileUsers].Rows[3]["identifier"] = "stu-007"
	tables[oneroster.FileClasses].Rows[0]["termSourcedIds"] = "term-of-nobody"
	tables["results"] = oneroster.Table{Mode: oneroster.Bulk}
	run := upload(t, w, files, pack(t, tables), false)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	got := map[finding.Code]string{}
	for _, f := range run.Findings {
		got[f.Code] = f.Subject + ": " + f.Detail
	}
	assert.Contains(t, got[finding.IdentifierShared], "has the same identifier")
	assert.Contains(t, got[finding.ReferenceUnknown], `its term "term-of-nobody" is not in the register`)
	assert.Contains(t, got[finding.FilePassedOver], "results.csv")

	_, err := w.Connections.Update(t.Context(), "test", files.ID, 0,
		connections.Change{Values: map[string]string{"mostRows": "100"}})
	require.NoError(t, err)
	run = upload(t, w, files, pack(t, tables), false)
	assert.Equal(t, string(finding.PackageUnreadable), run.ErrorCode)
	assert.Contains(t, run.Error, "enrollments.csv has more than 100 rows")
}
