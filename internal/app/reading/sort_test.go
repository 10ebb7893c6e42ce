package reading_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kanban/internal/adapter/registers"
	"kanban/internal/app/reading"
	"kanban/internal/core/finding"
	"kanban/internal/wire/oneroster"
)

func base(id string) oneroster.Base {
	return oneroster.Base{SourcedID: id, Status: oneroster.Active}
}

func ref(id string) oneroster.Ref { return oneroster.Ref{SourcedID: id} }

// Bad records are findings of a code each; every good record goes in.
func TestSortKeepsTheGoodAndNamesTheBad_R1(t *testing.T) {
	day := func(n int) oneroster.Date { return oneroster.NewDate(time.Date(2026, 9, n, 0, 0, 0, 0, time.UTC)) }
	deleted := base("gone")
	deleted.Status = oneroster.ToBeDeleted
	batch, findings := reading.Sort(registers.Records{
		Orgs:     []oneroster.Org{{Base: base("o"), Name: "School"}},
		Sessions: []oneroster.AcademicSession{{Base: base("t"), Title: "Term", StartDate: day(1), EndDate: day(20)}, {Base: base("t2"), Title: "Backwards", StartDate: day(20), EndDate: day(1)}},
		Courses:  []oneroster.Course{{Base: base("c"), Title: "Grafting"}, {Base: base(""), Title: "No id"}},
		Classes: []oneroster.Class{
			{Base: base("s"), Title: "A", Course: ref("c"), Terms: []oneroster.Ref{ref("t")}},
			{Base: base("s2"), Title: "B", Course: ref("nowhere")},
			{Base: deleted, Title: "C", Course: ref("c")},
		},
		Users: []oneroster.User{
			{Base: base("p"), GivenName: "Old", FamilyName: "Name"},
			{Base: base("p"), GivenName: "New", FamilyName: "Name", Email: "Ana@Fernmoor.Example"},
			{Base: base("q"), GivenName: "", FamilyName: "Nameless"},
		},
		Enrollments: []oneroster.Enrollment{
			{Base: base("e1"), User: ref("p"), Class: ref("s"), Role: "student", BeginDate: day(2)},
			{Base: base("e2"), User: ref("p"), Class: ref("s"), Role: "student"},
			{Base: base("e3"), User: ref("stranger"), Class: ref("s"), Role: "student"},
			{Base: base("e4"), User: ref("p"), Class: ref("s2"), Role: "student"},
			{Base: base("e5"), User: ref("p"), Class: ref("s"), Role: "teacher", BeginDate: day(9), EndDate: day(3)},
		},
		Bad: []registers.Bad{{Path: "/users", Position: 4, ID: "x", Cause: "enabledUser is neither true nor false"}},
	}, reading.Known{})
	assert.Len(t, batch.Terms, 1)
	assert.Len(t, batch.Sections, 1)
	assert.Len(t, batch.Enrolments, 1)
	assert.Equal(t, [][]any{{"p", "New", "Name", "Ana@Fernmoor.Example", "ana@fernmoor.example", "", "p", "", false, false}}, batch.People, "the last of two is taken")
	got := map[finding.Code]int{}
	for _, f := range findings {
		got[f.Code]++
		assert.NotEmpty(t, f.Subject)
		assert.NotEmpty(t, f.Detail)
	}
	assert.Equal(t, map[finding.Code]int{
		finding.RowMalformed: 5, finding.RowDuplicate: 1, finding.ReferenceUnknown: 3, finding.EnrolmentDuplicate: 1,
	}, got)
}
