package config

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/app/scores"
	"kanban/internal/core/refusal"
	"kanban/internal/wire/config"
)

// takeScoreTemplates makes the templates of score links those of the file.
func (w *work) takeScoreTemplates(ctx context.Context, all []config.ScoreTemplate, t *taken) error {
	r, err := w.refs(ctx, t)
	if err != nil {
		return err
	}
	list := make([]scores.Template, len(all))
	for i, x := range all {
		at := fmt.Sprintf("[%d].", i)
		list[i] = scores.Template{Name: x.Name, Expected: x.Expected}
		if x.Organisation != "" {
			list[i].Organisation = r.find(r.book.orgs, at+"organisation", "organisation", "lists organisations",
				x.Organisation)
		}
		if err := sameFields(x, &list[i].Policy); err != nil {
			return refusal.Invalid(strings.TrimSuffix(at, "."), "%v", err)
		}
	}
	if err := r.err(); err != nil {
		return err
	}
	return w.Scores.SetTemplates(ctx, w.who, list)
}

// exportScoreTemplates writes the templates of score links.
func (w *work) exportScoreTemplates(ctx context.Context, out *config.Setup) error {
	list, err := w.Scores.Templates(ctx)
	if err != nil {
		return err
	}
	book, err := w.book(ctx)
	if err != nil {
		return err
	}
	for _, t := range list {
		var x config.ScoreTemplate
		if err := sameFields(t.Policy, &x); err != nil {
			return err
		}
		x.Name, x.Expected = t.Name, t.Expected
		if t.Organisation != "" {
			x.Organisation = book.orgs.name(t.Organisation)
		}
		out.ScoreTemplates = append(out.ScoreTemplates, x)
	}
	slices.SortFunc(out.ScoreTemplates, func(a, b config.ScoreTemplate) int { return cmp.Compare(a.Name, b.Name) })
	return nil
}

// sameFields gives one thing the fields that another one has under the same names: a template of a file says of
// its policy what a score link keeps of it.
func sameFields(from, into any) error {
	text, err := json.Marshal(from)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}
