package registers_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/app/registers"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/oneroster"
)

// A large institution: learners, sections, and 25 learners in each section.
const (
	manyLearners = 100_000
	manySections = 28_000
	perSection   = 25
)

// institution makes the tables of a bulk package; every changed-th learner has
// another address and the first enrolment of as many sections another learner.
func institution(changed int) map[string]oneroster.Table {
	rows := func(n int, row func(int) map[string]string) oneroster.Table {
		t := oneroster.Table{Mode: oneroster.Bulk, Rows: make([]map[string]string, n)}
		for i := range n {
			t.Rows[i] = row(i)
		}
		return t
	}
	id := strconv.Itoa
	return map[string]oneroster.Table{
		oneroster.FileOrgs: rows(1, func(int) map[string]string {
			return map[string]string{"sourcedId": "o", "name": "Fernmoor", "type": "school"}
		}),
		oneroster.FileSessions: rows(2, func(i int) map[string]string {
			return map[string]string{
				"sourcedId": "t" + id(i), "title": "Term " + id(i), "type": "term",
				"startDate": "2026-09-01", "endDate": "2027-06-30", "schoolYear": "2027",
			}
		}),
		oneroster.FileCourses: rows(manySections/10, func(i int) map[string]string {
			return map[string]string{
				"sourcedId": "c" + id(i), "title": "Course " + id(i), "courseCode": "C" + id(i),
				"orgSourcedId": "o",
			}
		}),
		oneroster.FileClasses: rows(manySections, func(i int) map[string]string {
			return map[string]string{
				"sourcedId": "s" + id(i), "title": "Section " + id(i), "classCode": "S" + id(i),
				"classType": "scheduled", "courseSourcedId": "c" + id(i/10), "schoolSourcedId": "o",
				"termSourcedIds": "t" + id(i%2),
			}
		}),
		oneroster.FileUsers: rows(manyLearners, func(i int) map[string]string {
			address := "learner" + id(i) + "@fernmoor.example"
			if changed > 0 && i%changed == 0 {
				address = "new." + address
			}
			return map[string]string{
				"sourcedId": "p" + id(i), "enabledUser": "true", "username": "learner" + id(i),
				"givenName": "Given" + id(i), "familyName": "Family" + id(i), "email": address,
			}
		}),
		oneroster.FileEnrollments: rows(manySections*perSection, func(i int) map[string]string {
			who := i * 7 % manyLearners
			if changed > 0 && i%(perSection*changed) == 0 {
				who = (who + 1) % manyLearners
			}
			return map[string]string{
				"sourcedId": "e" + id(i), "classSourcedId": "s" + id(i/perSection),
				"schoolSourcedId": "o", "userSourcedId": "p" + id(who), "role": "student", "primary": "false",
				"beginDate": "2026-09-01", "endDate": "2027-06-30",
			}
		}),
	}
}

// bareCopy loads the files of a package into tables without index or constraint,
// with COPY from the client's side, as psql's \copy does.
func bareCopy(b *testing.B, s *db.Database, content []byte) time.Duration {
	b.Helper()
	archive, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	require.NoError(b, err)
	conn, err := s.Pool.Acquire(context.Background())
	require.NoError(b, err)
	defer conn.Release()
	files := map[string][]byte{} // unpacked beforehand: \copy reads plain files
	for _, f := range archive.File {
		name := strings.TrimSuffix(f.Name, ".csv")
		if oneroster.Headers[name] == nil {
			continue
		}
		r, err := f.Open()
		require.NoError(b, err)
		files[name], err = io.ReadAll(r)
		require.NoError(b, err)
		_, err = conn.Exec(context.Background(), fmt.Sprintf(`CREATE TABLE bare_%s (%s text)`, name,
			strings.Join(quoteAll(oneroster.Headers[name]), " text, ")))
		require.NoError(b, err)
	}
	started := time.Now()
	for name, text := range files {
		_, err := conn.Conn().PgConn().CopyFrom(context.Background(), bytes.NewReader(text),
			fmt.Sprintf(`COPY bare_%s FROM STDIN WITH (FORMAT csv, HEADER)`, name))
		require.NoError(b, err)
	}
	return time.Since(started)
}

func quoteAll(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = strconv.Quote(n)
	}
	return out
}

// rounds is how often the large institution is read. A ratio is that of one round, because the
// machine's other guests let the same COPY take twice as long from one time to the next; the one in
// the middle is given.
const rounds = 3

// BenchmarkReadLargeInstitution prints the figures of reading one institution of
// 100,000 learners from files: the first time, the same again, and a day's change
// of 1 %, each as a ratio to a bare COPY of the same files in the same round.
func BenchmarkReadLargeInstitution(b *testing.B) {
	debug.SetGCPercent(300) // as the service does
	var out bytes.Buffer
	pack := func(changed int) []byte {
		out.Reset()
		require.NoError(b, oneroster.WritePackage(&out, "Bench", institution(changed)))
		return bytes.Clone(out.Bytes())
	}
	first, later := pack(0), pack(100)
	for b.Loop() {
		figures := map[string][]float64{}
		for range rounds {
			s := storetest.New(b)
			bare := bareCopy(b, s, first)
			forgetPeak(b)
			read := reader(b, s)
			one, _ := read(first)
			two, same := read(first)
			three, day := read(later)
			require.Zero(b, same.Counts["added"]+same.Counts["changed"]+same.Counts["gone"],
				"no mirror row is written")
			for name, figure := range map[string]float64{
				"s-copy": bare.Seconds(), "s-first": one.Seconds(), "s-again": two.Seconds(), "s-day": three.Seconds(),
				"sections-changed": float64(day.Counts["sections-changed"]),
				"MB-peak":          peak(b),
			} {
				figures[name] = append(figures[name], figure)
			}
			for name, took := range map[string]time.Duration{"first": one, "again": two, "day": three} {
				figures[name+"/copy"] = append(figures[name+"/copy"], took.Seconds()/bare.Seconds())
			}
			s.Close()
		}
		for name, all := range figures {
			slices.Sort(all)
			b.ReportMetric(all[len(all)/2], name)
		}
		b.ReportMetric(slices.Max(figures["MB-peak"]), "MB-peak")
	}
}

// reader gives a function that reads packages through a new interface.
func reader(b *testing.B, s *db.Database) func(content []byte) (time.Duration, runstore.Run) {
	ctx := context.Background()
	service := &registers.Service{Store: s, Connections: files{}}
	c := connectionstore.Interface{
		ID: db.NewID(), Name: "Files", Kind: "oneroster-csv", Version: 1,
		Settings: map[string]string{},
	}
	require.NoError(b, s.InTx(ctx, func(tx *db.Tx) error { return storetest.KeepInterface(tx, &c) }))
	return func(content []byte) (time.Duration, runstore.Run) {
		r, err := service.Start(ctx, "bench", registers.Request{InterfaceID: c.ID, Upload: content})
		require.NoError(b, err)
		started := time.Now()
		require.NoError(b, service.Work(ctx, r.ID, true))
		took := time.Since(started)
		r, err = runstore.FindRun(ctx, s, r.ID)
		require.NoError(b, err)
		require.Equal(b, runstore.Finished, r.State, r.Error)
		return took, r
	}
}

// forgetPeak gives back what making the packages took, so that peak measures the
// reads (proc(5), clear_refs).
func forgetPeak(b *testing.B) {
	debug.FreeOSMemory()
	require.NoError(b, os.WriteFile("/proc/self/clear_refs", []byte("5"), 0o600))
}

// peak is the most memory that this process has held at once since forgetPeak.
func peak(b *testing.B) float64 {
	text, err := os.ReadFile("/proc/self/status")
	require.NoError(b, err)
	for _, line := range strings.Split(string(text), "\n") {
		if fields := strings.Fields(line); len(fields) == 3 && fields[0] == "VmHWM:" {
			kB, _ := strconv.ParseFloat(fields[1], 64)
			return kB / 1024
		}
	}
	return 0
}
