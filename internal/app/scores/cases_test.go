package scores_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/adapter"
	"kanban/internal/app/connections"
	"kanban/internal/app/findings"
	"kanban/internal/app/scores"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/standin/fault"
	"kanban/internal/standin/gradebook"
	"kanban/internal/standin/platform"
	"kanban/internal/standin/register"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// carried is a school with one score carried, to stu-002 in section A.
func carried(t *testing.T) (*school, scorestore.Link, runstore.Run) {
	t.Helper()
	x := open(t)
	l := x.link()
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 15, nil)
	x.mark("cuttings-report", "stu-003", oneroster.ScoreFullyGraded, 11, nil)
	r := x.run(x.preview(l), false)
	require.Equal(t, 2, r.Counts["scored"], "%s %v", r.Error, r.Counts)
	return x, l, r
}

// setInBook changes a score in the book, as a teacher there does; nil makes it blank.
func (x *school) setInBook(title, student string, score *float64) {
	x.t.Helper()
	r, there := x.inBook(title, student)
	require.True(x.t, there)
	if score == nil {
		x.Standins.Register.Book.Erase(oneroster.FileResults, r.SourcedID)
		return
	}
	r.Score = number(*score)
	x.Standins.Register.Book.Enter(oneroster.FileResults, r.SourcedID, r)
}

func (x *school) score(title, student string) float64 {
	x.t.Helper()
	r, there := x.inBook(title, student)
	if !there || r.Score == nil {
		return -1
	}
	return float64(*r.Score)
}

// What somebody changed in the book stays, until somebody decides otherwise; a decision holds until either side
// changes.
func TestWhatChangedInTheBookStays(t *testing.T) {
	x, l, _ := carried(t)
	fourteen := 14.0
	x.setInBook(report, "stu-002", &fourteen)
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 16, nil)
	x.mark("cuttings-report", "stu-003", oneroster.ScoreFullyGraded, 12, nil)
	p := x.preview(l)
	e := x.entry(p, report, "stu-002")
	assert.Equal(t, grade.Conflict, e.Outcome)
	assert.Equal(t, finding.ScoreChangedInBook, e.Reason)
	assert.Equal(t, []string{"15", "14", "16"}, []string{e.Was.String(), e.Theirs.String(), e.Ours.String()})
	r := x.run(p, false)
	assert.Equal(t, runstore.NeedsPerson, r.State)
	assert.Equal(t, 1, r.Counts["updated"])
	assert.InDelta(t, 14, x.score(report, "stu-002"), 0.001)
	assert.InDelta(t, 12, x.score(report, "stu-003"), 0.001)

	n, err := x.Scores.Decide(t.Context(), "Maud", l.ID, grade.Theirs, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Equal(t, grade.Kept, x.entry(x.preview(l), report, "stu-002").Outcome)
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 18, nil)
	assert.Equal(t, grade.Conflict, x.entry(x.preview(l), report, "stu-002").Outcome, "it changed again")
	_, err = x.Scores.Decide(t.Context(), "Maud", l.ID, grade.Ours, nil, []string{x.Person("stu-002").ID})
	require.NoError(t, err)
	p = x.preview(l)
	assert.Equal(t, grade.Replacing, x.entry(p, report, "stu-002").Outcome)
	_, err = x.Scores.Start(t.Context(), "test", p.ID, false)
	require.ErrorContains(t, err, "replace 1 values")
	assert.Equal(t, 1, x.run(p, true).Counts["replaced"])
	assert.InDelta(t, 18, x.score(report, "stu-002"), 0.001)
	_, err = x.Scores.Decide(t.Context(), "Maud", l.ID, grade.Ours, nil, nil)
	require.Error(t, err, "nothing differs")
}

// What was blanked in the book is asked about, not filled again.
func TestWhatWasEmptiedInTheBookStaysEmpty(t *testing.T) {
	x, l, _ := carried(t)
	x.setInBook(report, "stu-002", nil)
	e := x.entry(x.preview(l), report, "stu-002")
	assert.Equal(t, grade.Conflict, e.Outcome)
	assert.Equal(t, finding.ScoreEmptiedInBook, e.Reason)
}

// A run that finds the book changed since its preview does nothing, and says what moved.
func TestRunDoesNothingWhenThingsMoved(t *testing.T) {
	x, l, _ := carried(t)
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 16, nil)
	p := x.preview(l)
	nine := 9.0
	x.setInBook(report, "stu-002", &nine)
	r := x.run(p, false)
	assert.Equal(t, runstore.Moved, r.State)
	require.NotNil(t, r.NextPreview)
	require.Len(t, r.Findings, 1)
	assert.Contains(t, r.Findings[0].Subject, report)
	assert.InDelta(t, 9, x.score(report, "stu-002"), 0.001)
}

// A run is undone: what it filled is blank again, what it changed is as before, what somebody changed since stays.
func TestRunIsReverted(t *testing.T) {
	x, l, _ := carried(t)
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 16, nil)
	x.mark("cuttings-report", "stu-004", oneroster.ScoreFullyGraded, 7, nil)
	x.mark("cuttings-report", "stu-005", oneroster.ScoreFullyGraded, 8, nil)
	r := x.run(x.preview(l), false)
	require.Equal(t, runstore.Finished, r.State)
	three := 3.0
	x.setInBook(report, "stu-005", &three)
	p, err := x.Scores.Revert(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, grade.Conflict, x.entry(p, report, "stu-005").Outcome)
	back := x.run(p, false)
	assert.Equal(t, 2, back.Counts["reverted"], "%s %v", back.Error, back.Counts)
	assert.InDelta(t, 15, x.score(report, "stu-002"), 0.001)
	assert.InDelta(t, -1, x.score(report, "stu-004"), 0.001)
	assert.InDelta(t, 3, x.score(report, "stu-005"), 0.001)
	p = x.preview(l)
	assert.Equal(t, grade.Update, x.entry(p, report, "stu-002").Outcome, "the next run would do it again")
	assert.Equal(t, grade.New, x.entry(p, report, "stu-004").Outcome)
	_, err = x.Scores.Revert(t.Context(), back.ID)
	require.Error(t, err)
}

// Where deleting is not granted, that is said before anything is done.
func TestRevertingToBlankNeedsDeleting(t *testing.T) {
	x, _, r := carried(t)
	x.Standins.Register.Book.Set(func(rules *gradebook.Rules) { rules.NoDelete = true })
	p, err := x.Scores.Revert(t.Context(), r.ID)
	require.NoError(t, err)
	back := x.run(p, false)
	assert.Equal(t, 2, back.Counts["refused"], "%s %v", back.Error, back.Counts)
	assert.InDelta(t, 15, x.score(report, "stu-002"), 0.001)
}

// Books that round, cut, forget, or answer with ids of their own are found out by reading back.
func TestReadingBackFindsOutBooks(t *testing.T) {
	t.Run("forgets", func(t *testing.T) {
		x := open(t)
		l := x.link()
		x.Standins.Register.Book.Set(func(r *gradebook.Rules) { r.Forget = true })
		x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 15, nil)
		r := x.run(x.preview(l), false)
		assert.Equal(t, 1, r.Counts["not-arrived"], "%s %v", r.Error, r.Counts)
		assert.Equal(t, runstore.NeedsPerson, r.State)
		x.Standins.Register.Book.Set(func(r *gradebook.Rules) { r.Forget = false })
		p := x.preview(l)
		assert.Equal(t, grade.New, x.entry(p, report, "stu-002").Outcome, "it is sent again")
		assert.Equal(t, 1, x.run(p, false).Counts["scored"])
	})
	t.Run("rounds", func(t *testing.T) {
		x := open(t)
		l := x.link()
		x.Standins.Register.Book.Set(func(r *gradebook.Rules) { r.Decimals = 0 })
		x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 15.4, nil)
		r := x.run(x.preview(l), false)
		assert.Equal(t, 1, r.Counts["not-arrived"], "%s %v", r.Error, r.Counts)
		changes, err := x.Scores.Changes(t.Context(), r.ID)
		require.NoError(t, err)
		last := changes[len(changes)-1]
		assert.Equal(t, string(finding.ScoreKeptOtherwise), last.Code)
		assert.Equal(t, "15.4 was sent, and the book has 15", last.Answer)
	})
	t.Run("other ids", func(t *testing.T) {
		x := open(t)
		l := x.link()
		x.Standins.Register.Book.Set(func(r *gradebook.Rules) { r.OtherIDs = true })
		x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 15, nil)
		p := x.wishWithoutMaking(l)
		r := x.run(p, false)
		assert.Equal(t, runstore.Finished, r.State, "%s %v", r.Error, r.Counts)
		assert.InDelta(t, 15, x.score(report, "stu-002"), 0.001)
		assert.Zero(t, x.preview(l).Plan.Counts().Changes())
		x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 16, nil)
		assert.Equal(t, 1, x.run(x.preview(l), false).Counts["updated"])
		assert.InDelta(t, 16, x.score(report, "stu-002"), 0.001)
	})
}

// wishWithoutMaking lets no category be made, and previews.
func (x *school) wishWithoutMaking(l scorestore.Link) scorestore.Preview {
	x.t.Helper()
	policy := l.Policy
	policy.Makes = false
	_, err := x.Scores.Change(x.t.Context(), "test", l.ID, 0, scores.Edit{Policy: &policy})
	require.NoError(x.t, err)
	return x.preview(l)
}

// A killed run goes on where it was, also when the book was edited meanwhile, and writes nothing twice.
func TestCutOffRunGoesOn(t *testing.T) {
	x := open(t)
	l := x.link()
	for i := range 8 {
		x.mark("cuttings-report", fmt.Sprintf("stu-%03d", i+2), oneroster.ScoreFullyGraded, float64(i+1), nil)
	}
	p := x.preview(l)
	r, err := x.Scores.Start(t.Context(), "test", p.ID, false)
	require.NoError(t, err)
	// The book loses the connection after it has carried out what it was asked for.
	require.NoError(t, x.Standins.Fault("register", fault.Fault{
		Kind: fault.Cut, Method: "PUT", Path: "/results/", Count: 3,
	}))
	for range 4 {
		if x.Scores.Work(t.Context(), r.ID, false) == nil {
			break
		}
	}
	x.Standins.ClearFaults()
	require.NoError(t, x.Scores.Work(t.Context(), r.ID, true))
	ended, err := runstore.FindRun(t.Context(), x.Store, r.ID)
	require.NoError(t, err)
	assert.Equal(t, runstore.Finished, ended.State, "%s %v", ended.Error, ended.Counts)
	assert.Equal(t, 8, ended.Counts["scored"])
	for i := range 8 {
		assert.InDelta(t, float64(i+1), x.score(report, fmt.Sprintf("stu-%03d", i+2)), 0.001)
	}
	assert.Zero(t, x.preview(l).Plan.Counts().Changes())
}

// A mover's scores stay where they were carried and can be let go on in the new section.
func TestMoversScoresStayUntilSomebodyLetsThemGoOn(t *testing.T) {
	x, l, _ := carried(t)
	require.NoError(t, x.Standins.School.Withdraw("stu-002", "sec-prop-a"))
	require.NoError(t, x.Standins.School.Enrol("stu-002", "sec-prop-b"))
	all, err := x.Connections.Interfaces(t.Context())
	require.NoError(t, err)
	for _, c := range all {
		if c.Kind == "oneroster" {
			x.Read(c, true)
		}
	}
	p := x.preview(l)
	e := x.entry(p, report, "stu-002")
	assert.Equal(t, finding.ScoreMoved, e.Reason)
	assert.Equal(t, "Propagation B", e.Elsewhere)
	of, err := x.Scores.OfPerson(t.Context(), x.Person("stu-002").ID)
	require.NoError(t, err)
	require.Len(t, of, 1, "of the section that they left")
	assert.Equal(t, []any{report, "Propagation A", finding.ScoreMoved, "Propagation B"},
		[]any{of[0].Assignment, of[0].Section, of[0].Reason, of[0].Elsewhere})
	assert.Contains(t, of[0].Page, "/marking?item=cuttings-report")
	assert.Zero(t, p.Plan.Counts().Changes())
	require.NoError(t, x.Scores.Give(t.Context(), "Maud", l.ID, "", "cuttings-report", x.Person("stu-002").ID,
		e.ElsewhereID))
	p = x.preview(l)
	assert.Equal(t, 1, p.Plan.Counts()[grade.New])
	r := x.run(p, false)
	assert.Equal(t, 1, r.Counts["scored"], "%s %v", r.Error, r.Counts)
	n := 0
	for _, r := range gradebook.All[oneroster.Result](x.Standins.Register.Book, oneroster.FileResults) {
		if r.Student.SourcedID == "stu-002" {
			n++
		}
	}
	assert.Equal(t, 2, n, "one in each section's book")
}

// A result of somebody unknown is carried once somebody has said whose it is.
func TestResultsOfSomebodyUnknownAreGiven(t *testing.T) {
	x := open(t)
	l := x.link()
	x.mark("cuttings-report", "x-17", oneroster.ScoreFullyGraded, 9, nil)
	p := x.preview(l)
	assert.Equal(t, 1, p.Plan.Counts()[grade.Waiting])
	ctx := t.Context()
	someone := x.Person("stu-003").ID
	require.Error(t, x.Scores.Give(ctx, "Maud", l.ID, "x-17", "", x.Person("stu-050").ID, ""), "they learn elsewhere")
	require.ErrorContains(t, x.Scores.Give(ctx, "Maud", l.ID, "x-71", "", someone, ""), "has no result of")
	require.NoError(t, x.Scores.Give(ctx, "Maud", l.ID, "x-17", "", someone, ""))
	given, err := x.Scores.Given(ctx, l.ID)
	require.NoError(t, err)
	require.Len(t, given, 1)
	assert.Equal(t, []string{"x-17", someone, "Maud"}, []string{given[0].Student, given[0].PersonID, given[0].GivenBy})
	listed, err := x.Scores.Find(ctx, l.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, listed.Counts["new"], "the list says so at once: %v", listed.Counts)
	p = x.preview(l)
	assert.Equal(t, grade.New, x.entry(p, report, "stu-003").Outcome)
	require.NoError(t, x.Scores.Ungive(ctx, "Maud", l.ID, "x-17", ""))
	require.ErrorIs(t, x.Scores.Ungive(ctx, "Maud", l.ID, "x-17", ""), db.ErrNotFound)
	assert.Zero(t, x.preview(l).Plan.Counts().Changes())
}

// An assignment of the book is linked instead of made twice; unlinked and linked again, what differs is shown.
func TestAssignmentsAreLinkedToThoseOfTheBook(t *testing.T) {
	x := open(t)
	l := x.link()
	x.Standins.Register.Book.Enter(oneroster.FileLineItems, "theirs", oneroster.LineItem{
		Title: "report on  Cuttings", Class: oneroster.Ref{SourcedID: "sec-prop-a"}, ResultValueMax: number(100),
		Category: &oneroster.Ref{SourcedID: "cat-work"},
	})
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 15, nil)
	x.preview(l)
	row := func() scores.Assignment {
		rows, err := x.Scores.Assignments(t.Context(), l.ID)
		require.NoError(t, err)
		for _, a := range rows {
			if a.Title == report && a.Section == "Propagation A" {
				return a
			}
		}
		t.Fatal("no row")
		return scores.Assignment{}
	}
	a := row()
	assert.Equal(t, []finding.Code{finding.ItemNameTaken}, a.Reasons)
	list, err := x.Scores.Counterparts(t.Context(), l.ID, a.ID)
	require.NoError(t, err)
	require.Len(t, list, 1, "term grades are not among them")
	assert.Equal(t, "theirs", list[0].Item.ID)
	require.Error(t, x.Scores.LinkItem(t.Context(), "Maud", l.ID, a.ID, "sec-prop-a-term"), "a term grade")
	require.Error(t, x.Scores.LinkItem(t.Context(), "Maud", l.ID, a.ID, "nowhere"))
	require.NoError(t, x.Scores.LinkItem(t.Context(), "Maud", l.ID, a.ID, "theirs"))
	p := x.preview(l)
	assert.InDelta(t, 75, x.entry(p, report, "stu-002").Ours.Points, 0.001, "scaled to the book's maximum")
	r := x.run(p, false)
	assert.Equal(t, 1, r.Counts["scored"], "%s %v", r.Error, r.Counts)

	require.NoError(t, x.Scores.LinkItem(t.Context(), "Maud", l.ID, a.ID, ""))
	assert.Equal(t, []finding.Code{finding.ItemNameTaken}, row().Reasons)
	results := gradebook.All[oneroster.Result](x.Standins.Register.Book, oneroster.FileResults)
	require.Len(t, results, 1)
	results[0].Score = number(50)
	x.Standins.Register.Book.Enter(oneroster.FileResults, results[0].SourcedID, results[0])
	require.NoError(t, x.Scores.LinkItem(t.Context(), "Maud", l.ID, a.ID, "theirs"))
	assert.Equal(t, finding.ScoreOthersInBook, x.entry(x.preview(l), report, "stu-002").Reason)
}

// Two links that write the same, and circles, are refused; so are few people in common.
func TestLinksThatCollideAreRefused(t *testing.T) {
	x := open(t)
	l := x.link()
	_, err := x.Scores.Make(t.Context(), "test", x.wish())
	r, is := refusal.As(err)
	require.True(t, is, "%v", err)
	assert.Equal(t, finding.ScoreLinkTwice, r.Code)
	back := scores.NewLink{
		SectionID: x.Section("ORCH-A").ID, SourceInterfaceID: x.book.ID, SourceClass: "sec-prop-a",
		BookInterfaceID: x.source.ID,
		BookClasses:     map[string]string{x.Section("ORCH-A").ID: "propagation"},
	}
	_, err = x.Scores.Make(t.Context(), "test", back)
	r, is = refusal.As(err)
	require.True(t, is, "%v", err)
	assert.Equal(t, finding.ScoreCircle, r.Code)
	ended, err := x.Scores.End(t.Context(), "Maud", l.ID)
	require.NoError(t, err)
	require.NotNil(t, ended.EndedAt)
	_, err = x.Scores.Make(t.Context(), "test", x.wish())
	require.NoError(t, err, "the place is free")
}

// A read that fails takes nothing away, and what cannot be understood is counted and holds only itself.
func TestReadsThatFailTakeNothingAway(t *testing.T) {
	x, l, _ := carried(t)
	for _, f := range []fault.Fault{
		{Kind: fault.Status, Status: 500, Path: "/results"},
		{Kind: fault.Truncate, Path: "/results"},
		{Kind: fault.Status, Status: 403, Path: "/lineItems"},
	} {
		require.NoError(t, x.Standins.Fault("platform", f))
		_, err := x.Scores.Preview(t.Context(), l.ID, 0)
		require.Error(t, err, "%+v", f)
		x.Standins.ClearFaults()
		found, err := scorestore.FindLink(t.Context(), x.Store, l.ID)
		require.NoError(t, err)
		assert.NotEmpty(t, found.Trouble)
		assert.Equal(t, grade.Unchanged, x.entry(x.preview(l), report, "stu-002").Outcome)
	}
	x.Standins.Platform.Marks.Erase(oneroster.FileResults, "cuttings-report-stu-002")
	e := x.entry(x.preview(l), report, "stu-002")
	assert.Equal(t, finding.ScoreVanished, e.Reason)
	assert.InDelta(t, 15, x.score(report, "stu-002"), 0.001)
	x.mark("cuttings-report", "stu-003", oneroster.ScoreFullyGraded, 1,
		func(r *oneroster.Result) { r.Status = oneroster.ToBeDeleted })
	assert.Equal(t, grade.Withdrawn, x.entry(x.preview(l), report, "stu-003").Outcome)
	assert.InDelta(t, 11, x.score(report, "stu-003"), 0.001)
}

// Where the source gives a result to all who have an assignment, the others were not given it: that is neither
// missing nor a blank.
func TestAssignmentsGivenToSomeOnly(t *testing.T) {
	x := open(t)
	_, err := x.Connections.Update(t.Context(), "test", x.source.ID, 0, connections.Change{
		Values: map[string]string{"resultsForGiven": "yes"},
	})
	require.NoError(t, err)
	l := x.link()
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 15, nil)
	x.mark("cuttings-report", "stu-003", oneroster.ScoreNotSubmitted, 0, func(r *oneroster.Result) { r.Score = nil })
	p := x.preview(l)
	assert.Equal(t, grade.New, x.entry(p, report, "stu-002").Outcome)
	e := x.entry(p, report, "stu-004")
	assert.Equal(t, finding.ScoreNotGiven, e.Reason)
	assert.Equal(t, grade.Waiting, e.Outcome)
	list, err := x.Scores.Unfinished(t.Context(), l.ID)
	require.NoError(t, err)
	for _, u := range list {
		assert.NotEqual(t, x.Person("stu-004").ID, u.PersonID, "nothing is asked of whom it was not given to")
	}
	r := x.run(p, false)
	assert.Equal(t, 2, r.Counts["scored"], "a score, and that one handed in nothing: %v", r.Counts)
	assert.Zero(t, x.preview(l).Plan.Counts().Changes())
	_, there := x.inBook(report, "stu-004")
	assert.False(t, there)
}

// Gradebooks of the older version are read and written as well: they know no score scales, and no flags beside the
// status.
func TestScoresGoBetweenGradebooksOfTheOlderVersion(t *testing.T) {
	x := open(t)
	a := x.Standins.Addresses
	x.source = x.Connect(adapter.KindGradebook, "Older marks", map[string]string{
		"address": a.Platform, "tokenAddress": a.Platform + "/oauth/token", "clientId": platform.MarksID,
		"clientSecret": platform.MarksSecret, "late": "0", "version": "1.1",
	})
	x.book = x.Connect(adapter.KindGradebook, "Older book", map[string]string{
		"address": a.Register, "tokenAddress": a.Register + "/oauth/token", "clientId": register.ClientID,
		"clientSecret": register.ClientSecret, "late": "0", "needsDue": "yes", "needsPeriod": "yes",
		"needsPoints": "yes", "needsCategory": "yes", "decimals": "1", "termCategories": register.TermGrades,
		"version": "1.1",
	})
	l := x.link()
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 15, nil)
	x.mark("cuttings-report", "stu-003", oneroster.ScoreSubmitted, 11, nil)
	r := x.run(x.preview(l), false)
	require.Equal(t, runstore.Finished, r.State, r.Error)
	assert.InDelta(t, 15, x.score(report, "stu-002"), 0.001)
	p := x.preview(l)
	assert.Zero(t, p.Plan.Counts().Changes())
	assert.Equal(t, finding.ScoreDraft, x.entry(p, report, "stu-003").Reason)
	m, err := x.Scores.Mismatches(t.Context(), l.ID)
	require.NoError(t, err)
	assert.Empty(t, m.List, "weights are not told in the older version")
	back, err := x.Scores.Revert(t.Context(), r.ID)
	require.NoError(t, err)
	x.run(back, true)
	_, there := x.inBook(report, "stu-002")
	assert.False(t, there)
}

// What was deleted at the source is deleted in the book only when somebody decides so, for each score, and comes back
// when that is reverted.
func TestDeletedScoresAreDecidedAbout(t *testing.T) {
	x := open(t)
	l := x.link()
	x.mark("cuttings-report", "stu-003", oneroster.ScoreFullyGraded, 11, nil)
	x.run(x.preview(l), false)
	require.InDelta(t, 11, x.score(report, "stu-003"), 0.001)
	x.mark("cuttings-report", "stu-003", oneroster.ScoreFullyGraded, 1,
		func(r *oneroster.Result) { r.Status = oneroster.ToBeDeleted })
	p := x.preview(l)
	e := x.entry(p, report, "stu-003")
	require.Equal(t, grade.Withdrawn, e.Outcome)
	item := x.item(p, report, e.Who)
	_, err := x.Scores.Decide(t.Context(), "Maud", l.ID, grade.Ours, nil, nil)
	require.Error(t, err, "not for all together")
	n, err := x.Scores.Decide(t.Context(), "Maud", l.ID, grade.Theirs, []string{item}, []string{e.Who})
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Equal(t, grade.Kept, x.entry(x.preview(l), report, "stu-003").Outcome)
	_, err = x.Scores.Decide(t.Context(), "Maud", l.ID, grade.Ours, []string{item}, []string{e.Who})
	require.NoError(t, err)
	p = x.preview(l)
	assert.Equal(t, grade.Replacing, x.entry(p, report, "stu-003").Outcome)
	assert.Len(t, p.Plan.Losses(), 1)
	_, err = x.Scores.Start(t.Context(), "Maud", p.ID, false)
	require.Error(t, err, "a value of the book is lost, which nobody approved")
	r := x.run(p, true)
	require.Equal(t, runstore.Finished, r.State, r.Error)
	_, there := x.inBook(report, "stu-003")
	assert.False(t, there)
	after := x.entry(x.preview(l), report, "stu-003")
	assert.Equal(t, grade.Unchanged, after.Outcome)
	assert.Equal(t, finding.ScoreDeleted, after.Reason)
	back, err := x.Scores.Revert(t.Context(), r.ID)
	require.NoError(t, err)
	x.run(back, true)
	assert.InDelta(t, 11, x.score(report, "stu-003"), 0.001)
	assert.Equal(t, grade.Withdrawn, x.entry(x.preview(l), report, "stu-003").Outcome)
}

// Whatever the source says, the book's own values are never lost under the usual policy, a preview has every result
// once, and after a run there is nothing left to carry.
func TestRandomMarksAreCarriedOnce(t *testing.T) {
	x := open(t)
	l := x.link()
	statuses := []string{
		oneroster.ScoreFullyGraded, oneroster.ScorePartiallyGraded, oneroster.ScoreExempt, oneroster.ScoreNotSubmitted,
		oneroster.ScoreSubmitted, "FULLY GRADED", "strange",
	}
	rapid.Check(t, func(r *rapid.T) {
		for range rapid.IntRange(1, 6).Draw(r, "marks") {
			item := rapid.SampledFrom([]string{"cuttings-report", "cuttings-test", "tool-care"}).Draw(r, "item")
			student := fmt.Sprintf("stu-%03d", rapid.IntRange(1, 70).Draw(r, "student"))
			x.mark(item, student, rapid.SampledFrom(statuses).Draw(r, "status"),
				float64(rapid.IntRange(-20, 300).Draw(r, "points"))/10, func(o *oneroster.Result) {
					o.Comment = rapid.StringN(0, 20, -1).Draw(r, "comment")
					o.Late = oneroster.Bool(rapid.Bool().Draw(r, "late"))
					if rapid.IntRange(0, 5).Draw(r, "words") == 0 {
						o.Score, o.TextScore = nil, "passed"
					}
				})
		}
		if rapid.Bool().Draw(r, "edit") {
			for _, b := range gradebook.All[oneroster.Result](x.Standins.Register.Book, oneroster.FileResults) {
				b.Score = number(19.5)
				x.Standins.Register.Book.Enter(oneroster.FileResults, b.SourcedID, b)
				break
			}
		}
		p := x.preview(l)
		for _, item := range p.Plan.Items {
			for _, e := range item.Entries {
				if e.Outcome == grade.Replacing && e.Reason != finding.ScoreDecided {
					r.Fatalf("a value of the book's own would be lost: %+v", e)
				}
			}
		}
		if p.Plan.Counts().Changes() == 0 {
			return
		}
		ended := x.run(p, true)
		if ended.State != runstore.Finished && ended.State != runstore.NeedsPerson || ended.Counts["refused"]+
			ended.Counts["not-arrived"] > 0 {
			r.Fatalf("%s %s %v", ended.State, ended.Error, ended.Counts)
		}
		if n := x.preview(l).Plan.Counts().Changes(); n > 0 {
			r.Fatalf("%d left to carry", n)
		}
	})
}

// A gradebook that a score link needs is not removed by mistake; once it is, nothing is carried until it is restored.
func TestRemovedGradebooks(t *testing.T) {
	x, l, _ := carried(t)
	err := x.Connections.Remove(t.Context(), "test", x.source.ID, "")
	require.ErrorContains(t, err, "the score link propagation")
	require.NoError(t, x.Connections.Remove(t.Context(), "test", x.source.ID, "Platform scores"))
	_, err = x.Scores.Preview(t.Context(), l.ID, 0)
	r, is := refusal.As(err)
	require.True(t, is, "%v", err)
	assert.Contains(t, r.Detail, "was removed")
	all, err := x.Scores.List(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, []string{"Platform scores (removed)", "unknown"}, []string{all[0].Source, all[0].State()})
	_, err = x.Connections.Restore(t.Context(), "test", x.source.ID, "")
	require.NoError(t, err)
	assert.Equal(t, grade.Unchanged, x.entry(x.preview(l), report, "stu-002").Outcome)
}

// By its schedule a score link carries what is final; the book's own values wait for a person.
func TestScoreLinksRunByThemselves(t *testing.T) {
	x, l, _ := carried(t)
	policy := l.Policy
	policy.Mode, policy.Schedule.Kind, policy.Schedule.Minutes = grade.Replace, "every", 15
	l, err := x.Scores.Change(t.Context(), "test", l.ID, 0, scores.Edit{Policy: &policy})
	require.NoError(t, err)
	require.NotNil(t, l.NextAt)
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 16, nil)
	x.mark("cuttings-report", "stu-003", oneroster.ScoreFullyGraded, 12, nil)
	two := 2.0
	x.setInBook(report, "stu-003", &two)
	later := func() time.Time { return l.NextAt.Add(10 * time.Minute) } // no read answers that was made before
	x.Scores.Clock = later
	require.NoError(t, x.Scores.Tick(t.Context(), later()))
	var jobs int
	require.NoError(t, db.Into(t.Context(), x.Store, &jobs, `SELECT count(*) FROM river_job WHERE kind = 'look-for-scores'`))
	assert.Equal(t, 1, jobs)
	require.NoError(t, x.Scores.Look(t.Context(), []string{l.ID}))
	runs, err := runstore.Runs(t.Context(), x.Store, runstore.Wanted{ScoreLinkID: l.ID, Active: true, Limit: 5})
	require.NoError(t, err)
	require.Len(t, runs, 1)
	require.NoError(t, x.Scores.Work(t.Context(), runs[0].ID, true))
	assert.InDelta(t, 16, x.score(report, "stu-002"), 0.001)
	assert.InDelta(t, 2, x.score(report, "stu-003"), 0.001)
	found, err := scorestore.FindLink(t.Context(), x.Store, l.ID)
	require.NoError(t, err)
	assert.True(t, found.NextAt.After(later()))
	paused := true
	_, err = x.Scores.Change(t.Context(), "test", l.ID, 0, scores.Edit{Paused: &paused})
	require.NoError(t, err)
	require.NoError(t, x.Scores.Look(t.Context(), []string{l.ID}), "a paused one is passed over")
}

// What was made in the gradebook with values that cannot be understood holds only itself.
func TestDamagedRecordsHoldOnlyThemselves(t *testing.T) {
	x, l, _ := carried(t)
	x.mark("cuttings-report", "stu-004", oneroster.ScoreFullyGraded, 5, func(r *oneroster.Result) {
		r.Comment = strings.Repeat("x", 70<<10)
	})
	x.mark("cuttings-report", "stu-005", oneroster.ScoreFullyGraded, 6,
		func(r *oneroster.Result) { r.Comment = "a\x00b" })
	x.mark("cuttings-report", "stu-006", oneroster.ScoreFullyGraded, 7, nil)
	p := x.preview(l)
	assert.Equal(t, grade.New, x.entry(p, report, "stu-006").Outcome)
	assert.Equal(t, grade.Unchanged, x.entry(p, report, "stu-002").Outcome)
	read, err := scorestore.FindRead(t.Context(), x.Store, x.source.ID)
	require.NoError(t, err)
	assert.Equal(t, 2, read.UnreadCount)
	assert.Len(t, read.Unread, 2)
}

// A score that is final, carried or disputed is an event of its own, each once, to which rules can react.
func TestEventsAboutScores(t *testing.T) {
	x, l, _ := carried(t)
	twenty := 20.0
	x.setInBook(report, "stu-002", &twenty)
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 16, nil)
	x.preview(l)
	x.preview(l)
	counts, err := db.Map[string, int](t.Context(), x.Store, "counting", `SELECT type AS key, count(*)::int AS value
		FROM events WHERE type LIKE 'score.%' GROUP BY 1`)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{"score.final": 3, "score.carried": 2, "score.conflict": 1}, counts)
	type row struct {
		PersonID string
		Data     map[string]any
	}
	one, err := db.Row[row](t.Context(), x.Store, "finding", `SELECT person_id::text, data FROM events
		WHERE type = 'score.conflict'`)
	require.NoError(t, err)
	assert.Equal(t, x.Person("stu-002").ID, one.PersonID)
	assert.Equal(t, []any{report, "16", "20"}, []any{one.Data["assignment"], one.Data["score"], one.Data["inBook"]})
}

// What keeps scores from being carried is among the findings, with where to look at it.
func TestFindingsAboutScores(t *testing.T) {
	x, l, _ := carried(t)
	twenty := 20.0
	x.setInBook(report, "stu-002", &twenty)
	x.mark("cuttings-report", "stu-004", oneroster.ScorePartiallyGraded, 5, func(r *oneroster.Result) {
		r.ScoreDate = oneroster.Moment{Time: time.Now().AddDate(0, 0, -20)}
	})
	x.preview(l)
	found := func() map[finding.Code]findings.Finding {
		all, err := x.Findings.Findings(t.Context(), findings.Filter{Text: "scores for"})
		require.NoError(t, err)
		by := map[finding.Code]findings.Finding{}
		for _, f := range all {
			by[f.Code] = f
		}
		return by
	}
	by := found()
	assert.Equal(t, []any{findings.Mend, "Propagation", "1 score in 1 assignment"},
		[]any{
			by[finding.ScoreChangedInBook].Group, by[finding.ScoreChangedInBook].Subject,
			by[finding.ScoreChangedInBook].Detail,
		})
	assert.Equal(t, "/scores/"+l.ID+"?tab=scores&outcome=conflict", by[finding.ScoreChangedInBook].Link)
	assert.Equal(t, findings.Waiting, by[finding.ScorePartly].Group)
	assert.Equal(t, findings.Mend, by[finding.ScoreDraftOld].Group)
	require.NoError(t, x.Standins.Fault("platform", fault.Fault{Kind: fault.Status, Status: 403, Path: "/results"}))
	_, err := x.Scores.Preview(t.Context(), l.ID, 0)
	require.Error(t, err)
	x.Standins.ClearFaults()
	assert.Contains(t, found(), finding.NotAllowed)
}
