package findings

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
)

// pairings gives what stopped runs, what a person has to decide about sections and
// targets, and everybody who is not simply in step.
func (s *Service) pairings(ctx context.Context) ([]Finding, error) {
	at := s.Clock.Now()
	all, err := pairingstore.Noteworthy(ctx, s.Store, at)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, p := range all {
		ids = append(ids, p.ID)
	}
	sections, err := pairingstore.SectionsOfPairings(ctx, s.Store, ids)
	if err != nil {
		return nil, err
	}
	var list []Finding
	for _, p := range all {
		some, err := s.pairing(ctx, p, sections[p.ID], at)
		if err != nil {
			return nil, err
		}
		list = append(list, of(permission.OfPairing, p.ID, some)...)
	}
	return list, nil
}

// pairing gives what is to be said of one pairing.
func (s *Service) pairing(ctx context.Context, p pairingstore.Pairing, section rosterstore.Section, at time.Time) (
	[]Finding, error,
) {
	link := "/pairings/" + p.ID
	one := func(code finding.Code, detail string) []Finding {
		return []Finding{noticed(Mend, code, section.Title, p.TargetName, detail, link)}
	}
	switch {
	case section.Ended(at): // nothing else is to be done about it
		return one(finding.TermOver, fmt.Sprintf("ended on %s; %s in the class",
			section.EndsOn.Format("2 January 2006"), inClass(p))), nil
	case section.Gone:
		return one(finding.SectionGone, inClass(p)+" in the class"), nil
	case p.PausedAt != nil:
		return nil, nil
	case p.TargetLost:
		return one(finding.TargetGone, "deleted there by somebody"), nil
	case p.LastFailed && p.LastRunID != nil:
		run, err := runstore.FindRun(ctx, s.Store, *p.LastRunID)
		if err != nil {
			return nil, err
		}
		failed := one(finding.Code(cmp.Or(run.ErrorCode, string(finding.RunFailed))), run.Error)
		return append(failed, aboutPairing(p, section, link)...), nil
	}
	return aboutPairing(p, section, link), nil
}

// aboutPairing says what is to be said of a pairing that runs.
func aboutPairing(p pairingstore.Pairing, section rosterstore.Section, link string) (list []Finding) {
	tell := func(group Group, code finding.Code, detail string) {
		list = append(list, noticed(group, code, section.Title, p.TargetName, detail, link))
	}
	if p.TargetSeen != "" && p.TargetSeen != p.TargetName {
		tell(Remark, finding.TargetRenamed, "it is called "+p.TargetSeen+" there")
	}
	if p.Guarded > 0 && p.RanAt != nil {
		tell(Mend, finding.RemovalGuard, fmt.Sprintf("%d people would be taken out", p.Guarded))
	}
	if p.Unminded > 0 {
		tell(Mend, finding.TakeOverOffered, peopleOf(p.Unminded)+" of the section")
	}
	for _, m := range p.Mend {
		if p.LastRunID != nil && !p.LastFailed {
			list = append(list, about(Mend, m, section.Title, link))
		}
	}
	for _, m := range p.LeftAsIs {
		group := LeftOut
		if m.Outcome == roster.OutcomeWaiting {
			group = Waiting
		}
		list = append(list, about(group, m, section.Title, link))
	}
	return list
}

// leftGroups gives the groups inside classes that are for no section any more, by class.
func (s *Service) leftGroups(ctx context.Context) (list []Finding, err error) {
	all, err := linkstore.LeftGroups(ctx, s.Store, "")
	if err != nil {
		return nil, err
	}
	for _, g := range all {
		said := "nobody whom Kanban put in is in it"
		if g.Placed > 0 {
			said = peopleOf(g.Placed) + " whom Kanban put in"
		}
		list = append(list, noticed(Remark, finding.GroupLeft, cmp.Or(g.Section, "a section that is gone"), g.Class,
			said, "/sections/linked"))
	}
	return list, nil
}

// How long before the last day of a term its classes are remarked upon, and need a person,
// in days.
const (
	remarkTerm = 60
	mendTerm   = 14
)

// terms gives the terms that come to their end, with how many classes belong to them.
func (s *Service) terms(ctx context.Context) (list []Finding, err error) {
	at := s.Clock.Now()
	all, err := pairingstore.Endings(ctx, s.Store, at, at.AddDate(0, 0, remarkTerm))
	for _, e := range all {
		group, days := Remark, int(e.On.Sub(at.UTC().Truncate(24*time.Hour)).Hours()/24)
		if days <= mendTerm {
			group = Mend
		}
		f := noticed(group, finding.TermEnds, "classes", strings.Join(e.Terms, ", "), e.On.Format("2 January 2006"),
			"/next-term")
		f.Subject, f.Count = fmt.Sprintf("%d classes", e.Classes), e.Classes
		if e.Classes == 1 {
			f.Subject = "1 class"
		}
		f.Detail = fmt.Sprintf("the last day is %s, in %d days", f.Detail, days)
		f.Key += string(group) // acknowledged, it shows again when it needs a person
		list = append(list, f)
	}
	return list, err
}

// inClass says how many people Kanban minds who are in the class of a pairing, whatever is to
// become of them.
func inClass(p pairingstore.Pairing) string {
	n := p.Counts[roster.OutcomeInStep] + p.Counts[roster.OutcomeUpdate] + p.Counts[roster.OutcomeRemove]
	if n == 1 {
		return "1 person is"
	}
	return peopleOf(n) + " are"
}

func peopleOf(n int) string {
	if n == 1 {
		return "1 person"
	}
	return fmt.Sprintf("%d people", n)
}

func about(group Group, m pairingstore.Mend, section, link string) Finding {
	detail := m.Detail
	if m.Code == finding.AddressShared {
		detail = fmt.Sprintf("shared with %s", m.Detail)
	}
	f := noticed(group, m.Code, m.Name, section, detail, link)
	f.Person, f.Since = m.PersonID, m.Since
	return f
}
