package config

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/app/badges"
	"kanban/internal/app/connections"
	"kanban/internal/app/pairings"
	"kanban/internal/app/rules"
	"kanban/internal/core/badge"
	"kanban/internal/core/learning"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/core/visibility"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/stagestore"
	"kanban/internal/wire/config"
)

type hidden = visibility.SectionRule

// byName finds what has a name, ignoring case.
func byName[T any](all []T, name string, of func(T) string) (found T, ok bool) {
	i := slices.IndexFunc(all, func(x T) bool { return strings.EqualFold(of(x), strings.TrimSpace(name)) })
	if i < 0 {
		return found, false
	}
	return all[i], true
}

// takeConnection makes a connection or changes it, with its interfaces. Those that the file does not
// name stay.
func (w *work) takeConnection(ctx context.Context, x config.Connection, t *taken) error {
	details := connections.Details{
		Owner: &x.Owner, Address: &x.Address, Notes: &x.Notes, AtOnce: &x.AtOnce, PerMinute: &x.PerMinute,
		RestAfter: &x.RestAfter,
	}
	all, err := connectionstore.Connections(ctx, w.store)
	if err != nil {
		return err
	}
	c, there := byName(all, x.Name, func(c connectionstore.Connection) string { return c.Name })
	if there {
		c, err = w.Connections.EditConnection(ctx, w.who, c.ID, 0, connections.EditConnection{
			Name: &x.Name, Details: details,
		})
	} else {
		c, _, _, err = w.Connections.Connect(ctx, w.who, connections.NewConnection{Name: x.Name, Details: details})
	}
	if err != nil {
		return err
	}
	for n, i := range x.Interfaces {
		if err := w.takeInterface(ctx, c, i, t); err != nil {
			return under(err, t.item, fmt.Sprintf("interfaces[%d]", n))
		}
	}
	return nil
}

func (w *work) takeInterface(ctx context.Context, c connectionstore.Connection, x config.Interface, t *taken) error {
	kind, ok := adapter.Lookup(x.Kind)
	if !ok {
		return faulty{t.item.Fault("kind", "%q is not a kind of interface; see which there are: kanban interfaces kinds", x.Kind)}
	}
	for _, f := range kind.Fields {
		if _, given := x.Values[f.Name]; given && (f.Secret || f.Made) {
			return faulty{t.item.Fault("values."+f.Name, "secrets and what Kanban makes do not stand in files; leave it away and enter it when the interface is there")}
		}
	}
	all, err := connectionstore.InterfacesOf(ctx, w.store, c.ID)
	if err != nil {
		return err
	}
	i, there := byName(all, x.Label, func(i connectionstore.Interface) string { return i.Label })
	switch {
	case !there && x.Label == "" && len(all) > 0:
		return faulty{t.item.Fault("label", "is missing: the connection has several interfaces; say what this one is for")}
	case !there:
		i, _, err = w.Connections.Add(ctx, w.who, c.ID, connections.NewInterface{
			Kind: x.Kind, Label: x.Label, Values: x.Values, Held: true,
		})
		if err != nil {
			return err
		}
		t.note("%s arrives paused%s", i.Name, toEnter(kind))
	case i.Kind != x.Kind:
		return faulty{t.item.Fault("kind", "%s is of kind %s, which cannot be changed; remove it first, or give this one another label", i.Name, i.Kind)}
	default:
		before := i
		i, err = w.Connections.Update(ctx, w.who, i.ID, 0, connections.Change{
			Values: valuesFor(kind, x.Values), Held: true,
		})
		if err != nil {
			return err
		}
		if before.PausedAt == nil && i.PausedAt != nil {
			t.note("%s leads to another host: it is paused%s", i.Name, toEnter(kind))
		}
	}
	return w.takeOperations(ctx, i, x.Operations)
}

// toEnter says which credentials a person has to enter.
func toEnter(kind adapter.Kind) string {
	_, titles := kind.Missing(nil)
	if len(titles) == 0 {
		if slices.ContainsFunc(kind.Fields, func(f adapter.Field) bool { return f.Made && f.Secret }) {
			return " until a person lets it go on; nobody knows its secret, so give it a new one for the other side"
		}
		return " until a person lets it go on"
	}
	return " until a person has entered: " + strings.Join(titles, ", ")
}

// valuesFor are all values of an interface but its secrets and what was made for the other side: what is
// not given is as by default. What events mean stands elsewhere.
func valuesFor(kind adapter.Kind, given map[string]string) map[string]string {
	values := map[string]string{}
	for _, f := range kind.Fields {
		if f.Secret || f.Made || kind.Name == adapter.KindEvents && slices.Contains(rule.MappingNames, f.Name) {
			continue
		}
		values[f.Name] = f.Default
	}
	maps.Copy(values, given)
	return values
}

// takeOperations makes the operations of an interface those of the file: first those that are new, so
// that others can name them to undo what they do.
func (w *work) takeOperations(ctx context.Context, i connectionstore.Interface, all []rule.Operation) error {
	if i.Kind != adapter.KindHTTP && len(all) > 0 {
		return refusedField("operations", "only an interface of kind %s has operations", adapter.KindHTTP)
	}
	there, err := w.Connections.Operations(ctx, i.ID)
	if err != nil {
		return err
	}
	has := func(list []rule.Operation, name string) bool {
		return slices.ContainsFunc(list, func(o rule.Operation) bool { return o.Name == name })
	}
	for n, o := range all {
		if o.Undo = ""; has(there, o.Name) {
			continue
		}
		if err := w.Rules.KeepOperation(ctx, w.who, i.ID, o); err != nil {
			return at(err, fmt.Sprintf("operations[%d]", n))
		}
	}
	for n, o := range all {
		if err := w.Rules.KeepOperation(ctx, w.who, i.ID, o); err != nil {
			return at(err, fmt.Sprintf("operations[%d]", n))
		}
	}
	for _, o := range there {
		if !has(all, o.Name) {
			if err := w.Rules.DropOperation(ctx, w.who, i.ID, o.Name); err != nil {
				return at(err, "operations")
			}
		}
	}
	return nil
}

func (w *work) takeMatching(ctx context.Context, x config.Matching, t *taken) error {
	r, err := w.refs(ctx, t)
	if err != nil {
		return err
	}
	id := r.viaInterface("interface", x.Interface)
	if err := r.err(); err != nil {
		return err
	}
	t.name = r.book.interfaces.name(id)
	m := roster.Matching{Keys: x.Keys, Domains: x.Domains, Exclude: x.Exclude}
	if m.Domains == nil {
		m.Domains = []roster.DomainRule{}
	}
	if m.Exclude == nil {
		m.Exclude = []roster.Exclusion{}
	}
	paired, err := matchstore.PairingsThrough(ctx, w.store, id)
	if err != nil {
		return err
	}
	if len(paired) > 0 {
		t.note("%d pairings with %s are compared anew; nothing runs by that alone", len(paired), t.name)
	}
	return w.Matching.Change(ctx, w.who, id, 0, m)
}

func (w *work) takeMapping(ctx context.Context, x config.Mapping, t *taken) error {
	r, err := w.refs(ctx, t)
	if err != nil {
		return err
	}
	id := r.viaInterface("interface", x.Interface)
	if err := r.err(); err != nil {
		return err
	}
	i, err := connectionstore.FindInterface(ctx, w.store, id)
	if err != nil {
		return err
	}
	if i.Kind != adapter.KindEvents {
		return faulty{t.item.Fault("interface", "%s reports no events; a mapping is for an interface of kind %s", i.Name,
			adapter.KindEvents)}
	}
	t.name = i.Name
	kind, _ := adapter.Lookup(i.Kind)
	values := map[string]string{
		"person": x.Person, "starts": x.Starts, "ends": x.Ends, "offer": x.Offer, "order": x.Order,
		"buyerName": x.BuyerName, "scores": x.Scores,
	}
	for _, f := range kind.Fields {
		if v, is := values[f.Name]; is && v == "" {
			values[f.Name] = f.Default
		}
	}
	_, err = w.Connections.Update(ctx, w.who, id, 0, connections.Change{Values: values, Held: true})
	return err
}

func (w *work) takeTemplates(ctx context.Context, all []config.Template) error {
	list := make([]pairings.Template, len(all))
	for i, t := range all {
		list[i] = pairings.Template(t)
	}
	return w.Pairings.SetTemplates(ctx, w.who, list)
}

func (w *work) takeIssuer(ctx context.Context, x config.Issuer) error {
	all, err := badgestore.Issuers(ctx, w.store)
	if err != nil {
		return err
	}
	i, there := byName(all, x.Name, func(i badgestore.Issuer) string { return i.Name })
	if !there {
		_, err = w.Badges.AddIssuer(ctx, w.who, badgestore.Issuer{
			Name: x.Name, URL: x.URL, Email: x.Email, Description: x.Description, Terms: x.Terms,
		})
		return err
	}
	_, err = w.Badges.EditIssuer(ctx, w.who, badgestore.Issuer{
		ID: i.ID, Name: x.Name, URL: x.URL, Email: x.Email, Description: x.Description, Terms: x.Terms,
	})
	return err
}

func (w *work) takeBadge(ctx context.Context, x config.Badge, t *taken) error {
	all, err := badgestore.Badges(ctx, w.store, nil)
	if err != nil {
		return err
	}
	b, there := byName(all, x.Name, func(b badgestore.ListedBadge) string { return b.Name })
	r, err := w.refs(ctx, t)
	if err != nil {
		return err
	}
	issuer := r.find(r.book.issuers, "issuer", "issuer", "badges issuers", x.Issuer)
	asks := criteriaOf(r, "asks", x.Asks)
	if err := r.err(); err != nil {
		return err
	}
	alignments := []badgestore.Alignment{}
	for _, a := range x.Alignments {
		alignments = append(alignments, badgestore.Alignment(a))
	}
	state := cmp.Or(x.State, badgestore.Published)
	if !there {
		made, err := w.Badges.AddBadge(ctx, w.who, badgestore.Badge{
			IssuerID: issuer, Name: x.Name, Description: x.Description, Criteria: x.Criteria, Asks: asks,
			Tags: x.Tags, Alignments: alignments, ValidDays: x.ValidDays, State: state, LastDay: x.LastDay,
			Renewable: x.Renewable, Level: x.Level,
		})
		if err != nil {
			return err
		}
		return w.takeDesign(ctx, made, x.Design)
	}
	if b.IssuerID != issuer {
		return refusedField("issuer", "the badge is %s's, and another issuer cannot take it over; give this one another name", b.Issuer)
	}
	changed, err := w.Badges.EditBadge(ctx, w.who, b.ID, 0, badges.EditBadge{
		Description: &x.Description, Criteria: &x.Criteria, Asks: &asks, Tags: &x.Tags, Alignments: &alignments,
		ValidDays: &x.ValidDays, State: &state, LastDay: &x.LastDay, Renewable: &x.Renewable, Level: &x.Level,
	})
	if err == nil {
		err = w.takeDesign(ctx, b.Badge, x.Design)
	}
	if err == nil && changed.Version != b.Version {
		t.note("was awarded already: it becomes version %d, and whoever holds it keeps theirs", changed.Version)
	}
	return err
}

// takeDesign draws a badge's picture as a file says; a picture that is drawn here goes where the file has none.
func (w *work) takeDesign(ctx context.Context, b badgestore.Badge, design *badge.Design) (err error) {
	switch {
	case design != nil && (b.Design == nil || *b.Design != *design):
		_, err = w.Badges.Draw(ctx, w.who, b.ID, *design)
	case design == nil && b.Design != nil:
		_, err = w.Badges.SetPicture(ctx, w.who, b.ID, nil)
	}
	return err
}

func (w *work) takeOutline(ctx context.Context, x config.Outline, t *taken) error {
	r, err := w.refs(ctx, t)
	if err != nil {
		return err
	}
	course := r.course("course", x.Course)
	if err := r.err(); err != nil {
		return err
	}
	t.name = r.book.courses.name(course)
	t.note("everybody's progress in the course is worked out anew")
	return w.Outlines.SetOutline(ctx, w.who, course, learning.Outline{Modules: x.Modules, Percentages: x.Percentages})
}

func optional(id string) *string {
	if id == "" {
		return nil
	}
	return &id
}

func (w *work) takeOffer(ctx context.Context, x config.Offer, t *taken) error {
	r, err := w.refs(ctx, t)
	if err != nil {
		return err
	}
	o := purchasestore.Offer{
		Name: x.Name, InterfaceID: r.viaInterface("interface", x.Interface), Offer: x.Offer,
		CourseID: optional(r.course("course", x.Course)), TermRule: x.Term,
		PlatformID: optional(r.viaInterface("platform", x.Platform)), GraceDays: x.GraceDays, AtEnd: x.AtEnd,
		OnlyBuyers: x.OnlyBuyers,
	}
	for i, name := range x.Sections {
		o.SectionIDs = append(o.SectionIDs, r.section(fmt.Sprintf("sections[%d]", i), name))
	}
	if err := r.err(); err != nil {
		return err
	}
	all, err := purchasestore.Offers(ctx, w.store)
	if err != nil {
		return err
	}
	was, there := byName(all, x.Name, func(o purchasestore.Offer) string { return o.Name })
	if !there {
		now := w.Purchases.Clock.Now()
		o.OffSince = &now
		t.note("arrives off: it gives nothing until somebody switches it on")
	} else if was.OffSince == nil {
		t.note("is switched off: it gives and takes nothing until somebody switches it on")
		if _, err := w.Purchases.Switch(ctx, w.who, was.ID, false); err != nil {
			return err
		}
	}
	_, err = w.Purchases.Save(ctx, w.who, was.ID, 0, o)
	return err
}

// draftOf gives a rule as it is kept, with what it names looked up.
func draftOf(r *refs, x config.Rule) rule.Draft {
	d := rule.Draft{
		Name: x.Name, Trigger: x.Trigger, Condition: x.Condition, Stop: x.Stop, Days: x.Days,
		Counts: rule.Counts(x.Counts), OncePerPerson: x.OncePerPerson == nil || *x.OncePerPerson,
		UndoneBy: x.UndoneBy, QuietHours: x.QuietHours, Limit: x.Limit, InOrder: x.InOrder,
		Scope: rule.Scope{
			Course: r.course("scope.course", x.Scope.Course), Section: r.section("scope.section", x.Scope.Section),
			Module: x.Scope.Module, Activity: x.Scope.Activity,
		},
	}
	for i, a := range x.Actions {
		at := fmt.Sprintf("actions[%d].", i)
		d.Actions = append(d.Actions, rule.Action{
			Kind: a.Kind, After: a.After, If: a.If, InterfaceID: r.viaInterface(at+"interface", a.Interface),
			Operation: a.Operation, SectionID: r.section(at+"section", a.Section), Group: a.Group,
			BadgeID: r.badge(at+"badge", a.Badge), To: a.To, Subject: a.Subject, Text: a.Text, Owner: a.Owner,
			DueIn: a.DueIn, Sheet: a.Sheet, Fields: a.Fields, UndoFields: a.UndoFields, Fallbacks: a.Fallbacks,
		})
	}
	return d
}

func (w *work) takeRule(ctx context.Context, x config.Rule, t *taken) error {
	r, err := w.refs(ctx, t)
	if err != nil {
		return err
	}
	d := draftOf(r, x)
	if err := r.err(); err != nil {
		return err
	}
	all, err := rulestore.Rules(ctx, w.store)
	if err != nil {
		return err
	}
	was, there := byName(all, x.Name, func(r rulestore.Rule) string { return r.Name })
	switch {
	case !there:
		t.note("arrives off: try it and switch it on")
	case was.OnSince != nil:
		t.note("is switched off: try it and switch it on; what is still to come of the older one is finished")
		if _, err := w.Rules.Switch(ctx, w.who, was.ID, false, rules.FinishThem); err != nil {
			return err
		}
	}
	_, err = w.Rules.Save(ctx, w.who, was.ID, 0, d)
	return err
}

// criteriaOf gives the criteria of a stage or a group.
func criteriaOf(r *refs, at string, list []config.Criterion) (out []stage.Criterion) {
	for n, c := range list {
		at := fmt.Sprintf("%s[%d].", at, n)
		out = append(out, stage.Criterion{
			Kind: c.Kind, CourseID: r.course(at+"course", c.Course), ModuleID: c.Module, ActivityID: c.Activity,
			AtLeast: c.AtLeast, BadgeID: r.badge(at+"badge", c.Badge), What: strings.TrimSpace(c.What),
			Of: criteriaOf(r, at+"of", c.Of), Need: c.Need,
		})
	}
	return out
}

func (w *work) takeStagePlan(ctx context.Context, x config.StagePlan, t *taken) error {
	r, err := w.refs(ctx, t)
	if err != nil {
		return err
	}
	p := stagestore.StagePlan{Name: x.Name, CourseID: r.course("course", x.Course), AnyOrder: x.AnyOrder}
	for i, s := range x.Stages {
		at := fmt.Sprintf("stages[%d].", i)
		one := stage.Stage{Title: s.Title, Optional: s.Optional, BadgeID: r.badge(at+"badge", s.Badge)}
		one.Criteria = criteriaOf(r, at+"criteria", s.Criteria)
		p.Stages = append(p.Stages, one)
	}
	if err := r.err(); err != nil {
		return err
	}
	all, err := stagestore.StagePlans(ctx, w.store)
	if err != nil {
		return err
	}
	was, there := byName(all, x.Name, func(p stagestore.StagePlan) string { return p.Name })
	switch {
	case !there:
		t.note("arrives off: look at what it would find and switch it on")
	case was.OnSince != nil:
		t.note("is switched off: look at what it would find and switch it on")
		if _, err := w.Stages.Switch(ctx, w.who, was.ID, false); err != nil {
			return err
		}
	}
	keepStages(was.Stages, p.Stages)
	_, err = w.Stages.Save(ctx, w.who, was.ID, 0, p)
	return err
}

// keepStages gives stages the ids of those that they are: the ones with their titles, or the ones in
// their places that got another title. Who reached a stage is kept by its id.
func keepStages(was, next []stage.Stage) {
	of := func(list []stage.Stage, title string) int {
		title = strings.TrimSpace(title)
		return slices.IndexFunc(list, func(s stage.Stage) bool { return strings.EqualFold(s.Title, title) })
	}
	for i := range next {
		if at := of(was, next[i].Title); at >= 0 {
			next[i].ID = was[at].ID
		} else if i < len(was) && of(next, was[i].Title) < 0 {
			next[i].ID = was[i].ID
		}
		for _, s := range was {
			if s.ID == next[i].ID {
				keepApprovals(s.Criteria, next[i].Criteria)
			}
		}
	}
}

// keepApprovals gives approvals the ids of those that say the same. What was approved is kept by its id.
func keepApprovals(was, next []stage.Criterion) {
	ids := map[string]string{}
	for _, c := range was {
		for leaf := range c.Leaves {
			if leaf.Kind == stage.Approval {
				ids[strings.ToLower(leaf.What)] = leaf.ApprovalID
			}
		}
	}
	var give func([]stage.Criterion)
	give = func(all []stage.Criterion) {
		for i := range all {
			if all[i].Kind == stage.Approval {
				all[i].ApprovalID = ids[strings.ToLower(all[i].What)]
			}
			give(all[i].Of)
		}
	}
	give(next)
}

func (w *work) takeSettings(ctx context.Context, x config.Settings) error {
	if x.HistoryMonths != nil {
		if _, err := w.History.Keep(ctx, w.who, *x.HistoryMonths, 0); err != nil {
			return at(err, "historyMonths")
		}
	}
	if x.FullComparison != nil {
		if err := w.Runs.SetFullComparison(ctx, w.who, *x.FullComparison); err != nil {
			return at(err, "fullComparison")
		}
	}
	if x.TestRecipient != nil {
		if err := w.Rules.SetTestRecipient(ctx, w.who, *x.TestRecipient); err != nil {
			return at(err, "testRecipient")
		}
	}
	if x.ProgressAcross != nil {
		if err := w.Facts.SetAcross(ctx, w.who, *x.ProgressAcross); err != nil {
			return err
		}
	}
	if x.Verbs != nil {
		if err := w.Facts.SetVerbs(ctx, w.who, x.Verbs); err != nil {
			return at(err, "verbs")
		}
	}
	return nil
}
