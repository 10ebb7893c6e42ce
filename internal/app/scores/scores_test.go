package scores_test

import (
	"flag"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/linking"
	"kanban/internal/app/scores"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/standin/gradebook"
	"kanban/internal/standin/platform"
	"kanban/internal/standin/register"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/oneroster"
)

func TestMain(m *testing.M) {
	_ = flag.Set("rapid.checks", "20") // each carries scores between real servers
	storetest.Main(m)
}

// school is the demo school with both gradebooks connected and the three sections of Propagation linked.
type school struct {
	*apptest.World
	t            testing.TB
	register     connectionstore.Interface
	source, book connectionstore.Interface
	setID        string
}

func open(t *testing.T) *school {
	t.Helper()
	return openSchool(t)
}

func openSchool(t testing.TB) *school {
	t.Helper()
	w := apptest.New(t)
	office := w.Register()
	w.Read(office, false)
	a := w.Standins.Addresses
	x := &school{World: w, t: t, register: office}
	x.source = w.Connect(adapter.KindGradebook, "Platform scores", map[string]string{
		"address": a.Platform, "tokenAddress": a.Platform + "/oauth/token", "clientId": platform.MarksID,
		"clientSecret": platform.MarksSecret, "late": "0", "itemPage": a.Platform + "/marking?item={id}",
	})
	x.book = w.Connect(adapter.KindGradebook, "Office scores", map[string]string{
		"address": a.Register, "tokenAddress": a.Register + "/oauth/token", "clientId": register.ClientID,
		"clientSecret": register.ClientSecret, "late": "0", "needsDue": "yes", "needsPeriod": "yes",
		"needsPoints":   "yes",
		"needsCategory": "yes", "decimals": "1", "longestComment": "200", "termCategories": register.TermGrades,
	})
	set, err := w.Linking.Link(t.Context(), "test", linking.Wish{
		Name: "Propagation", LeadID: w.Section("PROP-A").ID,
		Others: []string{w.Section("PROP-B").ID, w.Section("PROP-C").ID},
	})
	require.NoError(t, err)
	x.setID = set.ID
	return x
}

func (x *school) wish() scores.NewLink {
	p := scores.UsualPolicy()
	p.Makes = true
	return scores.NewLink{
		SetID: x.setID, SourceInterfaceID: x.source.ID, SourceClass: platform.MarksClass, BookInterfaceID: x.book.ID,
		Policy: &p,
	}
}

func (x *school) link() scorestore.Link {
	x.t.Helper()
	l, err := x.Scores.Make(x.t.Context(), "test", x.wish())
	require.NoError(x.t, err)
	return l
}

func number(n float64) *oneroster.Number { v := oneroster.Number(n); return &v }

// mark enters a score where work is marked.
func (x *school) mark(item, student, status string, score float64, change func(*oneroster.Result)) {
	r := oneroster.Result{
		Base:     oneroster.Base{SourcedID: item + "-" + student},
		LineItem: oneroster.Ref{SourcedID: item}, Student: oneroster.Ref{SourcedID: student}, ScoreStatus: status,
		Score: number(score), ScoreDate: oneroster.Moment{Time: time.Now().UTC().Truncate(time.Second)},
	}
	if change != nil {
		change(&r)
	}
	x.Standins.Platform.Marks.Enter(oneroster.FileResults, r.SourcedID, r)
}

func (x *school) preview(l scorestore.Link) scorestore.Preview {
	x.t.Helper()
	p, err := x.Scores.Preview(x.t.Context(), l.ID, 0)
	require.NoError(x.t, err)
	return p
}

// run does what a preview shows.
func (x *school) run(p scorestore.Preview, approved bool, only ...string) runstore.Run {
	x.t.Helper()
	r, err := x.Scores.Start(x.t.Context(), "test", p.ID, approved, only...)
	require.NoError(x.t, err)
	require.NoError(x.t, x.Scores.Work(x.t.Context(), r.ID, true))
	r, err = runstore.FindRun(x.t.Context(), x.Store, r.ID)
	require.NoError(x.t, err)
	return r
}

// entry is that of a person in an assignment, by titles.
func (x *school) entry(p scorestore.Preview, title, identifier string) grade.Entry {
	x.t.Helper()
	person := x.Person(identifier)
	for _, item := range p.Plan.Items {
		if p.Plan.Titles[item.ID] != title {
			continue
		}
		if e := item.Entry(person.ID); e != nil {
			return *e
		}
	}
	x.t.Fatalf("no entry of %s in %s", identifier, title)
	return grade.Entry{}
}

// item is the id of the assignment of a title in which somebody has an entry.
func (x *school) item(p scorestore.Preview, title, who string) string {
	for _, item := range p.Plan.Items {
		if p.Plan.Titles[item.ID] == title && item.Entry(who) != nil {
			return item.ID
		}
	}
	return ""
}

// inBook is a person's score in the office's book.
func (x *school) inBook(title, student string) (oneroster.Result, bool) {
	items := map[string]bool{}
	for _, l := range gradebook.All[oneroster.LineItem](x.Standins.Register.Book, oneroster.FileLineItems) {
		items[l.SourcedID] = l.Title == title
	}
	var found []oneroster.Result
	for _, r := range gradebook.All[oneroster.Result](x.Standins.Register.Book, oneroster.FileResults) {
		if items[r.LineItem.SourcedID] && r.Student.SourcedID == student {
			found = append(found, r)
		}
	}
	require.LessOrEqual(x.t, len(found), 1, "one result per person and assignment")
	if len(found) == 0 {
		return oneroster.Result{}, false
	}
	return found[0], true
}

const report = "Report on cuttings"

// One class at the source becomes an assignment in the book of each section: each learner's score goes to the section
// that they are in, what is not final stays behind, and doing it again does nothing.
func TestScoresOfALinkedSetGoWhereTheirLearnersAre(t *testing.T) {
	x := open(t)
	l := x.link()
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 17.26, nil) // A
	x.mark("cuttings-report", "stu-020", oneroster.ScoreFullyGraded, 12, nil)    // B
	x.mark("cuttings-report", "stu-030", oneroster.ScorePartiallyGraded, 5, nil) // C, not final
	x.mark("cuttings-report", "somebody", oneroster.ScoreFullyGraded, 9, nil)    // unknown
	x.mark("tool-care", "stu-002", oneroster.ScoreFullyGraded, 10, nil)          // without due date
	x.mark("herbarium", "stu-002", oneroster.ScoreFullyGraded, 40, nil)          // due outside
	x.mark("garden-walk", "stu-002", oneroster.ScoreFullyGraded, 0, nil)         // worth nothing
	x.mark("cuttings-report", "stu-003", oneroster.ScoreFullyGraded, 25, nil)    // above the maximum
	x.mark("cuttings-report", "stu-004", oneroster.ScoreExempt, 3, nil)          // exempt
	x.mark("cuttings-report", "stu-005", oneroster.ScoreFullyGraded, 8, func(r *oneroster.Result) { r.Late = true })

	p := x.preview(l)
	assert.Equal(t, grade.New, x.entry(p, report, "stu-002").Outcome)
	assert.InDelta(t, 17.3, x.entry(p, report, "stu-002").Ours.Points, 0.0001)
	assert.Equal(t, finding.ScorePartly, x.entry(p, report, "stu-030").Reason)
	assert.Equal(t, finding.ScoreOverMaximum, x.entry(p, report, "stu-003").Reason)
	assert.Equal(t, grade.Exempt, x.entry(p, report, "stu-004").Ours.Flags)
	reasons := map[string][]finding.Code{}
	rows, err := x.Scores.Assignments(t.Context(), l.ID)
	require.NoError(t, err)
	assert.Len(t, rows, 15, "five assignments in three sections")
	for _, a := range rows {
		reasons[a.Title] = a.Reasons
	}
	assert.Empty(t, reasons[report])
	assert.Contains(t, reasons["Care of tools"], finding.ItemNotDue)
	assert.Contains(t, reasons["Herbarium"], finding.ItemOutsidePeriod)
	assert.Contains(t, reasons["Walk through the garden"], finding.ItemWithoutPoints)
	total := 0
	for _, n := range p.Plan.Counts() {
		total += n
	}
	assert.Equal(t, 10, total, "every result of the source is in one entry")

	r := x.run(p, false)
	changes, err := x.Scores.Changes(t.Context(), r.ID)
	require.NoError(t, err)
	for _, c := range changes {
		assert.Equal(t, runstore.ChangeDone, c.State, "%s %s %s: %s", c.What, c.Title, c.Name, c.Answer)
	}
	assert.Equal(t, runstore.Finished, r.State, "%s %v", r.Error, r.Counts)
	assert.Equal(t, 4, r.Counts["scored"], r.Counts)
	assert.Equal(t, 6, r.Counts["made"], "two assignments that are ready in three sections")
	in, there := x.inBook(report, "stu-002")
	require.True(t, there)
	assert.InDelta(t, 17.3, float64(*in.Score), 0.0001)
	assert.Equal(t, "sec-prop-a", in.Class.SourcedID)
	in, _ = x.inBook(report, "stu-020")
	assert.Equal(t, "sec-prop-b", in.Class.SourcedID)
	in, _ = x.inBook(report, "stu-005")
	assert.True(t, bool(in.Late))
	_, there = x.inBook(report, "stu-030")
	assert.False(t, there, "what is not final stays behind")
	categories := gradebook.All[oneroster.Category](x.Standins.Register.Book, oneroster.FileCategories)
	assert.Len(t, categories, 4, "the category that was missing was made once")

	p = x.preview(l)
	assert.Zero(t, p.Plan.Counts().Changes())
	assert.Empty(t, p.Plan.Makes)
	_, err = x.Scores.Start(t.Context(), "test", p.ID, false)
	refused, is := refusal.As(err)
	require.True(t, is)
	assert.Contains(t, refused.Detail, "there is nothing to carry: ")
	for _, c := range changes {
		if c.What == scorestore.AboutScore {
			assert.Equal(t, 1, x.Standins.Register.Book.Writes(oneroster.FileResults, c.BookID), "%s once", c.Name)
		}
	}
	makes := func(i grade.ItemPlan) bool { return i.Outcome == grade.ItemMade }
	assert.False(t, slices.ContainsFunc(p.Plan.Items, makes))
}

// Assignments are set one by one: which date counts, what is carried, where they go, or that they are left out.
func TestAssignmentsAreSet(t *testing.T) {
	x := open(t)
	l := x.link()
	x.mark("tool-care", "stu-002", oneroster.ScoreFullyGraded, 7, nil)
	find := func() scores.Assignment {
		rows, err := x.Scores.Assignments(t.Context(), l.ID)
		require.NoError(t, err)
		i := slices.IndexFunc(rows, func(a scores.Assignment) bool {
			return a.SourceItem == "tool-care" && a.Section == "Propagation A"
		})
		return rows[i]
	}
	set := func(e scores.EditItem) error {
		return x.Scores.EditItems(t.Context(), "Maud", l.ID, []string{find().ID}, e)
	}
	text := func(s string) *string { return &s }
	for _, e := range []scores.EditItem{
		{Basis: text("handed in")},
		{Content: text("all")},
		{Category: text("none such")},
		{Period: text("none such")},
		{Category: text(x.termCategory())},
		{LeftOut: text(strings.Repeat("x", 5000))},
	} {
		_, refused := refusal.As(set(e))
		require.True(t, refused, "%+v", e)
	}
	assert.Contains(t, find().Reasons, finding.ItemNotDue)
	require.NoError(t, set(scores.EditItem{LeftOut: text("not this year")}))
	assert.Equal(t, grade.ItemLeftOut, find().Outcome)
	require.NoError(t, set(scores.EditItem{LeftOut: text(""), Basis: text("assigned"), Content: text("completions")}))
	assert.Empty(t, find().Reasons)
	p := x.preview(l)
	assert.Equal(t, grade.Done, x.entry(p, "Care of tools", "stu-002").Ours.Kind)
	r := x.run(p, false)
	assert.Equal(t, 1, r.Counts["scored"], "%s %v", r.Error, r.Counts)
	for _, made := range gradebook.All[oneroster.LineItem](x.Standins.Register.Book, oneroster.FileLineItems) {
		if made.Title == "Care of tools" {
			assert.Equal(t, made.AssignDate.Time, made.DueDate.Time, "the book wants a due date")
		}
	}
}

// termCategory is the book's category of term grades.
func (x *school) termCategory() string {
	for _, c := range gradebook.All[oneroster.Category](x.Standins.Register.Book, oneroster.FileCategories) {
		if c.Title == register.TermGrades {
			return c.SourcedID
		}
	}
	x.t.Fatal("the book has no term grades")
	return ""
}
