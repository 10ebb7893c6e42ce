package scores_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/app/scores"
	"kanban/internal/core/grade"
	"kanban/internal/standin/gradebook"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/oneroster"
)

// ofSchool is a template of the school's organisation.
func (x *school) ofSchool(name string, change func(*scores.Template)) scores.Template {
	x.t.Helper()
	above, err := rosterstore.OrgsAbove(x.t.Context(), x.Store, []string{x.Section("PROP-A").ID})
	require.NoError(x.t, err)
	orgs := above[x.Section("PROP-A").ID]
	require.NotEmpty(x.t, orgs)
	tpl := scores.Template{Name: name, Organisation: orgs[len(orgs)-1], Policy: scores.UsualPolicy()}
	if change != nil {
		change(&tpl)
	}
	return tpl
}

// A score link begins as the nearest organisation has set it, and both sides are compared with what it expects.
func TestScoreLinksBeginAsTheirOrganisationSets(t *testing.T) {
	x := open(t)
	ctx := t.Context()
	sixty := 60.0
	house := x.ofSchool("House rules", func(t *scores.Template) {
		t.Policy.Makes, t.Policy.Comments = true, true
		t.Policy.Categories = map[string]string{"Tests": "Practice"}
		t.Expected.Categories = []grade.Expected{{Title: "Course work", Weight: &sixty}, {Title: "Projects"}}
	})
	other := scores.Template{Name: "Blanks", Policy: scores.UsualPolicy()}
	other.Policy.Mode = grade.BlanksOnly
	require.NoError(t, x.Scores.SetTemplates(ctx, "Maud", []scores.Template{house, other}))
	n := x.wish()
	n.Policy = nil
	l, err := x.Scores.Make(ctx, "Maud", n)
	require.NoError(t, err)
	assert.True(t, l.Policy.Makes && l.Policy.Comments)
	matches, _, _, err := x.Scores.Categories(ctx, l.ID)
	require.NoError(t, err)
	found := map[string]string{}
	for _, m := range matches {
		if m.Book != nil {
			found[m.Source.Title] = m.Book.Title
		}
	}
	assert.Equal(t, map[string]string{"Course work": "Course work", "Tests": "Practice"}, found, "by titles")
	m, err := x.Scores.Mismatches(ctx, l.ID)
	require.NoError(t, err)
	assert.Equal(t, "House rules", m.Template)
	assert.Equal(t, []grade.Mismatch{
		{Kind: grade.MismatchWeight, About: "Course work", Source: "60 %", Book: "50 %", Expected: "60 %"},
		{Kind: grade.MismatchWeight, About: "Tests", Source: "40 %", Book: "50 %"},
		{Kind: grade.MismatchCategory, About: "Projects"},
	}, m.List)
	x.preview(l)
	listed, err := x.Scores.Find(ctx, l.ID)
	require.NoError(t, err)
	assert.Equal(t, 3, listed.Counts["mismatches"])
	findings, err := x.Findings.Findings(ctx, findings.Filter{})
	require.NoError(t, err)
	said := false
	for _, f := range findings {
		said = said || f.Code == "gradebooks-differ" && f.Count == 3
	}
	assert.True(t, said)

	_, err = x.Scores.End(ctx, "Maud", l.ID)
	require.NoError(t, err)
	n.Template = "blanks"
	l, err = x.Scores.Make(ctx, "Maud", n)
	require.NoError(t, err)
	assert.Equal(t, grade.BlanksOnly, l.Policy.Mode)
	m, err = x.Scores.Mismatches(ctx, l.ID)
	require.NoError(t, err)
	assert.Equal(t, "Blanks", m.Template)
	require.NoError(t, x.Scores.SetTemplates(ctx, "Maud", []scores.Template{house}))
	p := l.Policy
	p.Comments = true
	l, err = x.Scores.Change(ctx, "Maud", l.ID, 0, scores.Edit{Policy: &p})
	require.NoError(t, err, "its template is gone, and it can be changed all the same")
	assert.Equal(t, "Blanks", l.Policy.Template)
	n.Template = "none"
	_, err = x.Scores.Make(ctx, "Maud", n)
	require.ErrorContains(t, err, "there is no template")
}

// Scores in words that are worth something else at the other side are shown with both values.
func TestScoreScalesOfBothSidesAreCompared(t *testing.T) {
	x := open(t)
	scale := func(id string, upper string) oneroster.ScoreScale {
		return oneroster.ScoreScale{
			Base: oneroster.Base{SourcedID: id}, Title: "Words", Type: "ext:words",
			Values: []oneroster.ScaleValue{{LHS: "merit", RHS: "16-" + upper}, {LHS: "pass", RHS: "10-15"}},
		}
	}
	x.Standins.Platform.Marks.Enter(oneroster.FileScoreScales, "words", scale("words", "20"))
	x.Standins.Register.Book.Enter(oneroster.FileScoreScales, "w", scale("w", "18"))
	for _, l := range gradebook.All[oneroster.LineItem](x.Standins.Platform.Marks, oneroster.FileLineItems) {
		if l.SourcedID == "cuttings-report" {
			l.ScoreScale = &oneroster.Ref{SourcedID: "words"}
			x.Standins.Platform.Marks.Enter(oneroster.FileLineItems, l.SourcedID, l)
		}
	}
	link := x.link()
	x.preview(link)
	m, err := x.Scores.Mismatches(t.Context(), link.ID)
	require.NoError(t, err)
	assert.Contains(t, m.List,
		grade.Mismatch{Kind: grade.MismatchScale, About: "Words: merit", Source: "20", Book: "18"})
	x.mark("cuttings-report", "stu-003", oneroster.ScoreFullyGraded, 0, func(r *oneroster.Result) {
		r.Score, r.TextScore = nil, " Merit"
	})
	x.Standins.Register.Book.Enter(oneroster.FileScoreScales, "w2", scale("w2", "17"))
	x.preview(link)
	m, err = x.Scores.Mismatches(t.Context(), link.ID)
	require.NoError(t, err)
	for _, one := range m.List {
		assert.NotEqual(t, grade.MismatchScale, one.Kind, "two scales of the book are called so: %+v", one)
	}
	assert.InDelta(t, 20, x.entry(x.preview(link), report, "stu-003").Ours.Points, 0.001, "a word is worth what its scale says")
}

func TestTemplatesThatCannotBe(t *testing.T) {
	x := open(t)
	much := 140.0
	for name, list := range map[string][]scores.Template{
		"no name":            {{Policy: scores.UsualPolicy()}},
		"twice":              {{Name: "A"}, {Name: " a "}},
		"no organisation":    {x.ofSchool("A", func(t *scores.Template) { t.Organisation = x.setID })},
		"organisation twice": {x.ofSchool("A", nil), x.ofSchool("B", nil)},
		"weight": {{
			Name:     "A",
			Expected: grade.Expectation{Categories: []grade.Expected{{Title: "T", Weight: &much}}},
		}},
		"category twice": {{
			Name:     "A",
			Expected: grade.Expectation{Categories: []grade.Expected{{Title: "T"}, {Title: "t"}}},
		}},
		"word of nothing": {{Name: "A", Expected: grade.Expectation{Scale: map[string]string{"good": " "}}}},
	} {
		require.Error(t, x.Scores.SetTemplates(t.Context(), "Maud", list), name)
	}
	kept, err := x.Scores.Templates(t.Context())
	require.NoError(t, err)
	assert.Empty(t, kept)
}

// A score link goes on with the section that follows, with the same policy, once somebody says so.
func TestScoreLinksFollowIntoTheNextTerm(t *testing.T) {
	x := open(t)
	ctx := t.Context()
	x.link()
	n := scores.NewLink{
		SectionID: x.Section("ORCH-A").ID, SourceInterfaceID: x.source.ID, SourceClass: "orchards", Anyway: true,
		BookInterfaceID: x.book.ID,
	}
	p := scores.UsualPolicy()
	p.Mode, n.Policy = grade.BlanksOnly, &p
	l, err := x.Scores.Make(ctx, "Maud", n)
	require.NoError(t, err)
	none, err := x.Scores.Following(ctx, 30)
	require.NoError(t, err)
	assert.Empty(t, none, "the term ends in 67 days")
	all, err := x.Scores.Following(ctx, 90)
	require.NoError(t, err)
	require.Len(t, all, 2)
	why := map[string]string{}
	for _, f := range all {
		why[f.Link.Title] = f.Why
	}
	assert.Equal(t, "no section follows Propagation A yet", why["Propagation"])
	assert.Equal(t, "choose the class at Platform scores", why["Orchard care A"])
	_, err = x.Scores.Follow(ctx, "Maud", l.ID, "", 90, true)
	require.ErrorContains(t, err, "choose the class")
	next, err := x.Scores.Follow(ctx, "Maud", l.ID, "orchards-2", 90, true)
	require.NoError(t, err)
	found, err := x.Scores.Find(ctx, next.ID)
	require.NoError(t, err)
	assert.Equal(t, "Orchard care B", found.Title)
	assert.Equal(t, []any{"orchards-2", grade.BlanksOnly, "sec-orch-b"},
		[]any{found.SourceClass, found.Policy.Mode, found.BookClasses[x.Section("ORCH-B").ID]})
	old, err := x.Scores.Find(ctx, l.ID)
	require.NoError(t, err)
	assert.Nil(t, old.EndedAt)
	_, err = x.Scores.Follow(ctx, "Maud", l.ID, "orchards-2", 90, true)
	require.Error(t, err, "no section is left that could follow")
}

// Where the book calls classes otherwise than the register, no copy is made that would write somewhere else.
func TestLinkWithOtherClassesInTheBookIsNotCopied(t *testing.T) {
	x := open(t)
	l, err := x.Scores.Make(t.Context(), "Maud", scores.NewLink{
		SectionID: x.Section("ORCH-A").ID, SourceInterfaceID: x.source.ID, SourceClass: "sec-orch-a", Anyway: true,
		BookInterfaceID: x.book.ID, BookClasses: map[string]string{x.Section("ORCH-A").ID: "orchard-book"},
	})
	require.NoError(t, err)
	_, err = x.Scores.Follow(t.Context(), "Maud", l.ID, "", 90, true)
	require.ErrorContains(t, err, "does not call classes as the register does")
}

// A template of an organisation that the register no longer has keeps nobody from changing the others.
func TestTemplateOfAnOrganisationThatIsGone(t *testing.T) {
	x := open(t)
	house := x.ofSchool("House rules", nil)
	require.NoError(t, x.Scores.SetTemplates(t.Context(), "Maud", []scores.Template{house}))
	_, err := db.Exec(t.Context(), x.Store, `UPDATE orgs SET gone_at = now()`)
	require.NoError(t, err)
	require.NoError(t, x.Scores.SetTemplates(t.Context(), "Maud",
		[]scores.Template{house, {Name: "Blanks", Policy: scores.UsualPolicy()}}))
}

// Where the source calls classes as the register does, the class that follows is known.
func TestClassThatFollowsIsKnownByTheRegistersID(t *testing.T) {
	x := open(t)
	l, err := x.Scores.Make(t.Context(), "Maud", scores.NewLink{
		SectionID: x.Section("ORCH-A").ID, SourceInterfaceID: x.source.ID, SourceClass: "sec-orch-a", Anyway: true,
		BookInterfaceID: x.book.ID,
	})
	require.NoError(t, err)
	all, err := x.Scores.Following(t.Context(), 90)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, []string{l.ID, "sec-orch-b", ""}, []string{all[0].Link.ID, all[0].SourceClass, all[0].Why})
}
