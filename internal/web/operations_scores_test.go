package web_test

import (
	"bytes"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/standin/gradebook"
	"kanban/internal/standin/platform"
	"kanban/internal/standin/register"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/api"
	"kanban/internal/wire/oneroster"
)

// learnerOf is somebody who learns in a section of the stand-in, by its id there.
func (x *talk) learnerOf(section string) string { return x.learnersOf(section)[0] }

func (x *talk) learnersOf(section string) (list []string) {
	for _, e := range x.Standins.School.Enrolments() {
		if e.SectionID == section && e.Role == "student" && !e.Ended {
			list = append(list, e.PersonID)
		}
	}
	require.NotEmpty(x.site.t, list)
	return list
}

// marked enters a final score where work is marked.
func (x *talk) marked(item, student string, points float64) {
	score := oneroster.Number(points)
	x.Standins.Platform.Marks.Enter(oneroster.FileResults, item+"-"+student, oneroster.Result{
		LineItem: oneroster.Ref{SourcedID: item}, Student: oneroster.Ref{SourcedID: student}, Score: &score,
		ScoreStatus: oneroster.ScoreFullyGraded, ScoreDate: oneroster.Moment{Time: time.Now().UTC()},
	})
}

func walkScores(x *talk, _ *story) {
	t, at := x.site.t, x.Standins.Addresses
	source := x.Connect(adapter.KindGradebook, "Marks", map[string]string{
		"address": at.Platform, "tokenAddress": at.Platform + "/oauth/token", "clientId": platform.MarksID,
		"clientSecret": platform.MarksSecret, "late": "0",
	})
	book := x.Connect(adapter.KindGradebook, "Book", map[string]string{
		"address": at.Register, "tokenAddress": at.Register + "/oauth/token", "clientId": register.ClientID,
		"clientSecret": register.ClientSecret, "late": "0", "needsCategory": "yes", "decimals": "1",
		"needsDue": "yes", "needsPeriod": "yes", "needsPoints": "yes",
		"termCategories": register.TermGrades,
	})
	reports := post[[]api.Report](x, "/interfaces/"+book.ID+"/probe", nil)
	assert.Equal(t, []string{"works", "works"}, []string{reports[0].State, reports[1].State})
	student := x.learnerOf("sec-orch-a")
	x.marked("cuttings-report", student, 12)
	classes := get[api.Page[api.GradebookClass]](x, "/interfaces/"+source.ID+"/gradebook-classes").Items
	require.Len(t, classes, 1)
	n := api.NewScoreLink{
		SectionID: x.Section("ORCH-A").ID, SourceInterfaceID: source.ID, SourceClass: classes[0].ID,
		BookInterfaceID: book.ID,
	}
	x.do(422, "POST", "/score-links", api.NewScoreLink{SourceInterfaceID: source.ID})
	overlap := post[api.Page[api.ScoreOverlap]](x, "/score-links/overlap", n).Items
	require.Len(t, overlap, 1)
	assert.Equal(t, 1, overlap[0].Both)
	l := made[api.ScoreLink](x, "/score-links", n)
	assert.Equal(t, "never-run", l.State)
	x.do(409, "POST", "/score-links", n)
	policy := l.Policy
	policy.MakesCategories = true
	l = as[api.ScoreLink](x, x.changes("PATCH", "/score-links/"+l.ID, api.EditScoreLink{Policy: &policy}))
	assert.True(t, l.Policy.MakesCategories)
	x.do(422, "PATCH", "/score-links/"+l.ID, api.EditScoreLink{BookClasses: map[string]string{"none": "x"}})
	wrong := policy
	wrong.Schedule.Kind = "after-read"
	x.do(422, "PATCH", "/score-links/"+l.ID, api.EditScoreLink{Policy: &wrong})
	categories := get[api.ScoreCategories](x, "/score-links/"+l.ID+"/categories")
	assert.Len(t, categories.Book, 2, "without that of term grades")
	assert.True(t, slices.ContainsFunc(categories.Matches, func(m api.CategoryMatch) bool { return m.Weights }))
	periods := get[api.Page[api.ScorePeriod]](x, "/score-links/"+l.ID+"/periods").Items
	require.Len(t, periods, 2)
	x.do(204, "PUT", "/score-links/"+l.ID+"/periods/"+periods[1].ID, api.FinalPeriod{Final: true})
	assert.True(t, get[api.Page[api.ScorePeriod]](x, "/score-links/"+l.ID+"/periods").Items[1].Final)
	x.do(204, "PUT", "/score-links/"+l.ID+"/periods/"+periods[1].ID, api.FinalPeriod{})
	x.do(422, "PUT", "/score-links/"+l.ID+"/periods/none", api.FinalPeriod{Final: true})

	p := post[api.ScorePreview](x, "/score-links/"+l.ID+"/previews", nil)
	assert.Equal(t, 1, p.Changes, p.Counts)
	_ = get[api.Page[api.ScoreActivity]](x, "/score-links/"+l.ID+"/activities")
	rows := get[api.Page[api.Assignment]](x, "/score-links/"+l.ID+"/assignments").Items
	require.Len(t, rows, 5)
	x.walkAssignments(l, rows)
	x.runScores(l, student)
	x.walkUnfinished(l, student)
	of := get[api.Page[api.PersonScore]](x, "/people/"+x.Person(student).ID+"/scores").Items
	require.NotEmpty(t, of)
	assert.Equal(t, l.ID, of[0].LinkID)
	files := x.Connect(adapter.KindScoreFile, "Scores as files", nil)
	x.do(422, "POST", "/interfaces/"+files.ID+"/gradebook/upload", "PK", "Content-Type", "application/zip")
	x.do(409, "POST", "/interfaces/"+book.ID+"/gradebook/upload", "PK", "Content-Type", "application/zip")
	var content bytes.Buffer
	require.NoError(t, oneroster.WritePackage(&content, "x", map[string]oneroster.Table{
		oneroster.FileCategories: {Mode: oneroster.Bulk, Rows: []map[string]string{{"sourcedId": "k"}}},
	}))
	read := as[api.GradebookRead](x, x.do(201, "POST", "/interfaces/"+files.ID+"/gradebook/upload", content.String(),
		"Content-Type", "application/zip"))
	assert.Zero(t, read.Unread)
	resp, text := x.ask("GET", "/api/v1/interfaces/"+files.ID+"/gradebook.zip", "", x.bearer()...)
	assert.Equal(t, []any{200, "application/zip"}, []any{resp.StatusCode, resp.Header.Get("Content-Type")}, text)
	resp, _ = x.ask("GET", "/api/v1/interfaces/"+book.ID+"/gradebook.zip", "", x.bearer()...)
	assert.Equal(t, 409, resp.StatusCode)
	x.walkScoreTemplates(l, n)
	ended := post[api.ScoreLink](x, "/score-links/"+l.ID+"/end", nil)
	assert.Equal(t, "ended", ended.State)
	assert.Empty(t, get[api.Page[api.ScoreLink]](x, "/score-links").Items)
	assert.Len(t, get[api.Page[api.ScoreLink]](x, "/score-links?section="+n.SectionID).Items, 1)
}

// walkScoreTemplates sets what score links begin with, and goes on with one in the next term.
func (x *talk) walkScoreTemplates(l api.ScoreLink, n api.NewScoreLink) {
	t := x.site.t
	org := get[api.Page[api.Organisation]](x, "/organisations").Items[0]
	sixty := 60.0
	template := api.ScoreTemplate{
		Name: "House rules", OrganisationID: org.ID, Policy: l.Policy,
		Expected: api.ScoreExpectation{Categories: []api.ExpectedCategory{{Title: "Course work", Weight: &sixty}}},
	}
	template.Policy.Categories = nil
	list := as[[]api.ScoreTemplate](x, x.changes("PUT", "/score-templates", []api.ScoreTemplate{template}))
	assert.Equal(t, org.Name, list[0].Organisation)
	x.do(422, "PUT", "/score-templates", []api.ScoreTemplate{template, template})
	assert.Equal(t, list, get[[]api.ScoreTemplate](x, "/score-templates"))
	begin := get[api.ScoreTemplateFor](x, "/score-templates/for?section="+n.SectionID)
	assert.Equal(t, []any{true, "House rules"}, []any{begin.Found, begin.Name})
	assert.False(t, get[api.ScoreTemplateFor](x, "/score-templates/for").Found)
	x.do(422, "GET", "/score-templates/for?name=none", nil)
	differ := get[api.ScoreMismatches](x, "/score-links/"+l.ID+"/mismatches")
	assert.Equal(t, "House rules", differ.Template)
	assert.Contains(t, differ.Items,
		api.ScoreMismatch{Kind: "weight", About: "Course work", Source: "60 %", Book: "50 %", Expected: "60 %"})
	assert.Empty(t, get[api.Page[api.FollowingScoreLink]](x, "/following-score-links?ahead=30").Items)
	following := get[api.Page[api.FollowingScoreLink]](x, "/following-score-links?ahead=90").Items
	require.Len(t, following, 1)
	assert.Equal(t, []any{l.ID, false}, []any{following[0].LinkID, following[0].Ready}, following[0].Why)
	x.do(409, "POST", "/score-links/"+l.ID+"/follow", api.FollowScoreLink{Ahead: 90})
	next := made[api.ScoreLink](x, "/score-links/"+l.ID+"/follow",
		api.FollowScoreLink{Ahead: 90, SourceClass: "orchards-2", Anyway: true})
	assert.Equal(t, "Orchard care B", next.Title)
	post[api.ScoreLink](x, "/score-links/"+next.ID+"/end", nil)
	x.changes("PUT", "/score-templates", []api.ScoreTemplate{})
}

// walkAssignments edits assignments, and links one.
func (x *talk) walkAssignments(l api.ScoreLink, rows []api.Assignment) {
	t, path := x.site.t, "/score-links/"+l.ID+"/assignments"
	i := slices.IndexFunc(rows, func(a api.Assignment) bool { return a.Source.ID == "garden-walk" })
	out := "A walk is no work"
	edited := as[api.Page[api.Assignment]](x, x.do(200, "PATCH", path,
		api.EditAssignments{IDs: []string{rows[i].ID}, LeftOut: &out})).Items
	assert.Equal(t, "left-out", edited[i].Outcome)
	x.do(422, "PATCH", path, api.EditAssignments{IDs: []string{"none"}, LeftOut: &out})
	wrong := "everything"
	x.do(422, "PATCH", path, api.EditAssignments{IDs: []string{rows[i].ID}, Content: &wrong})
	x.Standins.Register.Book.Enter(oneroster.FileLineItems, "walk", oneroster.LineItem{
		Title: "The walk", Class: oneroster.Ref{SourcedID: "sec-orch-a"},
	})
	post[api.ScorePreview](x, "/score-links/"+l.ID+"/previews", nil)
	list := get[api.Page[api.ScoreCounterpart]](x, path+"/"+rows[i].ID+"/counterparts").Items
	require.Len(t, list, 1)
	x.do(204, "PUT", path+"/"+rows[i].ID+"/link", api.AssignmentLink{BookItem: "walk"})
	x.do(204, "PUT", path+"/"+rows[i].ID+"/link", api.AssignmentLink{})
	x.do(409, "PUT", path+"/"+rows[i].ID+"/link", api.AssignmentLink{BookItem: "sec-orch-a-term"})
}

// runScores carries, decides, gives and reverts.
func (x *talk) runScores(l api.ScoreLink, student string) {
	t := x.site.t
	p := post[api.ScorePreview](x, "/score-links/"+l.ID+"/previews", nil)
	assert.Equal(t, p.ID, get[api.ScorePreview](x, "/score-previews/"+p.ID).ID)
	r := made[api.Run](x, "/score-previews/"+p.ID+"/run", api.NewScoreRun{})
	require.NoError(t, x.Scores.Work(t.Context(), r.ID, true))
	r = get[api.Run](x, "/runs/"+r.ID)
	assert.Equal(t, []string{"finished", "scores", l.ID}, []string{r.State, r.Kind, r.ScoreLinkID}, r.Error)
	assert.Len(t, get[api.Page[api.Run]](x, "/runs?scoreLink="+l.ID).Items, 1)
	changes := get[api.Page[api.ScoreChange]](x, "/runs/"+r.ID+"/score-changes").Items
	require.NotEmpty(t, changes)
	assert.Equal(t, "12", changes[len(changes)-1].Sent.Text)
	x.do(409, "POST", "/runs/"+r.ID+"/revert", nil)
	undo := post[api.ScorePreview](x, "/runs/"+r.ID+"/revert-scores", nil)
	assert.Equal(t, r.ID, undo.Reverts)

	for _, b := range gradebook.All[oneroster.Result](x.Standins.Register.Book, oneroster.FileResults) {
		if b.Student.SourcedID == student {
			score := oneroster.Number(3)
			b.Score = &score
			x.Standins.Register.Book.Enter(oneroster.FileResults, b.SourcedID, b)
		}
	}
	x.do(409, "POST", "/score-links/"+l.ID+"/decisions", api.ScoreDecision{Take: "ours", People: []string{"nobody"}})
	p = post[api.ScorePreview](x, "/score-links/"+l.ID+"/previews", nil)
	assert.Equal(t, 1, p.Counts["conflict"])
	assert.Equal(t, "needs-person", get[api.ScoreLink](x, "/score-links/"+l.ID).State)
	assert.Equal(t, 1, post[api.DecidedScores](x, "/score-links/"+l.ID+"/decisions",
		api.ScoreDecision{Take: "theirs"}).Scores)
	owner := api.ScoreOwner{Student: "x-17", PersonID: x.Person(x.learnersOf("sec-orch-a")[1]).ID}
	x.do(422, "POST", "/score-links/"+l.ID+"/owners", owner) // there is no score of this student
	x.marked("cuttings-report", owner.Student, 9)
	post[api.ScorePreview](x, "/score-links/"+l.ID+"/previews", nil)
	x.do(204, "POST", "/score-links/"+l.ID+"/owners", owner)
	given := get[api.Page[api.GivenScores]](x, "/score-links/"+l.ID+"/owners").Items
	require.Len(t, given, 1)
	assert.Equal(t, []string{"x-17", owner.PersonID}, []string{given[0].Student, given[0].PersonID})
	owner.PersonID = ""
	x.do(204, "POST", "/score-links/"+l.ID+"/owners", owner)
	x.do(404, "POST", "/score-links/"+l.ID+"/owners", owner)
}

// A run of scores that was stopped goes on when somebody says so.
func TestStoppedRunOfScoresGoesOn(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.Read(x.Register(), false)
	at := x.Standins.Addresses
	source := x.Connect(adapter.KindGradebook, "Marks", map[string]string{
		"address": at.Platform, "tokenAddress": at.Platform + "/oauth/token", "clientId": platform.MarksID,
		"clientSecret": platform.MarksSecret, "late": "0",
	})
	book := x.Connect(adapter.KindGradebook, "Book", map[string]string{
		"address": at.Register, "tokenAddress": at.Register + "/oauth/token", "clientId": register.ClientID,
		"clientSecret": register.ClientSecret, "late": "0", "needsDue": "yes", "needsPeriod": "yes",
		"needsPoints": "yes",
	})
	policy := api.ScorePolicy{Mode: "fill-and-update", Content: "scores", Basis: "due", MakesCategories: true}
	x.marked("cuttings-report", x.learnerOf("sec-prop-a"), 12)
	l := made[api.ScoreLink](x, "/score-links", api.NewScoreLink{
		SectionID: x.Section("PROP-A").ID, SourceInterfaceID: source.ID, SourceClass: platform.MarksClass,
		BookInterfaceID: book.ID, Policy: &policy, Anyway: true,
	})
	p := post[api.ScorePreview](x, "/score-links/"+l.ID+"/previews", nil)
	r := made[api.Run](x, "/score-previews/"+p.ID+"/run", api.NewScoreRun{})
	post[api.Run](x, "/runs/"+r.ID+"/cancel", nil)
	require.NoError(t, x.Scores.Work(t.Context(), r.ID, true))
	assert.Equal(t, runstore.Cancelled, get[api.Run](x, "/runs/"+r.ID).State)
	post[api.Run](x, "/runs/"+r.ID+"/resume", nil)
	require.NoError(t, x.Scores.Work(t.Context(), r.ID, true))
	r = get[api.Run](x, "/runs/"+r.ID)
	assert.Equal(t, runstore.Finished, r.State, r.Error)
	assert.Equal(t, 1, r.Counts["scored"])
}

// walkUnfinished lists what is not done.
func (x *talk) walkUnfinished(l api.ScoreLink, student string) {
	t, score := x.site.t, oneroster.Number(4)
	x.Standins.Platform.Marks.Enter(oneroster.FileResults, "draft", oneroster.Result{
		LineItem: oneroster.Ref{SourcedID: "cuttings-test"}, Student: oneroster.Ref{SourcedID: student}, Score: &score,
		ScoreStatus: oneroster.ScorePartiallyGraded,
	})
	post[api.ScorePreview](x, "/score-links/"+l.ID+"/previews", nil)
	work := get[api.Page[api.UnfinishedWork]](x, "/score-links/"+l.ID+"/unfinished").Items
	require.Len(t, work, 1)
	assert.Equal(t, []string{"partly-marked", "4"}, []string{work[0].State, work[0].Score})
	for kind, says := range map[string]string{"csv": "partly-marked", "xlsx": "PK"} {
		resp, text := x.ask("GET", "/api/v1/score-links/"+l.ID+"/unfinished."+kind, "", x.bearer()...)
		assert.Equal(t, 200, resp.StatusCode, kind)
		assert.Contains(t, text, says)
	}
	resp, _ := x.ask("GET", "/api/v1/score-links/"+l.ID+"/unfinished.txt", "", x.bearer()...)
	assert.Equal(t, 404, resp.StatusCode)
}
