package scores

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/store/settingstore"
)

const (
	templatesSetting = "score-templates"
	mostTemplates    = 500
)

// Template is what score links begin with, and what is expected of both sides. In its policy, categories are named by
// their titles.
type Template struct {
	Name string `json:"name"`
	// Organisation is the id of the one whose links begin with it, and those of all organisations below; "" for
	// one that is chosen by name only.
	Organisation string            `json:"organisation,omitempty"`
	Policy       scorestore.Policy `json:"policy"`
	Expected     grade.Expectation `json:"expected"`
}

// Templates lists them by name.
func (s *Service) Templates(ctx context.Context) (list []Template, err error) {
	_, err = settingstore.FindSetting(ctx, s.Store, templatesSetting, &list)
	return list, err
}

// SetTemplates replaces them. Score links that were made before keep their policy; what is expected of them is
// compared by the new ones.
func (s *Service) SetTemplates(ctx context.Context, who string, list []Template) error {
	if len(list) > mostTemplates {
		return refusal.Invalid("templates", "there can be %d at most", mostTemplates)
	}
	names, of := map[string]bool{}, map[string]string{}
	orgs, err := rosterstore.Orgs(ctx, s.Store)
	if err != nil {
		return err
	}
	before, err := s.Templates(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		t := &list[i]
		t.Name = strings.TrimSpace(t.Name)
		key := grade.Called(t.Name)
		// one that the register no longer has may stay
		known := slices.ContainsFunc(orgs, func(o rosterstore.Org) bool { return o.ID == t.Organisation }) ||
			slices.ContainsFunc(before, func(h Template) bool { return h.Organisation == t.Organisation })
		switch {
		case key == "" || names[key]:
			return refusal.Invalid(fmt.Sprintf("%d.name", i), "template %d needs a name of its own", i+1)
		case t.Organisation != "" && !known:
			return refusal.Invalid(fmt.Sprintf("%d.organisation", i), "no register has such an organisation")
		case t.Organisation != "" && of[t.Organisation] != "":
			return refusal.Invalid(fmt.Sprintf("%d.organisation", i), "%s is for this organisation already",
				of[t.Organisation])
		}
		names[key], of[t.Organisation] = true, t.Name
		t.Policy.Template = ""
		if err := s.checkPolicy(ctx, &t.Policy); err != nil {
			return err
		}
		if err := checkExpected(i, &t.Expected); err != nil {
			return err
		}
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, templatesSetting, list); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "changed the templates of score links", templatesSetting,
			map[string]any{"before": before, "after": list}); err != nil {
			return err
		}
		return tx.Announce(ctx, "scoreLink", "")
	})
}

// checkExpected refuses what no gradebook can be like.
func checkExpected(i int, x *grade.Expectation) error {
	titles := map[string]bool{}
	for n, c := range x.Categories {
		field := fmt.Sprintf("%d.expected.categories[%d]", i, n)
		switch key := grade.Called(c.Title); {
		case key == "" || titles[key]:
			return refusal.Invalid(field+".title", "a category needs a title of its own")
		case c.Weight != nil && !(*c.Weight >= 0 && *c.Weight <= 100): //nolint:staticcheck // NaN is none either
			return refusal.Invalid(field+".weight", "a weight is between 0 and 100 per cent")
		default:
			titles[key] = true
		}
	}
	words := map[string]bool{}
	for word, value := range x.Scale {
		key := grade.Called(word)
		if key == "" || words[key] || strings.TrimSpace(value) == "" {
			return refusal.Invalid(fmt.Sprintf("%d.expected.scale", i),
				"each word of the scale stands there once, with what it is worth, e.g. good = 80-89")
		}
		words[key] = true
	}
	return nil
}

// TemplateFor gives the template with which a score link of sections begins: that of their organisation, else of the
// nearest one above it. found is false when there is none, or when the sections' differ.
func (s *Service) TemplateFor(ctx context.Context, sectionIDs []string) (t Template, found bool, err error) {
	list, err := s.Templates(ctx)
	if err != nil || len(list) == 0 {
		return t, false, err
	}
	above, err := rosterstore.OrgsAbove(ctx, s.Store, sectionIDs)
	if err != nil {
		return t, false, err
	}
	for i, id := range sectionIDs {
		at := nearest(list, above[id])
		switch {
		case at < 0, i > 0 && list[at].Name != t.Name:
			return Template{}, false, nil
		default:
			t = list[at]
		}
	}
	return t, len(sectionIDs) > 0, nil
}

// nearest is the place of the template of the first organisation that has one, -1 for none.
func nearest(list []Template, orgs []string) int {
	for _, org := range orgs {
		if at := slices.IndexFunc(list, func(t Template) bool { return t.Organisation == org }); at >= 0 {
			return at
		}
	}
	return -1
}

// Begin is with what a score link of a section begins: the template of a name, else that of the section's
// organisation, else the usual policy. Without a section it is the usual one.
func (s *Service) Begin(ctx context.Context, name, sectionID string) (t Template, found bool, err error) {
	switch {
	case name != "":
		t.Policy, err = s.policyFor(ctx, name, nil)
		t.Name = t.Policy.Template
		return t, err == nil, err
	case sectionID != "":
		t, found, err = s.TemplateFor(ctx, []string{sectionID})
	}
	if !found {
		t = Template{Policy: UsualPolicy()}
	}
	return t, found, err
}

// policyFor is the policy with which a link begins: that of a template of a name, else of the sections' organisation,
// else the usual one.
func (s *Service) policyFor(ctx context.Context, name string, sectionIDs []string) (scorestore.Policy, error) {
	if name == "" {
		t, found, err := s.TemplateFor(ctx, sectionIDs)
		if err != nil || !found {
			return UsualPolicy(), err
		}
		return t.Policy, nil
	}
	list, err := s.Templates(ctx)
	if err != nil {
		return scorestore.Policy{}, err
	}
	at := templateNamed(list, name)
	if at < 0 {
		return scorestore.Policy{}, refusal.Invalid("template",
			"there is no template %q; see which there are: kanban scores templates", name)
	}
	p := list[at].Policy
	p.Template = list[at].Name
	return p, nil
}

// hasTemplate refuses the name of a template that is not there.
func (s *Service) hasTemplate(ctx context.Context, name string) error {
	if name == "" {
		return nil
	}
	list, err := s.Templates(ctx)
	if err == nil && templateNamed(list, name) < 0 {
		err = refusal.Invalid("policy.template", "there is no template %q; see which there are: kanban scores templates",
			name)
	}
	return err
}

func templateNamed(list []Template, name string) int {
	return slices.IndexFunc(list, func(t Template) bool { return grade.Called(t.Name) == grade.Called(name) })
}

// Mismatches are differences between how both sides of a link are set up, and from what is expected of them.
type Mismatches struct {
	// Template says what is expected, "" for nothing.
	Template string
	List     []grade.Mismatch
}

// Mismatches compares how both sides of a link are set up, with each other and with what is expected, by what was read
// last.
func (s *Service) Mismatches(ctx context.Context, linkID string) (Mismatches, error) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return Mismatches{}, err
	}
	w, err := s.world(ctx, l)
	if err != nil {
		return Mismatches{}, err
	}
	return s.mismatches(ctx, w)
}

func (s *Service) mismatches(ctx context.Context, w *world) (out Mismatches, err error) {
	list, err := s.Templates(ctx)
	if err != nil {
		return out, err
	}
	var t Template
	if at := templateNamed(list, w.link.Policy.Template); w.link.Policy.Template != "" && at >= 0 {
		t = list[at]
	} else if len(list) > 0 {
		var ids []string
		for _, x := range w.sections {
			ids = append(ids, x.ID)
		}
		if t, _, err = s.TemplateFor(ctx, ids); err != nil {
			return out, err
		}
	}
	out.Template = t.Name
	var matches []grade.CategoryMatch
	for _, c := range w.source.categories {
		if m, used := w.matches[c.ID]; used {
			matches = append(matches, m)
		}
	}
	x := t.Expected
	if x.PeriodKind == "" && t.Name != "" {
		x.PeriodKind = t.Policy.PeriodKind
	}
	out.List = grade.Mismatches(matches, w.bookCategories(), w.scalesTogether(), w.link.Policy.PeriodKind, x)
	return out, nil
}

// scalesTogether are the score scales that the assignments of both sides use: those of line items that are linked, and
// those that are called the same.
func (w *world) scalesTogether() (list []grade.Scales) {
	seen := map[[2]string]bool{}
	add := func(source, book string) {
		if key := [2]string{source, book}; (source != "" || book != "") && !seen[key] {
			seen[key] = true
			list = append(list, grade.Scales{
				Title:  cmp.Or(w.source.scaleTitles[source], w.book.scaleTitles[book]),
				Source: w.source.scales[source], Book: w.book.scales[book],
			})
		}
	}
	named := map[string]string{}
	for id, title := range w.book.scaleTitles {
		if _, twice := named[grade.Called(title)]; twice {
			id = "" // which one is meant, nobody knows
		}
		named[grade.Called(title)] = id
	}
	for _, x := range w.items {
		source, book := w.source.items[x.SourceItem].Scale, w.book.items[x.BookItem].Scale
		if book == "" && source != "" {
			book = named[grade.Called(w.source.scaleTitles[source])]
		}
		if !w.source.items[x.SourceItem].Gone {
			add(source, book)
		}
	}
	return list
}
