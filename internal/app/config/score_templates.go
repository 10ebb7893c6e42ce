package config

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"kanban/internal/app/scores"
	"kanban/internal/core/refusal"
	"kanban/internal/store/scorestore"
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
		if list[i].Policy, err = scorePolicyOf(x, at); err != nil {
			return err
		}
	}
	if err := r.err(); err != nil {
		return err
	}
	return w.Scores.SetTemplates(ctx, w.who, list)
}

// scorePolicyOf reads the policy of a template.
func scorePolicyOf(x config.ScoreTemplate, at string) (p scorestore.Policy, err error) {
	p = scorestore.Policy{
		Comments: x.Comments, Category: x.Category, Categories: x.Categories, Makes: x.MakesCategories,
		PeriodKind: x.PeriodKind, WithoutPoints: x.WithoutPoints, Schedule: x.Schedule,
		Flags: map[string]scorestore.Flag{},
	}
	for _, f := range []struct {
		name, text string
		read       func([]byte) error
	}{
		{"mode", cmp.Or(x.Mode, "fill-and-update"), p.Mode.UnmarshalText},
		{"content", cmp.Or(x.Content, "scores"), p.Content.UnmarshalText},
		{"basis", cmp.Or(x.Basis, "due"), p.Basis.UnmarshalText},
	} {
		if err := f.read([]byte(f.text)); err != nil {
			return p, refusal.Invalid(at+f.name, "%v", err)
		}
	}
	for name, f := range x.Flags {
		flag := scorestore.Flag{Drop: f.Drop}
		if err := flag.Value.UnmarshalText([]byte(f.Value)); err != nil {
			return p, refusal.Invalid(at+"flags."+name, "%v", err)
		}
		p.Flags[name] = flag
	}
	return p, nil
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
		p := t.Policy
		x := config.ScoreTemplate{
			Name: t.Name, Mode: p.Mode.String(), Content: p.Content.String(), Comments: p.Comments,
			Category: p.Category, Categories: p.Categories, MakesCategories: p.Makes,
			PeriodKind: p.PeriodKind, Basis: p.Basis.String(), WithoutPoints: p.WithoutPoints, Schedule: p.Schedule,
			Expected: t.Expected, Flags: map[string]config.ScoreFlag{},
		}
		if t.Organisation != "" {
			x.Organisation = book.orgs.name(t.Organisation)
		}
		for name, f := range p.Flags {
			x.Flags[name] = config.ScoreFlag{Value: f.Value.String(), Drop: f.Drop}
		}
		out.ScoreTemplates = append(out.ScoreTemplates, x)
	}
	slices.SortFunc(out.ScoreTemplates, func(a, b config.ScoreTemplate) int { return cmp.Compare(a.Name, b.Name) })
	return nil
}
