package config

import (
	"cmp"
	"context"
	"slices"

	"kanban/internal/adapter"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/stagestore"
	"kanban/internal/wire/config"
)

// Export gives the whole set-up as it is now, with what waits for a register.
func (s *Service) Export(ctx context.Context) (config.Setup, error) {
	return s.work(s.Store, "").export(ctx)
}

func (w *work) export(ctx context.Context) (out config.Setup, err error) {
	for _, part := range []func(context.Context, *config.Setup) error{
		w.exportConnections, w.exportPairing, w.exportBadges, w.exportOutlines, w.exportOffers, w.exportRules,
		w.exportStagePlans, w.exportSettings, w.exportWaiting,
	} {
		if err := part(ctx, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

func (w *work) exportConnections(ctx context.Context, out *config.Setup) error {
	all, err := connectionstore.Connections(ctx, w.store)
	if err != nil {
		return err
	}
	for _, c := range all {
		x := config.Connection{
			Name: c.Name, Owner: c.Owner, Address: c.Address, Notes: c.Notes, AtOnce: c.AtOnce, PerMinute: c.PerMinute,
			RestAfter: c.RestAfter,
		}
		interfaces, err := connectionstore.InterfacesOf(ctx, w.store, c.ID)
		if err != nil {
			return err
		}
		slices.SortFunc(interfaces, func(a, b connectionstore.Interface) int {
			return cmp.Or(cmp.Compare(a.Label, b.Label), cmp.Compare(a.ID, b.ID))
		})
		for _, i := range interfaces {
			shown, err := w.shownInterface(ctx, i)
			if err != nil {
				return err
			}
			x.Interfaces = append(x.Interfaces, shown)
			switch i.Kind {
			case adapter.KindSCIM:
				m := i.Recognise()
				out.Matching = append(out.Matching, config.Matching{
					Interface: i.Name, Keys: m.Keys, Domains: m.Domains, Exclude: m.Exclude,
				})
			case adapter.KindEvents:
				v := valuesOf(i)
				out.Mappings = append(out.Mappings, config.Mapping{
					Interface: i.Name, Person: v["person"], Starts: v["starts"], Ends: v["ends"], Offer: v["offer"],
					Order: v["order"], BuyerName: v["buyerName"], Scores: v["scores"],
				})
			}
		}
		out.Connections = append(out.Connections, x)
	}
	slices.SortFunc(out.Matching, func(a, b config.Matching) int { return cmp.Compare(a.Interface, b.Interface) })
	slices.SortFunc(out.Mappings, func(a, b config.Mapping) int { return cmp.Compare(a.Interface, b.Interface) })
	return nil
}

// valuesOf are the settings of an interface that belong to a set-up, those that are as by default left
// out: no secrets, and nothing that Kanban made for the other side.
func valuesOf(i connectionstore.Interface) map[string]string {
	values := map[string]string{}
	kind, _ := adapter.Lookup(i.Kind)
	for _, f := range kind.Fields {
		if v := i.Settings[f.Name]; v != "" && v != f.Default && !f.Made && !f.Secret {
			values[f.Name] = v
		}
	}
	return values
}

func (w *work) shownInterface(ctx context.Context, i connectionstore.Interface) (config.Interface, error) {
	x := config.Interface{Kind: i.Kind, Label: i.Label, Values: valuesOf(i)}
	if i.Kind == adapter.KindEvents {
		for _, name := range rule.MappingNames {
			delete(x.Values, name) // they are a mapping
		}
	}
	if len(x.Values) == 0 {
		x.Values = nil
	}
	var err error
	if i.Kind == adapter.KindHTTP {
		x.Operations, err = w.Connections.Operations(ctx, i.ID)
	}
	return x, err
}

func (w *work) exportPairing(ctx context.Context, out *config.Setup) error {
	templates, err := w.Pairings.Templates(ctx)
	if err != nil {
		return err
	}
	for _, t := range templates {
		out.Templates = append(out.Templates, config.Template(t))
	}
	if err := w.exportScoreTemplates(ctx, out); err != nil {
		return err
	}
	hiding, err := w.Pairings.HidingRules(ctx)
	out.HiddenSections = append(out.HiddenSections, hiding...)
	if out.HiddenSections == nil {
		out.HiddenSections = hiding[:0:0]
	}
	return err
}

func (w *work) exportBadges(ctx context.Context, out *config.Setup) error {
	issuers, err := badgestore.Issuers(ctx, w.store)
	if err != nil {
		return err
	}
	for _, i := range issuers {
		out.Issuers = append(out.Issuers, config.Issuer{
			Name: i.Name, URL: i.URL, Email: i.Email, Description: i.Description, Terms: i.Terms,
		})
	}
	badges, err := badgestore.Badges(ctx, w.store, nil)
	if err != nil {
		return err
	}
	book, err := w.book(ctx)
	if err != nil {
		return err
	}
	for _, b := range badges {
		x := config.Badge{
			Name: b.Name, Issuer: b.Issuer, Description: b.Description, Criteria: b.Criteria, Tags: b.Tags,
			ValidDays: b.ValidDays, LastDay: b.LastDay, Renewable: b.Renewable, Level: b.Level, Design: b.Design,
			Asks: shownCriteria(book, stagestore.StagePlan{}, b.Asks),
		}
		if b.State != badgestore.Published {
			x.State = b.State
		}
		for _, a := range b.Alignments {
			x.Alignments = append(x.Alignments, config.BadgeAlignment(a))
		}
		out.Badges = append(out.Badges, x)
	}
	return nil
}

// exportOutlines leaves those out that were put together from what was reported.
func (w *work) exportOutlines(ctx context.Context, out *config.Setup) error {
	courses, err := learningstore.Courses(ctx, w.store)
	if err != nil {
		return err
	}
	book, err := w.book(ctx)
	if err != nil {
		return err
	}
	for _, c := range courses {
		if !c.HasOutline {
			continue
		}
		o, err := learningstore.Outline(ctx, w.store, c.ID)
		if err != nil {
			return err
		}
		if !o.Learned {
			out.Outlines = append(out.Outlines, config.Outline{
				Course: book.courses.name(c.ID), Percentages: o.Percentages, Modules: o.Modules,
			})
		}
	}
	slices.SortFunc(out.Outlines, func(a, b config.Outline) int { return cmp.Compare(a.Course, b.Course) })
	return nil
}

func (w *work) exportOffers(ctx context.Context, out *config.Setup) error {
	offers, err := purchasestore.Offers(ctx, w.store)
	if err != nil {
		return err
	}
	book, err := w.book(ctx)
	if err != nil {
		return err
	}
	for _, o := range offers {
		x := config.Offer{
			Name: o.Name, Interface: book.interfaces.name(o.InterfaceID), Offer: o.Offer, Term: o.TermRule,
			GraceDays: o.GraceDays, AtEnd: o.AtEnd, OnlyBuyers: o.OnlyBuyers,
		}
		for _, id := range o.SectionIDs {
			x.Sections = append(x.Sections, book.sections.name(id))
		}
		if o.CourseID != nil {
			x.Course = book.courses.name(*o.CourseID)
		}
		if o.PlatformID != nil {
			x.Platform = book.interfaces.name(*o.PlatformID)
		}
		out.Offers = append(out.Offers, x)
	}
	return nil
}

func (w *work) exportRules(ctx context.Context, out *config.Setup) error {
	rules, err := rulestore.Rules(ctx, w.store)
	if err != nil {
		return err
	}
	book, err := w.book(ctx)
	if err != nil {
		return err
	}
	for _, r := range rules {
		out.Rules = append(out.Rules, shownRule(book, r.Draft()))
	}
	return nil
}

func shownRule(book *names, d rule.Draft) config.Rule {
	x := config.Rule{
		Name: d.Name, Trigger: d.Trigger, Condition: d.Condition, Stop: d.Stop, Days: d.Days, Counts: string(d.Counts),
		UndoneBy: d.UndoneBy, QuietHours: d.QuietHours, Limit: d.Limit, InOrder: d.InOrder,
		Scope: config.Scope{Module: d.Scope.Module, Activity: d.Scope.Activity},
	}
	if !d.OncePerPerson {
		x.OncePerPerson = &d.OncePerPerson
	}
	if d.Scope.Course != "" {
		x.Scope.Course = book.courses.name(d.Scope.Course)
	}
	if d.Scope.Section != "" {
		x.Scope.Section = book.sections.name(d.Scope.Section)
	}
	for _, a := range d.Actions {
		shown := config.Action{
			Kind: a.Kind, After: a.After, If: a.If, Operation: a.Operation, Group: a.Group, To: a.To,
			Subject: a.Subject, Text: a.Text, Owner: a.Owner, DueIn: a.DueIn, Sheet: a.Sheet,
			Fields: a.Fields, UndoFields: a.UndoFields, Fallbacks: a.Fallbacks,
		}
		if a.InterfaceID != "" {
			shown.Interface = book.interfaces.name(a.InterfaceID)
		}
		if a.SectionID != "" {
			shown.Section = book.sections.name(a.SectionID)
		}
		if a.BadgeID != "" {
			shown.Badge = book.badges.name(a.BadgeID)
		}
		x.Actions = append(x.Actions, shown)
	}
	return x
}

func (w *work) exportStagePlans(ctx context.Context, out *config.Setup) error {
	plans, err := stagestore.StagePlans(ctx, w.store)
	if err != nil {
		return err
	}
	book, err := w.book(ctx)
	if err != nil {
		return err
	}
	for _, p := range plans {
		x := config.StagePlan{Name: p.Name, Course: book.courses.name(p.CourseID), AnyOrder: p.AnyOrder}
		for _, one := range p.Stages {
			x.Stages = append(x.Stages, shownStage(book, p, one))
		}
		out.StagePlans = append(out.StagePlans, x)
	}
	return nil
}

func shownStage(book *names, p stagestore.StagePlan, one stage.Stage) config.Stage {
	x := config.Stage{Title: one.Title, Optional: one.Optional}
	if one.BadgeID != "" {
		x.Badge = book.badges.name(one.BadgeID)
	}
	x.Criteria = shownCriteria(book, p, one.Criteria)
	return x
}

func shownCriteria(book *names, p stagestore.StagePlan, list []stage.Criterion) (out []config.Criterion) {
	for _, c := range list {
		shown := config.Criterion{
			Kind: c.Kind, Module: c.ModuleID, Activity: c.ActivityID, AtLeast: c.AtLeast, Need: c.Need,
			What: c.What, Of: shownCriteria(book, p, c.Of),
		}
		if c.CourseID != "" && c.CourseID != p.CourseID {
			shown.Course = book.courses.name(c.CourseID)
		}
		if c.BadgeID != "" {
			shown.Badge = book.badges.name(c.BadgeID)
		}
		out = append(out, shown)
	}
	return out
}

func (w *work) exportSettings(ctx context.Context, out *config.Setup) error {
	h, err := w.History.Show(ctx)
	if err != nil {
		return err
	}
	full, err := w.Runs.FullComparison(ctx)
	if err != nil {
		return err
	}
	recipient, err := w.Rules.TestRecipient(ctx)
	if err != nil {
		return err
	}
	across, err := w.Facts.Across(ctx)
	if err != nil {
		return err
	}
	verbs, err := w.Facts.Verbs(ctx)
	out.Settings = &config.Settings{
		HistoryMonths: &h.Months, FullComparison: &full.Schedule, TestRecipient: &recipient, ProgressAcross: &across,
		Verbs: append(verbs[:0:0], verbs...),
	}
	if out.Settings.Verbs == nil {
		out.Settings.Verbs = verbs[:0:0]
	}
	return err
}
