package reports_test

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/reports"
	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/core/report"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func ptr[T any](v T) *T { return &v }

// made makes a report and reads all its rows.
func made(t *testing.T, w *apptest.World, name report.Name, a reports.Ask) (report.Report, [][]report.Row) {
	t.Helper()
	r, err := w.Reports.Make(t.Context(), name, a)
	require.NoError(t, err, name)
	tables := make([][]report.Row, len(r.Parts))
	for i, p := range r.Parts {
		for row, err := range p.Rows {
			require.NoError(t, err)
			require.Len(t, row, len(p.Columns), "%s: %s", name, p.Title)
			tables[i] = append(tables[i], row)
		}
		assert.Len(t, tables[i], p.Total, "%s: %s", name, p.Title)
		if p.Chart != nil {
			for _, s := range p.Chart.Series {
				assert.Len(t, s.Values, len(p.Chart.Labels))
			}
		}
	}
	return r, tables
}

func cell(rows []report.Row, first string, column int) any {
	for _, r := range rows {
		if r[0] == first {
			return r[column]
		}
	}
	return "no such row"
}

// learnersOf gives the identifiers of a section's learners.
func learnersOf(t *testing.T, w *apptest.World, section string) (out []string) {
	t.Helper()
	out, err := db.Values[string](t.Context(), w.Store, "test", `SELECT DISTINCT p.identifier FROM enrolments e
		JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person
		JOIN sections x ON x.interface_id = e.interface_id AND x.sourced_id = e.section
		WHERE x.id = $1 AND e.role = 'student' AND e.gone_at IS NULL ORDER BY 1`, w.Section(section).ID)
	require.NoError(t, err)
	return out
}

// Each number is counted from what is known about each person, by another way, and is the one that other pages show.
func TestCompletionIsThatOfTheFacts(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Reports.Clock = func() time.Time { return *now }
	w.Outlined()
	platform := w.Connect("xapi", "Platform", nil).ID
	begin := *now
	random := rand.New(rand.NewPCG(7, 7))
	for _, section := range []string{"PROP-A", "PROP-B"} {
		for _, who := range learnersOf(t, w, section) {
			if random.IntN(3) > 0 {
				w.Completes(platform, who, "one", begin.AddDate(0, 0, -random.IntN(40)))
				if random.IntN(2) > 0 {
					w.Completes(platform, who, "two", begin.AddDate(0, 0, -random.IntN(5)))
				}
			}
		}
	}
	prop := w.Section("PROP-A").CourseID
	outline, err := learningstore.Outline(t.Context(), w.Store, prop)
	require.NoError(t, err)
	_, tables := made(t, w, report.Completion, reports.Ask{Course: "PROP"})
	_, whole := made(t, w, report.Completion, reports.Ask{})
	all, listed := [4]int{}, 0
	for _, section := range []string{"PROP-A", "PROP-B", "PROP-C"} {
		x := w.Section(section)
		want := [4]int{} // learners, finished, stopped after beginning, not begun
		for _, who := range learnersOf(t, w, section) {
			state, err := learningstore.ProgressOf(t.Context(), w.Store, w.Person(who).ID, x.ID)
			require.NoError(t, err)
			last := learning.LastActivity(state)
			want[0]++
			switch {
			case len(state.Activities) == 0:
				want[3]++
			case learning.CourseDone(outline, state):
				want[1]++
			case last.Before(now.AddDate(0, 0, -14)):
				want[2]++
			}
		}
		for i, n := range want {
			all[i] += n
		}
		listed += x.Learners
		assert.Equal(t, []any{want[0], want[3], want[2], want[1]}, []any{
			cell(tables[1], x.Title, 1), cell(tables[1], x.Title, 2), cell(tables[1], x.Title, 4),
			cell(tables[1], x.Title, 5),
		}, section)
	}
	assert.Equal(t, listed, all[0], "the lists of sections count as many learners")
	assert.Equal(t, all[0], cell(tables[0], "In the course", 1))
	assert.Equal(t, all[1], cell(tables[0], "Finished the course", 1))
	assert.Equal(t, []any{all[0], all[1]}, []any{cell(whole[0], "Propagation", 1), cell(whole[0], "Propagation", 5)})
	require.Positive(t, all[1])
	require.Positive(t, all[2])

	_, stopped := made(t, w, report.Stopped, reports.Ask{Course: "PROP"})
	begun := 0
	for _, row := range stopped[0] {
		if row[3] != nil {
			begun++
		}
	}
	assert.Equal(t, all[2], begun, "as many have stopped by name")
	_, behind := made(t, w, report.Behind, reports.Ask{Course: "PROP", Mark: ptr(0)})
	assert.Len(t, behind[1], all[3], "as many have not begun by name")
}

func TestTermsTeachersAndOrganisationsAreCompared(t *testing.T) {
	w, _ := apptest.Clocked(t)
	w.Outlined()
	for by, first := range map[string]string{
		"term": "First term", "teacher": w.Section("PROP-A").Teachers[0], "organisation": "Fernmoor Garden School",
		"course": "Propagation",
	} {
		_, tables := made(t, w, report.Completion, reports.Ask{Course: "propagation", By: by})
		assert.Equal(t, w.Section("PROP-A").Learners+w.Section("PROP-B").Learners+w.Section("PROP-C").Learners,
			cell(tables[0], "In the course", 1))
		assert.NotEqual(t, "no such row", cell(tables[1], first, 1), by)
	}
	_, tables := made(t, w, report.Completion, reports.Ask{Section: "PROP-A", By: "section"})
	assert.Equal(t, w.Section("PROP-A").Learners, cell(tables[0], "In the course", 1))
}

// Two sections of one title are two, and so are modules of one title.
func TestWhatLooksAlikeStaysApart(t *testing.T) {
	w, _ := apptest.Clocked(t)
	w.Outlined()
	_, err := w.Store.Pool.Exec(t.Context(), `UPDATE section_facts SET title = 'Propagation' WHERE code LIKE 'PROP-%';
		UPDATE section_version SET version = version + 1`)
	require.NoError(t, err)
	_, tables := made(t, w, report.Completion, reports.Ask{Course: "PROP"})
	assert.Len(t, tables[1], 3)
	for _, row := range tables[1] {
		assert.Equal(t, "Propagation", row[0])
	}
	_, err = w.Reports.Make(t.Context(), report.Holdings, reports.Ask{Section: "Propagation"})
	refused, is := refusal.As(err)
	require.True(t, is)
	assert.Contains(t, refused.Detail, "3 sections are called")
}

func TestWhoLeftIsCountedApart(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	platform := w.Connect("xapi", "Platform", nil).ID
	who := learnersOf(t, w, "PROP-A")
	w.Completes(platform, who[0], "one", *now)
	_, before := made(t, w, report.Completion, reports.Ask{Section: "PROP-A"})
	_, err := w.Store.Pool.Exec(t.Context(), `UPDATE enrolments SET gone_at = now() WHERE person =
		(SELECT sourced_id FROM people WHERE id = $1)`, w.Person(who[0]).ID)
	require.NoError(t, err)
	_, after := made(t, w, report.Completion, reports.Ask{Section: "PROP-A"})
	title := w.Section("PROP-A").Title
	assert.Equal(t, len(who), cell(before[1], title, 1))
	assert.Equal(t, []any{len(who) - 1, 1}, []any{cell(after[1], title, 1), cell(after[1], title, 7)})
	assert.Equal(t, 0, cell(after[0], "Began", 1))
}

// Nothing is there yet, or next to nothing: every report is readable, and says so.
func TestReportsOfNothing(t *testing.T) {
	w := apptest.New(t)
	for round := range 2 {
		for _, d := range reports.All {
			a := reports.Ask{}
			if d.Name == report.Holdings {
				if round == 0 {
					continue // there is no section yet
				}
				a.Section = "PROP-A"
			}
			r, _ := made(t, w, d.Name, a)
			assert.NotEmpty(t, r.Summary, d.Name)
			for _, p := range r.Parts {
				assert.NotEmpty(t, p.Empty)
			}
			for _, s := range r.Summary {
				assert.Equal(t, strings.ToUpper(s[:1]), s[:1], "%s: %q begins like a sentence", d.Name, s)
			}
		}
		if round == 0 {
			w.Read(w.Register(), false)
		}
	}
}

func TestWhatCannotBeAskedForIsRefused(t *testing.T) {
	w, _ := apptest.Clocked(t)
	for _, c := range []struct {
		name  report.Name
		ask   reports.Ask
		field string
	}{
		{"nothing", reports.Ask{}, "name"},
		{report.Completion, reports.Ask{Course: "nowhere"}, "course"},
		{report.Completion, reports.Ask{Term: "Second term", Section: "PROP-A"}, "section"},
		{report.Completion, reports.Ask{By: "weather"}, "by"},
		{report.Completion, reports.Ask{Days: -1}, "days"},
		{report.Behind, reports.Ask{Mark: ptr(101)}, "mark"},
		{report.Rules, reports.Ask{Course: "PROP"}, "course"},
		{report.Badges, reports.Ask{From: "yesterday"}, "from"},
		{report.Badges, reports.Ask{From: "2026-10-02", To: "2026-10-01"}, "to"},
		{report.Holdings, reports.Ask{}, "section"},
		{report.Scores, reports.Ask{Term: "Autumn"}, "term"},
	} {
		_, err := w.Reports.Make(t.Context(), c.name, c.ask)
		refused, is := refusal.As(err)
		require.True(t, is, "%s %+v: %v", c.name, c.ask, err)
		assert.Equal(t, c.field, refused.Field, refused.Detail)
	}
}

func TestBadgesByBadgeSectionAndMonth(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	w.Reports.Zone = time.FixedZone("east", 5*3600+45*60)
	who := learnersOf(t, w, "PROP-A")
	i, err := w.Badges.AddIssuer(t.Context(), "Maud", badgestore.Issuer{Name: "Fernmoor Garden School"})
	require.NoError(t, err)
	b, err := w.Badges.AddBadge(t.Context(), "Maud", badgestore.Badge{
		IssuerID: i.ID, Name: "Sower", Description: "Sows", Criteria: "Sow", State: badgestore.Published,
		Asks: []stage.Criterion{{Kind: stage.Course, CourseID: w.Section("PROP-A").CourseID}},
	})
	require.NoError(t, err)
	section := w.Section("PROP-A").ID
	ids := make([]string, 3)
	for n, at := range []string{"2026-09-30T18:14:00Z", "2026-09-30T18:16:00Z", "2026-12-01T00:00:00Z"} {
		day, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		a := badgestore.Award{
			ID: db.NewID(), BadgeID: b.ID, PersonID: w.Person(who[n]).ID, SectionID: &section, Credential: "jws",
			AwardedAt: day,
		}
		ids[n] = a.ID
		require.NoError(t, w.Store.InTx(t.Context(), func(tx *db.Tx) error { return db.Create(tx, &a, "test") }))
	}
	for range 3 {
		require.NoError(t, badgestore.NoteLook(t.Context(), w.Store, ids[0], false, *now))
	}
	_, err = w.Store.Pool.Exec(t.Context(), `UPDATE awards SET revoked_at = now() WHERE id = $1`, ids[1])
	require.NoError(t, err)
	r, tables := made(t, w, report.Badges, reports.Ask{})
	assert.Equal(t, "3 awards, 2 of them valid; 0 shared, 1 revoked.", r.Summary[0])
	assert.Equal(t, report.Row{"Sower", 3, 2, 1, 0, 0, 1, 3, 0}, tables[0][0])
	assert.Equal(t, "Propagation A", tables[1][0][0])
	assert.Equal(t, []any{1, 1, 1}, []any{
		cell(tables[2], "2026-09", 1), cell(tables[2], "2026-10", 1), cell(tables[2], "2026-12", 1),
	}, "a month begins when it does at the school: 18:15 UTC is midnight there")
	assert.Equal(t, []string{"2026-09", "2026-10", "2026-11", "2026-12"}, r.Parts[2].Chart.Labels, "a month without any is there")
	_, tables = made(t, w, report.Badges, reports.Ask{From: "2026-10-01", To: "2026-10-01"})
	assert.Equal(t, 1, cell(tables[0], "Sower", 1))
	_, tables = made(t, w, report.Badges, reports.Ask{Section: "PROP-B"})
	assert.Empty(t, tables[0])

	_, held := made(t, w, report.Holdings, reports.Ask{Section: "PROP-A"})
	names := map[string]string{}
	for _, n := range []int{0, 1, 2} {
		p := w.Person(who[n])
		names[who[n]] = p.GivenName + " " + p.FamilyName
	}
	assert.Equal(t, "since 30 September 2026", cell(held[0], names[who[0]], 2))
	assert.Equal(t, "missing: finish the course Propagation", cell(held[0], names[who[1]], 2), "revoked is not held")
}

// What is below an organisation belongs to it; of two that look alike it is asked which one is meant.
func TestOrganisationsAndTeachersWhoLookAlike(t *testing.T) {
	w, _ := apptest.Clocked(t)
	w.Outlined()
	ctx, prop := t.Context(), w.Section("PROP-A")
	change := func(sql string, args ...any) {
		t.Helper()
		_, err := w.Store.Pool.Exec(ctx, sql, args...)
		require.NoError(t, err)
	}
	learners := func(a reports.Ask) int {
		t.Helper()
		r, err := w.Reports.Make(ctx, report.Behind, a)
		require.NoError(t, err)
		n := 0
		for row, err := range r.Parts[0].Rows {
			require.NoError(t, err)
			n += row[1].(int)
		}
		return n
	}
	all := learners(reports.Ask{})
	change(`INSERT INTO orgs (interface_id, sourced_id, name, type, parent)
		SELECT interface_id, 'north', 'North', 'school', (SELECT min(sourced_id) FROM orgs) FROM sections WHERE id = $1`, prop.ID)
	change(`UPDATE sections SET org = 'north' WHERE id = $1`, prop.ID)
	assert.Equal(t, prop.Learners, learners(reports.Ask{Organisation: "north"}))
	assert.Equal(t, all, learners(reports.Ask{Organisation: "Fernmoor Garden School"}), "with all below it")
	change(`INSERT INTO orgs (interface_id, sourced_id, name, type, parent)
		SELECT interface_id, 'other', 'North', 'school', 'north' FROM sections WHERE id = $1`, prop.ID)
	_, err := w.Reports.Make(ctx, report.Behind, reports.Ask{Organisation: "North"})
	refused, is := refusal.As(err)
	require.True(t, is)
	assert.Contains(t, refused.Detail, "2 organisations are called")
	var id string
	require.NoError(t, w.Store.Pool.QueryRow(ctx, `SELECT id::text FROM orgs WHERE sourced_id = 'north'`).Scan(&id))
	assert.Equal(t, prop.Learners, learners(reports.Ask{Organisation: id}))

	name, other := prop.Teachers[0], w.Section("PROP-C").TeacherIDs[0]
	people, err := rosterstore.PeopleByID(ctx, w.Store, prop.TeacherIDs)
	require.NoError(t, err)
	called := people[slices.IndexFunc(people, func(p rosterstore.Person) bool { return p.Name() == name })].ID
	alone := learners(reports.Ask{Teacher: name})
	assert.Equal(t, alone, learners(reports.Ask{Teacher: called}))
	given, family, _ := strings.Cut(name, " ")
	change(`UPDATE people SET given_name = $1, family_name = $2 WHERE id = $3`, given, family, other)
	change(`UPDATE section_facts SET teachers = ARRAY[$1] WHERE section_id = $2`, name, w.Section("PROP-C").ID)
	change(`UPDATE section_version SET version = version + 1`)
	_, err = w.Reports.Make(ctx, report.Behind, reports.Ask{Teacher: name})
	refused, is = refusal.As(err)
	require.True(t, is)
	assert.Contains(t, refused.Detail, "2 people teach under the name")
	assert.Equal(t, alone, learners(reports.Ask{Teacher: called}))
}

// What no workbook can hold is said before a file is begun.
func TestWorkbooksEnd(t *testing.T) {
	many := report.Report{Parts: []report.Part{{Title: "People", Total: 1 << 20, Rows: report.Listed(nil)}}}
	var out bytes.Buffer
	refused, is := refusal.As((&reports.Service{}).Write(&out, many, 0, "xlsx"))
	require.True(t, is)
	assert.Contains(t, refused.Detail, "take csv")
	assert.Zero(t, out.Len())
}
