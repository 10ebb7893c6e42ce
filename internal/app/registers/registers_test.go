package registers_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/registers"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/standin/register"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/oneroster"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func pack(t *testing.T, tables map[string]oneroster.Table) []byte {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, oneroster.WritePackage(&out, "Test", tables))
	return out.Bytes()
}

func upload(t *testing.T, w *apptest.World, c connectionstore.Interface, content []byte,
	approved bool,
) runstore.Run {
	t.Helper()
	r, err := w.Registers.Start(t.Context(), "test", registers.Request{
		InterfaceID: c.ID, Approved: approved,
		Upload: content,
	})
	require.NoError(t, err)
	require.NoError(t, w.Registers.Work(t.Context(), r.ID, true))
	r, err = runstore.FindRun(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	return r
}

func count(t *testing.T, w *apptest.World, sql string, args ...any) (n int) {
	t.Helper()
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), sql, args...).Scan(&n))
	return n
}

// A register read from files holds what it holds when read through its address.
func TestFilesGiveTheSameMirror_R1(t *testing.T) {
	w := apptest.New(t)
	rest := w.Register()
	w.Read(rest, false)
	files := w.Connect("oneroster-csv", "Files", nil)
	run := upload(t, w, files, pack(t, register.Tables(w.Standins.School)), false)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	assert.Empty(t, run.Findings)
	for table, columns := range map[string]string{
		"people":     "sourced_id, given_name, family_name, email, user_name, identifier, master, secondary, enabled",
		"sections":   "sourced_id, title, code, class_type, course, org, terms",
		"enrolments": "sourced_id, section, person, role, begin_date",
		"terms":      "sourced_id, title, start_date, end_date", "courses": "sourced_id, title, org, code",
	} {
		both := `SELECT count(*) FROM ((SELECT ` + columns + ` FROM ` + table + ` WHERE interface_id = $1
			AND gone_at IS NULL) EXCEPT (SELECT ` + columns + ` FROM ` + table + ` WHERE interface_id = $2 AND gone_at IS NULL)) d`
		assert.Zero(t, count(t, w, both, rest.ID, files.ID), table)
		assert.Zero(t, count(t, w, both, files.ID, rest.ID), table)
	}
	run = upload(t, w, files, pack(t, register.Tables(w.Standins.School)), false)
	assert.Zero(t, run.Counts["added"]+run.Counts["changed"]+run.Counts["gone"], "the same again writes nothing")
	assert.Zero(t, count(t, w, `SELECT count(*) FROM uploads`), "a package is dropped when it has been read")
}

// A delta changes what it names and leaves everything else.
func TestDeltaChangesOnlyWhatItNames_R1(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	upload(t, w, files, pack(t, register.Tables(w.Standins.School)), false)
	before := count(t, w, `SELECT count(*) FROM enrolments WHERE gone_at IS NULL`)
	run := upload(t, w, files, pack(t, map[string]oneroster.Table{
		oneroster.FileUsers: {Mode: oneroster.Delta, Rows: []map[string]string{{
			"sourcedId": "stu-005",
			"status":    "active", "enabledUser": "true", "givenName": "Elsa", "familyName": "Elder",
			"username": "elsa.elder", "email": "elsa@fernmoor.example",
		}}},
		oneroster.FileEnrollments: {Mode: oneroster.Delta, Rows: []map[string]string{
			{
				"sourcedId": "new-1", "status": "active", "classSourcedId": "sec-prop-a",
				"schoolSourcedId": "org-fernmoor", "userSourcedId": "stu-060", "role": "student",
			},
			{
				"sourcedId": "enr-0001", "status": "tobedeleted", "classSourcedId": "sec-prop-a",
				"userSourcedId": "stu-001", "role": "student",
			},
			{
				"sourcedId": "new-2", "status": "active", "classSourcedId": "nowhere", "userSourcedId": "stu-060",
				"role": "student",
			},
		}},
	}), false)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	assert.Equal(t, 1, run.Counts["joined"])
	assert.Equal(t, 1, run.Counts["left"])
	assert.Equal(t, 1, run.Counts["changed"])
	assert.Equal(t, 3, run.Counts["sections-changed"],
		"the three in which Elsa is; in one of them somebody joined and left")
	require.Len(t, run.Findings, 1)
	assert.Equal(t, finding.ReferenceUnknown, run.Findings[0].Code)
	assert.Equal(t, before, count(t, w, `SELECT count(*) FROM enrolments WHERE gone_at IS NULL`))
	assert.Equal(t, "elsa@fernmoor.example", w.Person("stu-005").Email)
}

func TestFilesThatCannotBeBelieved(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	upload(t, w, files, pack(t, register.Tables(w.Standins.School)), false)
	before := count(t, w, `SELECT count(*) FROM enrolments WHERE gone_at IS NULL`)

	run := upload(t, w, files, []byte("no zip at all"), false)
	assert.Equal(t, string(finding.PackageUnreadable), run.ErrorCode)
	halved := register.Tables(w.Standins.School)
	e := halved[oneroster.FileEnrollments]
	e.Rows = e.Rows[:len(e.Rows)/3]
	halved[oneroster.FileEnrollments] = e
	run = upload(t, w, files, pack(t, halved), false)
	assert.Equal(t, string(finding.RegisterShrunk), run.ErrorCode)
	assert.Contains(t, run.Error, "would take away")
	assert.Equal(t, before, count(t, w, `SELECT count(*) FROM enrolments WHERE gone_at IS NULL`),
		"nothing was changed")
	run = upload(t, w, files, pack(t, halved), true)
	assert.Equal(t, runstore.Finished, run.State)

	_, err := w.Registers.Start(t.Context(), "test", registers.Request{InterfaceID: files.ID})
	assert.ErrorContains(t, err, "--file package.zip")
	_, err = w.Registers.Start(t.Context(), "test", registers.Request{
		InterfaceID: w.Register().ID,
		Upload:      []byte("x"),
	})
	assert.ErrorContains(t, err, "takes no files")
	_, err = w.Registers.Start(t.Context(), "test", registers.Request{InterfaceID: w.Contacts().ID})
	assert.ErrorContains(t, err, "is not a register")
}

func TestNewestPackageOfAFolderIsRead(t *testing.T) {
	w := apptest.New(t)
	folder := t.TempDir()
	files := w.Connect("oneroster-csv", "Files", map[string]string{"folder": folder})
	run := w.Read(files, false)
	assert.Equal(t, string(finding.PackageUnreadable), run.ErrorCode)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "register.zip"),
		pack(t, register.Tables(w.Standins.School)), 0o600))
	run = w.Read(files, false)
	assert.Equal(t, runstore.Finished, run.State, run.Error)
	assert.Equal(t, 70, run.Counts["people"])
}

// files opens registers of files, which have no secrets.
type files struct{}

func (files) Open(_ context.Context, id string) (adapter.Interface, error) {
	return adapter.Interface{ID: id, Kind: adapter.KindCSV, Settings: map[string]string{}}, nil
}

// Whoever leaves one section of a course and joins another at once has moved; what
// greets newcomers can tell.
func TestMoversAreTold_P5(t *testing.T) {
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	require.NoError(t, w.Standins.School.Withdraw("stu-001", "sec-prop-a"))
	require.NoError(t, w.Standins.School.Enrol("stu-001", "sec-prop-c"))
	require.NoError(t, w.Standins.School.Enrol("stu-030", "sec-prop-a"))
	w.Read(register, false)
	got := map[string]any{}
	events, err := eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Limit: 10})
	require.NoError(t, err)
	for _, e := range events {
		got[e.Type+" "+e.Person+" "+e.Section] = e.Data["moved"]
		if e.Type == "section.moved" {
			assert.Equal(t, "Propagation A", e.Data["from"])
		}
	}
	assert.Equal(t, map[string]any{
		"section.joined Ada Alder Propagation C": true, "section.moved Ada Alder Propagation C": nil,
		"section.left Ada Alder Propagation A":    true,
		"section.joined Dora Daisy Propagation A": false,
	}, got)
}
