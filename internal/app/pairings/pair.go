package pairings

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/naming"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
)

// Wish is what to pair.
type Wish struct {
	SectionID   string // any section of a linked set means the set
	InterfaceID string
	TargetName  string // of a new class; made by the template when empty
	TargetRef   string // an existing class at the service instead of a new one
	Template    string // name of a template; the usual one when empty
	Naming      string // names a new class instead of the template's own naming
	Policy      *roster.Policy
	Details     map[string]string // for what the register does not say about a new class, by name
}

// Remark is a precondition that was looked at and that somebody should know of.
type Remark struct {
	Code   finding.Code
	Detail string
	Blocks bool // the pairing cannot be made
}

// Outlook is what would become of a wish, found out before anything happens.
type Outlook struct {
	Wish
	Card    Card // as it is now
	Name    string
	Policy  roster.Policy
	About   map[string]string // what the class is made with, by name
	Missing []string          // what the service wants to know and nothing says
	Remarks []Remark
}

// Blocked reports whether the wish cannot be fulfilled.
func (o Outlook) Blocked() bool {
	return slices.ContainsFunc(o.Remarks, func(r Remark) bool { return r.Blocks })
}

// Pairing makes the record of a wish that is not blocked.
func (o Outlook) Pairing() pairingstore.Pairing {
	p := pairingstore.Pairing{
		ID: db.NewID(), SectionID: o.Card.Section.ID, InterfaceID: o.InterfaceID,
		TargetName: o.Name, TargetRef: o.TargetRef, Details: o.About, Policy: o.Policy, Version: 1,
	}
	if p.TargetRef != "" {
		p.TakeOver = pairingstore.TakesOverNext
	}
	if o.Card.Set != nil {
		p.SectionID, p.SetID = o.Card.Set.LeadID, &o.Card.Set.ID
	}
	return p
}

// fewWishes is up to how many names are looked up one by one at a service; above
// it all of its classes are listed.
const fewWishes = 10

// looking is what PreviewAll knows while it goes through wishes.
type looking struct {
	*Service
	cards     []Card
	templates []Template
	paused    pauses
	services  map[string]*service
}

// service is one service as wishes need it.
type service struct {
	via       connectionstore.Interface
	workspace *workspaces.Workspace
	held      []pairingstore.Held
	listed    []workspaces.Space // nil when not listed
	names     map[string]string  // by key: what has the name already
	unchecked error              // why names could not be looked up
}

// PreviewAll says what would become of wishes: the classes' names, and every
// precondition that is not fulfilled. Nothing is changed anywhere.
func (s *Service) PreviewAll(ctx context.Context, wishes []Wish) ([]Outlook, error) {
	l, err := s.looking(ctx)
	if err != nil {
		return nil, err
	}
	list := make([]Outlook, len(wishes))
	for i, w := range wishes {
		if list[i], err = l.outlook(ctx, w, len(wishes)); err != nil {
			return nil, err
		}
	}
	return list, nil
}

func (s *Service) looking(ctx context.Context) (*looking, error) {
	l := &looking{Service: s, services: map[string]*service{}}
	var err error
	if l.cards, err = s.cards(ctx); err != nil {
		return nil, err
	}
	if l.templates, err = s.Templates(ctx); err != nil {
		return nil, err
	}
	l.paused, err = s.paused(ctx)
	return l, err
}

// card finds the card of a section; of its set when it is linked.
func (l *looking) card(sectionID string) (Card, error) {
	at := slices.IndexFunc(l.cards, func(c Card) bool {
		return c.Section.ID == sectionID || c.Set != nil &&
			slices.ContainsFunc(c.Set.Sections, func(x rosterstore.Section) bool { return x.ID == sectionID })
	})
	if at < 0 {
		return Card{}, refusal.Invalid("sectionId", "there is no section %q; see which there are: kanban sections list",
			sectionID)
	}
	return l.cards[at], nil
}

func (l *looking) outlook(ctx context.Context, w Wish, wishes int) (Outlook, error) {
	o := Outlook{Wish: w}
	var err error
	if o.Card, err = l.card(w.SectionID); err != nil {
		return o, err
	}
	x, err := l.service(ctx, w.InterfaceID)
	if err != nil {
		return o, err
	}
	t, err := template(l.templates, w.Template)
	if err != nil {
		return o, err
	}
	t.Target = cmp.Or(w.Naming, t.Target)
	if o.Policy = t.Policy; w.Policy != nil {
		o.Policy = *w.Policy
	}
	if err := errors.Join(CheckPolicy(o.Policy), CheckDetails(w.Details)); err != nil {
		return o, err
	}
	l.sections(&o, x)
	if w.TargetRef != "" {
		return o, l.existing(ctx, &o, x)
	}
	l.name(ctx, &o, x, t, wishes)
	o.details(x, t)
	return o, nil
}

// details finds what the service wants to know of a new class: by the template out of the
// register, and where that says nothing as the wish says.
func (o *Outlook) details(x *service, t Template) {
	o.About = map[string]string{}
	known := values(o.Card)
	for _, d := range workspaces.Details {
		if x.via.Settings[d.Setting] == "" {
			continue
		}
		value := cmp.Or(naming.Known(cmp.Or(t.Details[d.Name], "{"+d.Name+"}"), known),
			strings.TrimSpace(o.Wish.Details[d.Name]))
		if o.About[d.Name] = value; value == "" {
			delete(o.About, d.Name)
			o.Missing = append(o.Missing, d.Name)
		}
	}
	if len(o.Missing) > 0 {
		refuses := x.via.Settings["classComplete"] == "yes"
		o.remark(finding.DetailMissing, refuses, "%s wants the %s of %s, which the register does not say",
			x.via.Name, strings.Join(o.Missing, " and the "), o.Card.Title())
	}
}

func (l *looking) service(ctx context.Context, id string) (*service, error) {
	if x := l.services[id]; x != nil {
		return x, nil
	}
	c, ok := l.paused.interfaces[id]
	if !ok {
		return nil, refusal.Invalid("interfaceId",
			"there is no interface %q; see which there are: kanban interfaces list", id)
	}
	if c.Kind != adapter.KindSCIM {
		return nil, refusal.Invalid("interfaceId", "%s cannot take people; choose an interface of kind %s", c.Name,
			adapter.KindSCIM)
	}
	opened, err := l.Connections.Open(ctx, id)
	if err != nil {
		return nil, err
	}
	x := &service{via: c, workspace: workspaces.New(opened, l.Call), names: map[string]string{}}
	if x.held, err = pairingstore.TargetsAt(ctx, l.Store, id); err != nil {
		return nil, err
	}
	for _, h := range x.held {
		x.names[naming.Key(h.Name)] = "a class that is paired already"
	}
	l.services[id] = x
	return x, nil
}

func (o *Outlook) remark(code finding.Code, blocks bool, format string, args ...any) {
	o.Remarks = append(o.Remarks, Remark{code, fmt.Sprintf(format, args...), blocks})
}

// sections looks at the section, or at all of a set.
func (l *looking) sections(o *Outlook, x *service) {
	parts := []rosterstore.Section{*o.Card.Section}
	if o.Card.Set != nil {
		parts = o.Card.Set.Sections
	}
	for _, p := range parts {
		switch {
		case p.Gone:
			o.remark(finding.SectionGone, true, "%s is no longer in the register", p.Title)
		case p.Ended(l.Clock.Now()):
			o.remark(finding.SectionEnded, true, "%s ended on %s", p.Title, p.EndsOn.Format("2 January 2006"))
		}
	}
	if slices.ContainsFunc(l.cards, func(c Card) bool {
		return c.Section.ID == o.Card.Section.ID && c.Pairing != nil && c.Pairing.InterfaceID == o.InterfaceID
	}) {
		o.remark(finding.AlreadyPaired, true, "%s is paired through %s already; a section has one target per service",
			o.Card.Title(), x.via.Name)
	}
	if o.Card.Learners == 0 {
		o.remark(finding.SectionEmpty, false, "no learner is enrolled in %s", o.Card.Title())
	}
	if most, _ := strconv.Atoi(x.via.Settings["mostMembers"]); most > 0 &&
		o.Card.Learners+len(o.Card.Teachers) > most {
		o.remark(finding.TargetTooSmall, true, "%d people, and %s allows %d", o.Card.Learners+len(o.Card.Teachers),
			x.via.Name, most)
	}
}

// name makes the name of a new class and looks whether another one has it.
func (l *looking) name(ctx context.Context, o *Outlook, x *service, t Template, wishes int) {
	var err error
	if o.Name = strings.TrimSpace(o.TargetName); o.Name == "" {
		if o.Name, err = naming.Name(t.Target, values(o.Card)); err != nil {
			o.remark(finding.NameUnfit, true, "%v", err)
			return
		}
	}
	if n := len([]rune(o.Name)); n > pairingstore.MaxTargetName {
		o.remark(finding.NameUnfit, true, "the name must have 1 to %d characters, this has %d",
			pairingstore.MaxTargetName, n)
		return
	}
	key := naming.Key(o.Name)
	if taken, ok := x.names[key]; ok {
		o.remark(finding.NameTaken, false, "%s is also the name of %s", o.Name, taken)
	} else if there, err := x.hasName(ctx, o.Name, wishes); err != nil {
		if x.unchecked == nil { // said once, not for every section
			o.remark(adapter.CodeOf(err), false, "whether %s has a class of this name is not known: %v",
				x.via.Name, err)
		}
		x.unchecked = err
	} else if there {
		o.remark(finding.NameTaken, false, "%s has a class of the name %s already; to use that one, choose it",
			x.via.Name, o.Name)
	}
	x.names[key] = o.Card.Title()
}

// hasName asks the service whether it has a class of a name.
func (x *service) hasName(ctx context.Context, name string, wishes int) (bool, error) {
	if x.unchecked != nil {
		return false, x.unchecked
	}
	var named []workspaces.Space
	var err error
	if wishes <= fewWishes {
		named, err = x.workspace.Named(ctx, name)
	} else {
		named, err = x.spaces(ctx)
	}
	return slices.ContainsFunc(named,
		func(s workspaces.Space) bool { return naming.Key(s.Name) == naming.Key(name) }), err
}

// spaces lists the service's classes with their members, once.
func (x *service) spaces(ctx context.Context) ([]workspaces.Space, error) {
	if x.listed != nil {
		return x.listed, nil
	}
	var err error
	x.listed, err = x.workspace.Spaces(ctx)
	return x.listed, err
}

// existing looks at a class that is there already.
func (l *looking) existing(ctx context.Context, o *Outlook, x *service) error {
	ranked, err := l.rank(ctx, o.Card, x)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(ranked, func(c Candidate) bool { return c.Ref == o.TargetRef })
	if i < 0 {
		return refusal.Invalid("targetRef", "%s has no class %q; see what it has: kanban pairings candidates",
			x.via.Name, o.TargetRef)
	}
	c := ranked[i]
	o.Name = cmp.Or(strings.TrimSpace(o.TargetName), c.Space.Name)
	o.Remarks = append(o.Remarks, c.Remarks...)
	return nil
}

// Pair joins a section or linked set with a target. A new target is made by the
// first run, so that nothing happens at the service before somebody has seen the
// preview.
func (s *Service) Pair(ctx context.Context, who string, w Wish) (pairingstore.Pairing, error) {
	list, err := s.PreviewAll(ctx, []Wish{w})
	if err != nil {
		return pairingstore.Pairing{}, err
	}
	o := list[0]
	for _, r := range o.Remarks {
		switch {
		case r.Blocks && r.Code == finding.NameUnfit:
			return pairingstore.Pairing{}, refusal.Invalid("target", "%s", r.Detail)
		case r.Blocks:
			return pairingstore.Pairing{}, refusal.Conflict(r.Code, "%s", r.Detail)
		}
	}
	var p pairingstore.Pairing
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		p, err = s.Make(ctx, tx, who, o)
		return err
	})
	if errors.Is(err, db.ErrTaken) {
		return p, refusal.Conflict(finding.AlreadyPaired,
			"%s, or the class, was paired in the meantime; a section has one target per service", o.Card.Title())
	}
	return p, err
}

// Make keeps the pairing of an outlook that is not blocked.
func (s *Service) Make(ctx context.Context, tx *db.Tx, who string, o Outlook) (pairingstore.Pairing, error) {
	p := o.Pairing()
	p.NextAt = s.Schedules.NextRun(p, s.Clock.Now())
	if err := db.Create(tx, &p, "making the pairing"); err != nil {
		return p, err
	}
	if p.TargetRef != "" {
		if err := pairingstore.InheritPlacements(ctx, tx, p); err != nil {
			return p, err
		}
	}
	return p, s.audit(ctx, tx, who, "paired a section", p)
}
