// Package findings gathers everything that was noticed: what needs a person
// today, what waits, who is left out on purpose, and what was wrong with the
// register's records.
package findings

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"

	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/core/report"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/reachstore"
	"kanban/internal/store/reportstore"
	"kanban/internal/store/rulestore"
)

// Purchases tells where access and enrolment disagree.
type Purchases interface {
	Disagreements(ctx context.Context) ([]Disagreement, error)
}

// Progress tells what was done for completions that hold no longer.
type Progress interface {
	Reversals(ctx context.Context) ([]Reversal, error)
}

// Rules names the way on which a rule would set itself off again; empty when there is none.
type Rules interface {
	Circle(ctx context.Context, r rulestore.Rule) ([]string, error)
}

// Sections counts the sections that lists show by state, and those that are being run.
type Sections interface {
	States(ctx context.Context, within *permission.Reach) (states map[roster.State]int, running int, err error)
}

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	Clock clock.Clock
	// What is nil is not asked.
	Purchases Purchases
	Progress  Progress
	Rules     Rules
	Sections  Sections
	// For why something happened to somebody, or did not.
	Stages     Stages
	Scores     Scores
	Conditions Conditions
}

// Disagreement is somebody whose access and enrolment do not agree.
type Disagreement struct {
	Code             finding.Code
	Person, PersonID string
	Section          string
	Offer, OfferID   string
}

// Reversal is something that was done for a person because of a completion that holds no
// longer.
type Reversal struct {
	Person, PersonID string
	What             string // what is not completed any more
	Done             string // what was done for it
	Kind, CourseID   string // of the completion
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
	Where   string // the section, interface or rule
	Detail  string
	Link    string     // the console page on which to look at it
	Person  string     // id of the person, if it is about one
	Count   int        // how many things it stands for
	Since   *time.Time // when it was found first, where that is known
	Seen    *reportstore.Acknowledgement
	People  []Finding // the findings that it stands for, where it groups people
	// Of is what it belongs to, a pairing, a score link or a task, and ID which one; empty where it is of the whole
	// institution.
	Of permission.Subject
	ID string
}

// of says to what findings belong.
func of(subject permission.Subject, id string, list []Finding) []Finding {
	for i := range list {
		list[i].Of, list[i].ID = subject, id
	}
	return list
}

func noticed(group Group, code finding.Code, subject, where, detail, link string) Finding {
	f := Finding{Group: group, Code: code, Subject: subject, Where: where, Detail: detail, Link: link, Count: 1}
	f.Key = fmt.Sprintf("%016x", xxhash.Sum64String(strings.Join([]string{string(code), subject, where, detail, link},
		"\x00")))
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
	Seen   bool
	Within *permission.Reach // only what belongs to these sections; all when nil
}

func (f Filter) fits(x Finding) bool {
	e, _ := finding.Lookup(x.Code)
	text := strings.ToLower(x.Subject + " " + x.Where + " " + x.Detail)
	return (f.Group == "" || f.Group == x.Group) && (f.Code == "" || f.Code == x.Code) &&
		(f.Owner == "" || f.Owner == string(e.Owner)) &&
		(f.Person == "" || f.Person == x.Person) && strings.Contains(text, strings.ToLower(f.Text)) &&
		f.Seen == (x.Seen != nil)
}

// Findings lists what fits the filter: what needs a person first, ordered by
// harm, then what waits, what is left out, and remarks about the register.
func (s *Service) Findings(ctx context.Context, f Filter) ([]Finding, error) {
	all, err := s.all(ctx, f.Within)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(all, func(x Finding) bool { return !f.fits(x) }), nil
}

// within leaves what belongs to sections that somebody reaches. What is the institution's is not among it.
func (s *Service) within(ctx context.Context, list []Finding, reach *permission.Reach) ([]Finding, error) {
	if reach == nil {
		return list, nil
	}
	reached := map[permission.Subject]map[string]bool{}
	for _, subject := range []permission.Subject{permission.OfPairing, permission.OfScoreLink, permission.OfTask} {
		ids, err := reachstore.Reached(ctx, s.Store, subject, *reach)
		if err != nil {
			return nil, err
		}
		reached[subject] = ids
	}
	return slices.DeleteFunc(list, func(f Finding) bool { return !reached[f.Of][f.ID] }), nil
}

// RosterCauses counts by code what needs a person so that rosters are right: what scores, rules, their deliveries and
// what people buy need is elsewhere.
func (s *Service) RosterCauses(ctx context.Context) (map[finding.Code]report.Ages, error) {
	list, err := s.gather(ctx, s.interfaces, s.registers, s.pairings, s.leftGroups, s.terms)
	out := map[finding.Code]report.Ages{}
	now := s.Clock.Now()
	for _, f := range list {
		if f.Group != Mend || f.Seen != nil {
			continue
		}
		c := out[f.Code]
		c.Add(f.Count, f.Since, now)
		out[f.Code] = c
	}
	return out, err
}

// all gathers everything, in the order in which it is listed.
func (s *Service) all(ctx context.Context, within *permission.Reach) ([]Finding, error) {
	list, err := s.gather(ctx, s.interfaces, s.resting, s.statements, s.refused, s.registers, s.pairings, s.leftGroups,
		s.terms,
		s.deliveries, s.lacking, s.reversals, s.accesses, s.tasks, s.scores, s.unsent, s.miscounted)
	if err != nil {
		return nil, err
	}
	return s.within(ctx, list, within)
}

// gather gives what some find, in the order in which it is listed, each with whether it was acknowledged.
func (s *Service) gather(ctx context.Context, from ...func(context.Context) ([]Finding, error)) ([]Finding, error) {
	seen, err := reportstore.Acknowledgements(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	var list []Finding
	for _, find := range from {
		some, err := find(ctx)
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

// Acknowledge keeps a finding quiet, with a note, until it changes: one of some sections, or any when within is nil.
func (s *Service) Acknowledge(ctx context.Context, who, key, note string, within *permission.Reach) error {
	all, err := s.all(ctx, within)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(f Finding) bool { return f.Key == key })
	keys := []string{key}
	if i < 0 { // one that stands for many?
		all, err = s.Today(ctx, within)
		if err != nil {
			return err
		}
		if i = slices.IndexFunc(all, func(f Finding) bool { return f.Key == key }); i >= 0 {
			keys = nil
			for _, f := range all[i].People {
				keys = append(keys, f.Key)
			}
		}
	}
	if i < 0 {
		return refusal.Invalid("key", "there is no finding %q now; see which there are: kanban findings list", key)
	}
	if strings.TrimSpace(note) == "" {
		return refusal.Invalid("note", "is missing: say why this may stay as it is")
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		for _, key := range keys {
			if err := reportstore.Acknowledge(ctx, tx, key, note, who); err != nil {
				return err
			}
		}
		if err := tx.Audit(ctx, who, "acknowledged a finding", "finding/"+string(all[i].Code),
			map[string]any{"about": all[i].Subject, "where": all[i].Where, "note": note}); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", "")
	})
}

// Reopen drops an acknowledgement: of a finding of some sections, or of any when within is nil.
func (s *Service) Reopen(ctx context.Context, who, key string, within *permission.Reach) error {
	if within != nil {
		all, err := s.all(ctx, within)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(all, func(f Finding) bool { return f.Key == key && f.Seen != nil }) {
			return fmt.Errorf("dropping the acknowledgement: %w", db.ErrNotFound)
		}
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := reportstore.DropAcknowledgement(ctx, tx, key); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "reopened a finding", "finding/"+key, nil); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", "")
	})
}
