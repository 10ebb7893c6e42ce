package registers_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/store/mirror"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/oneroster"
)

type rec = map[string]string

// dirty is a small register with something wrong of every kind.
func dirty() map[string]oneroster.Table {
	bulk := func(rows ...rec) oneroster.Table { return oneroster.Table{Mode: oneroster.Bulk, Rows: rows} }
	enrol := func(id, who, where, role string) rec {
		return rec{
			"sourcedId": id, "userSourcedId": who, "classSourcedId": where, "schoolSourcedId": "o",
			"role": role,
		}
	}
	ends := enrol("e5", "p", "s", "teacher")
	ends["beginDate"], ends["endDate"] = "2026-09-09", "2026-09-03"
	nonsense := enrol("e6", "p", "s", "proctor")
	nonsense["beginDate"] = "01.09.2026"
	return map[string]oneroster.Table{
		oneroster.FileOrgs: bulk(rec{"sourcedId": "o", "name": "School", "type": "school"}),
		oneroster.FileSessions: bulk(
			rec{
				"sourcedId": "t", "title": "Term", "type": "term", "startDate": "2026-09-01",
				"endDate": "2026-09-20",
			},
			rec{
				"sourcedId": "t2", "title": "Backwards", "type": "term", "startDate": "2026-09-20",
				"endDate": "2026-09-01",
			}),
		oneroster.FileCourses: bulk(rec{"sourcedId": "c", "title": "Grafting"},
			rec{"sourcedId": "", "title": "No id"}),
		oneroster.FileClasses: bulk(
			rec{"sourcedId": "s", "title": "A \\ \"B\"\t{x}", "courseSourcedId": "c", "termSourcedIds": "t"},
			rec{"sourcedId": "s2", "title": "B", "courseSourcedId": "nowhere"}),
		oneroster.FileUsers: bulk(
			rec{"sourcedId": "p", "enabledUser": "true", "givenName": "Old", "familyName": "Name"},
			rec{
				"sourcedId": "p", "enabledUser": "true", "givenName": "New", "familyName": "Na\nme",
				"email": "Ana@Fernmoor.Example", "userIds": "{card:77},{bus:x}",
			},
			rec{"sourcedId": "q", "enabledUser": "true", "givenName": "", "familyName": "Nameless"},
			rec{"sourcedId": "maybe", "enabledUser": "perhaps", "givenName": "May", "familyName": "Be"},
			rec{"sourcedId": "latin", "enabledUser": "true", "givenName": "J\xf6rg", "familyName": "Byte"},
			rec{
				"sourcedId": "left", "status": "tobedeleted", "enabledUser": "true", "givenName": "Lea",
				"familyName": "Ver",
			}),
		oneroster.FileEnrollments: bulk(
			enrol("e1", "p", "s", "student"), enrol("e2", "p", "s", "student"), enrol("e3", "stranger", "s",
				"student"),
			enrol("e4", "p", "s2", "student"), ends, nonsense, enrol("e7", "left", "s", "student"), enrol("e8", "p",
				"s", "gardener")),
	}
}

// usable is the same with an id for every course.
func usable() map[string]oneroster.Table {
	tables := dirty()
	courses := tables[oneroster.FileCourses]
	courses.Rows = courses.Rows[:1]
	tables[oneroster.FileCourses] = courses
	return tables
}

// Bad records are findings of a code each; every good record goes in. Reading
// the same again notices the same and writes nothing.
func TestBadRecordsAreNamedAndTheGoodGoIn_R1(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	for again, state := range []string{runstore.Finished, runstore.NeedsPerson} {
		run := upload(t, w, files, pack(t, dirty()), false)
		require.Equal(t, state, run.State, run.Error)
		got := map[finding.Code]int{}
		for _, f := range run.Findings {
			if f.Code == finding.ReadIncomplete { // a course without an id may be any course
				assert.Equal(t, "courses.csv", f.Subject)
				assert.Contains(t, f.Detail, "courses.csv line 3")
				assert.Equal(t, 1, again)
				continue
			}
			got[f.Code]++
			assert.Regexp(t, `^[a-zA-Z]+\.csv line \d+`, f.Subject)
			assert.NotEmpty(t, f.Detail)
		}
		assert.Equal(t, map[finding.Code]int{
			finding.RowMalformed: 5, finding.RowDuplicate: 1, finding.ReferenceUnknown: 3,
			finding.EnrolmentDuplicate: 1,
			finding.ReferenceDeleted:   1, finding.DatesReversed: 2, finding.RoleUnknown: 1,
		}, got)
		for table, n := range map[string]int{"terms": 1, "sections": 1, "people": 1, "enrolments": 2} {
			assert.Equal(t, n, count(t, w, `SELECT count(*) FROM `+table+` WHERE gone_at IS NULL`), table)
		}
		assert.Equal(t, 1, count(t, w, `SELECT count(*) FROM people WHERE given_name = 'New'
			AND family_name = E'Na\nme' AND email_key = 'ana@fernmoor.example' AND user_ids = '{77,x}'`), "the last of two is taken")
		assert.Equal(t, 1, count(t, w, `SELECT count(*) FROM sections WHERE title = E'A \\ "B"\t{x}'`))
		if run.Counts["added"] == 0 {
			assert.Zero(t, run.Counts["changed"]+run.Counts["gone"])
		}
	}
}

// Of two records with one identifier the last one counts, whichever of them the
// mirror knows already.
func TestLastOfTwoRecordsCountsAtEveryRead(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	tables := usable()
	people := tables[oneroster.FileUsers].Rows
	for i, want := range []string{"New", "Old", "New", "New"} {
		order := []rec{people[1], people[0]}
		if want == "New" {
			order = []rec{people[0], people[1]}
		}
		if i == 3 { // the unchanged one alone
			order = order[1:]
		}
		tables[oneroster.FileUsers] = oneroster.Table{Mode: oneroster.Bulk, Rows: order}
		run := upload(t, w, files, pack(t, tables), false)
		require.Equal(t, runstore.Finished, run.State, run.Error)
		assert.Equal(t, 1, count(t, w, `SELECT count(*) FROM people WHERE gone_at IS NULL AND given_name = $1`, want),
			"%d: %s", i, want)
		if i == 3 {
			assert.Zero(t, run.Counts["changed"]+run.Counts["added"]+run.Counts["gone"])
		}
	}
}

// An enrolment that becomes another person's has been left by one and joined by
// the other, and who was where before stays known.
func TestEnrolmentThatChangesHands_P5(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	tables := usable()
	tables[oneroster.FileUsers] = oneroster.Table{Mode: oneroster.Bulk, Rows: []rec{
		{"sourcedId": "p", "enabledUser": "true", "givenName": "Ana", "familyName": "Name"}, {
			"sourcedId":   "r",
			"enabledUser": "true", "givenName": "Rob", "familyName": "Name",
		},
	}}
	one := func(who string) {
		tables[oneroster.FileEnrollments] = oneroster.Table{
			Mode: oneroster.Bulk,
			Rows: []rec{{"sourcedId": "e1", "userSourcedId": who, "classSourcedId": "s", "role": "student"}},
		}
	}
	one("p")
	upload(t, w, files, pack(t, tables), false)
	one("r")
	run := upload(t, w, files, pack(t, tables), false)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	assert.Equal(t, 1, run.Counts["joined"])
	assert.Equal(t, 1, run.Counts["left"])
	assert.Equal(t, 1, run.Counts["sections-changed"])
	assert.Equal(t, 1, count(t, w, `SELECT count(*) FROM past_enrolments WHERE person = 'p'`))
	assert.Equal(t, 2, count(t, w, `SELECT count(*) FROM events`))
}

// What is wrong with roles.csv is told like everything else.
func TestBadRolesAreFindings(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for name, text := range map[string]string{
		"manifest.csv": "propertyName,value\noneroster.version,1.2\nfile.users,bulk\nfile.roles,bulk\n",
		"users.csv":    "sourcedId,enabledUser,givenName,familyName\np,true,Ana,Name\nq,true,Quin,Name\n",
		"roles.csv":    "sourcedId,userSourcedId,roleType,role,hat\nr1,p,secondary,teacher,red\nshort,row\n",
	} {
		f, err := z.Create(name)
		require.NoError(t, err)
		_, err = f.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	run := upload(t, w, files, out.Bytes(), false)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	var got []string
	for _, f := range run.Findings {
		got = append(got, f.Subject+": "+f.Detail)
	}
	assert.Equal(t, []string{"roles.csv: column hat", "roles.csv line 3: it has 2 values, the header 5"}, got)
	assert.Equal(t, 1, count(t, w, `SELECT count(*) FROM people WHERE secondary`))
}

// A slip in a record takes nobody out; a record that now says what another one
// says is no longer what it was.
func TestBadRecordTakesNothingAway(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	tables := usable()
	people := []rec{
		{"sourcedId": "p", "enabledUser": "true", "givenName": "Ana", "familyName": "Name"},
		{"sourcedId": "r", "enabledUser": "true", "givenName": "Rob", "familyName": "Name"},
	}
	enrolments := []rec{
		{"sourcedId": "e1", "userSourcedId": "p", "classSourcedId": "s", "role": "student"},
		{"sourcedId": "e2", "userSourcedId": "r", "classSourcedId": "s", "role": "student"},
	}
	read := func() runstore.Run {
		tables[oneroster.FileUsers] = oneroster.Table{Mode: oneroster.Bulk, Rows: people}
		tables[oneroster.FileEnrollments] = oneroster.Table{Mode: oneroster.Bulk, Rows: enrolments}
		run := upload(t, w, files, pack(t, tables), false)
		require.Equal(t, runstore.Finished, run.State, run.Error)
		return run
	}
	read()
	people[0]["familyName"], enrolments[0]["userSourcedId"] = "", "nobody"
	run := read()
	assert.Zero(t, run.Counts["gone"]+run.Counts["left"])
	assert.Equal(t, 1, count(t, w, `SELECT count(*) FROM people WHERE sourced_id = 'p' AND family_name = 'Name'
		AND gone_at IS NULL`))
	assert.Equal(t, 1, count(t, w, `SELECT count(*) FROM enrolments WHERE sourced_id = 'e1' AND person = 'p'
		AND gone_at IS NULL`))
	people[0]["familyName"], enrolments[0]["userSourcedId"], enrolments[1]["userSourcedId"] = "Name", "p", "p"
	run = read()
	assert.Equal(t, 1, run.Counts["left"], "Rob is enrolled by nothing any more")
	assert.Equal(t, 1, count(t, w, `SELECT count(*) FROM enrolments WHERE gone_at IS NULL`))
}

// A read's report says who changed and in which field.
func TestReadSaysWhoChangedAndHow_R1(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	tables := usable()
	people := tables[oneroster.FileUsers].Rows
	tables[oneroster.FileUsers] = oneroster.Table{Mode: oneroster.Bulk, Rows: people[1:]}
	run := upload(t, w, files, pack(t, tables), false)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	list, more, err := mirror.Differences(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	assert.Empty(t, list, "a first read changes nothing")
	assert.False(t, more)
	changed := maps.Clone(people[1])
	who := changed["givenName"] + " " + changed["familyName"]
	changed["familyName"], changed["email"] = "Renamed", "new@fernmoor.example"
	tables[oneroster.FileUsers] = oneroster.Table{Mode: oneroster.Bulk, Rows: []rec{changed}}
	run = upload(t, w, files, pack(t, tables), false)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	list, _, err = mirror.Differences(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	require.Len(t, list, 2)
	got := map[string]string{}
	for _, d := range list {
		assert.Equal(t, []string{"people", changed["sourcedId"], who}, []string{d.Table, d.ID, d.Who})
		got[d.Field] = d.After
	}
	assert.Equal(t, map[string]string{"family name": "Renamed", "email": "new@fernmoor.example"}, got)
}

// What hangs on one record that cannot be used, or is not there, is said once, at its root.
func TestCauseIsNamedOnceAtItsRoot_R1(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	tables := usable()
	class := tables[oneroster.FileClasses].Rows[0]
	broken := maps.Clone(class)
	broken["sourcedId"], broken["title"] = "broken", ""
	tables[oneroster.FileClasses] = oneroster.Table{Mode: oneroster.Bulk, Rows: []rec{class, broken}}
	user := tables[oneroster.FileUsers].Rows[0]
	var people, places []rec
	for i := range 12 {
		p := maps.Clone(user)
		p["sourcedId"] = fmt.Sprint("u", i)
		people = append(people, p)
		for _, c := range []string{"broken", "nowhere", class["sourcedId"]} {
			places = append(places, rec{
				"sourcedId": fmt.Sprint(c, i), "userSourcedId": p["sourcedId"],
				"classSourcedId": c, "role": "student",
			})
		}
	}
	tables[oneroster.FileUsers] = oneroster.Table{Mode: oneroster.Bulk, Rows: people}
	tables[oneroster.FileEnrollments] = oneroster.Table{Mode: oneroster.Bulk, Rows: places}
	run := upload(t, w, files, pack(t, tables), false)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	var hanging []string
	for _, f := range run.Findings {
		if f.Code == finding.ReferenceUnknown {
			hanging = append(hanging, f.Subject+": "+f.Detail)
		}
	}
	require.Len(t, hanging, 2, "%v", hanging)
	assert.Contains(t, hanging[0],
		"classes.csv line 3 (broken): this class cannot be used, so 12 enrolments, which name it, are left out, the first at enrollments.csv line 2")
	assert.Contains(t, hanging[1],
		`enrollments.csv line 3 (nowhere0): the class "nowhere" is not in the register, so 12 enrolments, which name it, are left out, of which this is the first`)
	assert.Equal(t, 12, count(t, w, `SELECT count(*) FROM enrolments WHERE gone_at IS NULL`))
}
