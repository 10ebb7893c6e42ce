// Package reporting gathers everything that was noticed: what needs a person
// today, what waits, who is left out on purpose, and what was wrong with the
// register's records.
package reporting

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *store.Store
	// Now tells the time, for terms that are over; time.Now when nil.
	Now func() time.Time
	// Disagreements between access and enrolment; nil when nobody offers anything.
	Disagreements func(ctx context.Context) ([]Disagreement, error)
	// States counts the sections that lists show by state, and those that are being run; nil
	// when sections are not to be looked at.
	States func(ctx context.Context) (states map[roster.State]int, running int, err error)
}

// Disagreement is somebody whose access and enrolment do not go together.
type Disagreement struct {
	Code             finding.Code
	Person, PersonID string
	Section          string
	Offer, OfferID   string
}

func (s *Service) now() time.Time {
	if s.Now != nil {
		return s.Now()
	}
	return time.Now()
}

// Group says what kind of attention a finding wants.
type Group string

// The groups.
const (
	Mend    Group = "mend"     // somebody has to do something
	Waiting Group = "waiting"  // passes by itself: held back, or no account in use yet
	LeftOut Group = "left-out" // on purpose; never alarms
	Remark  Group = "remark"   // about records of the register; good to know
)

// Finding is one thing that was noticed.
type Finding struct {
	// Key stands for exactly this finding. It changes when the finding does, so
	// that something acknowledged shows again when it becomes something else.
	Key     string
	Group   Group
	Code    finding.Code
	Subject string // who or what it is about
	Where   string // the section, connection or rule
	Detail  string
	Link    string // the console page on which to look at it
	Person  string // id of the person, if it is about one
	Count   int    // how many things it stands for
	Seen    *store.Acknowledgement
}

func noticed(group Group, code finding.Code, subject, where, detail, link string) Finding {
	f := Finding{Group: group, Code: code, Subject: subject, Where: where, Detail: detail, Link: link, Count: 1}
	f.Key = fmt.Sprintf("%016x", xxhash.Sum64String(strings.Join([]string{string(code), subject, where, detail, link}, "\x00")))
	return f
}

// Filter narrows a list of findings; empty fields do not.
type Filter struct {
	Group  Group
	Code   finding.Code
	Owner  string
	Text   string // in subject, place or detail, ignoring case
	Person string // id of a person
	// Seen lists what was acknowledged instead of what was not.
	Seen bool
}

func (f Filter) fits(x Finding) bool {
	e, _ := finding.Lookup(x.Code)
	text := strings.ToLower(x.Subject + " " + x.Where + " " + x.Detail)
	return (f.Group == "" || f.Group == x.Group) && (f.Code == "" || f.Code == x.Code) && (f.Owner == "" || f.Owner == string(e.Owner)) &&
		(f.Person == "" || f.Person == x.Person) && strings.Contains(text, strings.ToLower(f.Text)) && f.Seen == (x.Seen != nil)
}

// Findings lists what fits the filter: what needs a person first, ordered by
// harm, then what waits, what is left out, and remarks about the register.
func (s *Service) Findings(ctx context.Context, f Filter) ([]Finding, error) {
	all, err := s.all(ctx)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(all, func(x Finding) bool { return !f.fits(x) }), nil
}

// Today lists what needs a person and has not been acknowledged, ordered by
// harm: connections that do not work, reads and runs that stopped, deliveries
// that wait, people to mend. What is the same about one person in several sections
// is one thing to do.
func (s *Service) Today(ctx context.Context) ([]Finding, error) {
	all, err := s.Findings(ctx, Filter{Group: Mend})
	if err != nil {
		return nil, err
	}
	list := []Finding{}
	first := map[[3]string]int{}
	for _, f := range all {
		key := [3]string{f.Person, string(f.Code), f.Detail}
		if i, ok := first[key]; ok && f.Person != "" {
			list[i].Where += ", " + f.Where
			continue
		}
		first[key] = len(list)
		list = append(list, f)
	}
	return list, nil
}

// all gathers everything, in the order in which it is listed.
func (s *Service) all(ctx context.Context) ([]Finding, error) {
	seen, err := s.Store.Acknowledgements(ctx)
	if err != nil {
		return nil, err
	}
	var list []Finding
	for _, gather := range []func(context.Context) ([]Finding, error){s.connections, s.resting, s.statements, s.registers, s.pairings, s.deliveries, s.accesses, s.tasks} {
		some, err := gather(ctx)
		if err != nil {
			return nil, err
		}
		list = append(list, some...)
	}
	for i := range list {
		if a, ok := seen[list[i].Key]; ok {
			list[i].Seen = &a
		}
	}
	rank := func(f Finding) int {
		return slices.Index([]Group{Mend, Waiting, LeftOut, Remark}, f.Group)*10 + harm(f)
	}
	slices.SortStableFunc(list, func(a, b Finding) int { return cmp.Compare(rank(a), rank(b)) })
	return list, nil
}

// harm orders what needs a person: whatever stops most comes first.
func harm(f Finding) int {
	switch {
	case strings.HasPrefix(f.Link, "/connections"):
		return 0
	case strings.HasPrefix(f.Link, "/events"), strings.HasPrefix(f.Link, "/deliveries"):
		return 2
	case f.Person != "":
		return 3
	}
	return 1
}

// Resting is a service, or one operation of it, that fails in a row.
type Resting struct {
	store.Rest
	Waiting int // deliveries that wait for it
}

// worthTelling is how long a service may fail before that is told, if it does not rest.
const worthTelling = 30 * time.Second

// Rests gives what fails in a row, at one connection or (id empty) at all, with how many
// deliveries wait for it.
func (s *Service) Rests(ctx context.Context, connectionID string) ([]Resting, error) {
	all, err := s.Store.Rests(ctx, connectionID)
	if err != nil {
		return nil, err
	}
	list := make([]Resting, len(all))
	for i, r := range all {
		list[i].Rest = r
		if list[i].Waiting, err = s.Store.WaitingFor(ctx, r.ConnectionID, r.Operation); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// resting gives the services and operations that are left alone for a while, or have done
// nothing but fail for some time.
func (s *Service) resting(ctx context.Context) ([]Finding, error) {
	all, err := s.Rests(ctx, "")
	if err != nil || len(all) == 0 {
		return nil, err
	}
	names, err := s.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	now := s.now()
	var list []Finding
	for _, r := range all {
		i := slices.IndexFunc(names, func(c store.Connection) bool { return c.ID == r.ConnectionID })
		rests := r.RestsUntil != nil && r.RestsUntil.After(now)
		if i < 0 || !rests && (r.Operation != "" || r.Since == nil || now.Sub(*r.Since) < worthTelling) {
			continue
		}
		code, subject := finding.ServiceResting, "service"
		if r.Operation != "" {
			code, subject = finding.OperationResting, r.Title
		}
		// Neither times nor counts that change by themselves are in it: what was
		// acknowledged would come back every few seconds.
		list = append(list, noticed(Mend, code, subject, names[i].Name, r.Reason, "/connections"))
		list[len(list)-1].Detail = describeRest(r, rests)
	}
	return list, nil
}

func describeRest(r Resting, rests bool) string {
	text := r.Reason
	if r.Waiting > 0 {
		text += fmt.Sprintf("; deliveries waiting: %d", r.Waiting)
	}
	if rests {
		text += "; tried again at " + r.RestsUntil.UTC().Format("15:04 UTC")
	}
	return text
}

// layLong is how long a statement may lie before that is told.
const layLong = 24 * time.Hour

// statements gives those from which nothing has followed for a day.
func (s *Service) statements(ctx context.Context) ([]Finding, error) {
	all, err := s.Store.UnresolvedStatements(ctx, learning.NoMeaning, s.now().Add(-layLong))
	var list []Finding
	for _, u := range all {
		f := noticed(Mend, finding.StatementWaits, "statements of the platform", u.Connection, u.Note, "/connections")
		f.Detail = fmt.Sprintf("%s: %d since %s", u.Note, u.N, u.Since.Format("2 January 2006"))
		list = append(list, f)
	}
	return list, err
}

// connections gives what the probes found.
func (s *Service) connections(ctx context.Context) ([]Finding, error) {
	all, err := s.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	var list []Finding
	for _, c := range all {
		if c.Trouble != "" && c.PausedAt == nil {
			list = append(list, noticed(Mend, finding.Code(c.TroubleCode), "comparing", c.Name, c.Trouble, "/connections"))
		}
		var reports []adapter.Report
		if c.PausedAt != nil || len(c.Probe) == 0 || json.Unmarshal(c.Probe, &reports) != nil {
			continue
		}
		for _, r := range reports {
			if r.Code != "" && string(r.Code) != c.TroubleCode {
				list = append(list, noticed(Mend, r.Code, string(r.Capability), c.Name, r.Detail, "/connections"))
			}
		}
	}
	return list, nil
}

// registers gives what stopped the newest read of each register, and what was
// wrong with its records.
func (s *Service) registers(ctx context.Context) ([]Finding, error) {
	all, err := s.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	var list []Finding
	for _, c := range all {
		if !adapter.IsRegister(c.Kind) {
			continue
		}
		runs, err := s.Store.Runs(ctx, "", c.ID, "", 1)
		if err != nil {
			return nil, err
		}
		for _, r := range runs {
			link := "/runs/" + r.ID
			if r.State == store.Failed && c.PausedAt == nil {
				list = append(list, noticed(Mend, finding.Code(r.ErrorCode), c.Name, "reading the register", r.Error, link))
			}
			for _, n := range r.Findings {
				group := Remark
				if e, ok := finding.Lookup(n.Code); ok && e.Severity == finding.Block {
					group = Mend
				}
				f := noticed(group, n.Code, n.Subject, c.Name, n.Detail, "")
				f.Link = link // the run is another one after each read, the finding is the same
				list = append(list, f)
			}
		}
	}
	return list, nil
}

// pairings gives what stopped runs, what a person has to decide about sections and
// targets, and everybody who is not simply in step.
func (s *Service) pairings(ctx context.Context) ([]Finding, error) {
	at := s.now()
	all, err := s.Store.Noteworthy(ctx, at)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, p := range all {
		ids = append(ids, p.ID)
	}
	sections, err := s.Store.SectionsOfPairings(ctx, ids)
	if err != nil {
		return nil, err
	}
	var list []Finding
	for _, p := range all {
		section := sections[p.ID]
		link := "/pairings/" + p.ID
		tell := func(group Group, code finding.Code, detail string) {
			list = append(list, noticed(group, code, section.Title, p.TargetName, detail, link))
		}
		if section.Ended(at) {
			tell(Mend, finding.TermOver, fmt.Sprintf("ended on %s; %s in the class", section.EndsOn.Format("2 January 2006"), inClass(p)))
			continue // nothing else is to be done about it
		}
		if section.Gone {
			tell(Mend, finding.SectionGone, inClass(p)+" in the class")
			continue
		}
		if p.PausedAt != nil {
			continue
		}
		switch {
		case p.TargetSeen == store.TargetLost:
			tell(Mend, finding.TargetGone, "deleted there by somebody")
			continue
		case p.LastFailed && p.LastRunID != nil:
			run, err := s.Store.Run(ctx, *p.LastRunID)
			if err != nil {
				return nil, err
			}
			tell(Mend, finding.Code(cmp.Or(run.ErrorCode, string(finding.RunFailed))), run.Error)
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
		for _, m := range p.Quiet {
			group := LeftOut
			if m.Outcome == roster.OutcomeWaiting {
				group = Waiting
			}
			list = append(list, about(group, m, section.Title, link))
		}
	}
	return list, nil
}

// inClass says how many people Kanban minds who are in the class of a pairing, whatever is to
// become of them.
func inClass(p store.Pairing) string {
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

func about(group Group, m store.Mend, section, link string) Finding {
	detail := m.Detail
	if m.Code == finding.AddressShared {
		detail = fmt.Sprintf("shared with %s", m.Detail)
	}
	f := noticed(group, m.Code, m.Name, section, detail, link)
	f.Person = m.PersonID
	return f
}

// Acknowledge keeps a finding quiet, with a note, until it changes.
func (s *Service) Acknowledge(ctx context.Context, who, key, note string) error {
	all, err := s.all(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(f Finding) bool { return f.Key == key })
	if i < 0 {
		return refusal.Invalid("key", "there is no finding %q now; list them with: kanban findings list", key)
	}
	if strings.TrimSpace(note) == "" {
		return refusal.Invalid("note", "is missing: say why this may stay as it is")
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.Acknowledge(ctx, key, note, who); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "acknowledged a finding", "finding/"+string(all[i].Code), map[string]any{"about": all[i].Subject, "where": all[i].Where, "note": note}); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", "")
	})
}

// Reopen takes an acknowledgement back.
func (s *Service) Reopen(ctx context.Context, who, key string) error {
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.Reopen(ctx, key); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "reopened a finding", "finding/"+key, nil); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", "")
	})
}
