package findings

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/reachstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/rulestore"
)

// ThingKind says what sort of thing can have happened to somebody.
type ThingKind string

// The kinds of things.
const (
	ThingSection ThingKind = "section" // they are in it, and in its class outside
	ThingBadge   ThingKind = "badge"   // they hold it
	ThingStage   ThingKind = "stage"   // they have reached it
	ThingRule    ThingKind = "rule"    // it has done for them what it does
	ThingScore   ThingKind = "score"   // their score is in the book
	ThingEvent   ThingKind = "event"   // it was recorded of them, such as that they finished a module
)

// Thing is something that can have happened to somebody.
type Thing struct {
	Kind  ThingKind
	ID    string
	Title string
	Apart string // what tells it from others of the same title
}

// WhyStep is one of those that lead to a thing.
type WhyStep struct {
	Needed string // what is needed
	Met    bool
	Found  string // what is there
	At     *time.Time
	Code   finding.Code // a kind of finding that explains more, if any
	Remedy string       // what to do; empty where the step is met
	Owner  string       // who can do it
}

// Answer says why a thing has happened to somebody, or has not: its steps end with the first that is not met.
type Answer struct {
	Thing    Thing
	Person   string
	Happened bool
	At       *time.Time
	Steps    []WhyStep
	Again    string     // when it is looked at again, in words; empty once it has happened
	AgainAt  *time.Time // the same as a time, where it is known
}

// met adds a step that is met.
func (a *Answer) met(needed, found string, at *time.Time) {
	a.Steps = append(a.Steps, WhyStep{Needed: needed, Met: true, Found: found, At: at})
}

// ends adds the step at which it ended.
func (a *Answer) ends(s WhyStep) { a.Steps = append(a.Steps, s) }

// explained fills in what the catalogue says of a code.
func explained(s WhyStep, code finding.Code) WhyStep {
	if e, known := finding.Lookup(code); known {
		s.Code, s.Remedy, s.Owner = code, e.Remedy, string(e.Owner)
		if s.Found == "" {
			s.Found = e.Title
		}
	}
	return s
}

// StageAt is where somebody stands in a stage.
type StageAt struct {
	ID, Title, Plan, BadgeID string
	Reached, Open            bool
	At                       *time.Time
	Asks                     []CriterionAt
}

// CriterionAt is a criterion, in words, and whether somebody meets it.
type CriterionAt struct {
	Text string
	Met  bool
}

// Stages tells how far somebody has come in stages, and what they meet of criteria that belong to none.
type Stages interface {
	StagesOf(ctx context.Context, personID string) ([]StageAt, error)
	Meets(ctx context.Context, personID string, asks []stage.Criterion) ([]CriterionAt, error)
}

// ScoreAt is a score of somebody, as it was compared last.
type ScoreAt struct {
	LinkID, ItemID      string // of the score link, and of the assignment in it
	Assignment, Section string
	Given, InBook       string // as people read them; empty when there is none
	There               bool   // the book has what the source has
	Reason              finding.Code
}

// Scores tells of somebody's scores.
type Scores interface {
	ScoresOf(ctx context.Context, personID string) ([]ScoreAt, error)
}

// Conditions works out conditions of rules for an event, and names the values that they look at.
type Conditions interface {
	Verdict(ctx context.Context, e eventstore.Event, condition string) (holds bool, values string, err error)
}

// mostThings bounds how many of one kind are offered.
const mostThings = 20

// Things lists what can have happened to somebody and fits a text. Only what belongs to sections that are reached is
// listed; rules belong to the whole institution. total is how many fit: of many of one kind only the first are given.
func (s *Service) Things(ctx context.Context, personID, text string, within *permission.Reach) (out []Thing, total int,
	err error,
) {
	fits := func(parts ...string) bool {
		all := strings.ToLower(strings.Join(parts, " "))
		for _, w := range strings.Fields(strings.ToLower(text)) {
			if !strings.Contains(all, w) {
				return false
			}
		}
		return true
	}
	for _, list := range []func() ([]Thing, error){
		func() ([]Thing, error) { return s.sectionThings(ctx, within) },
		func() ([]Thing, error) { return s.badgeThings(ctx, within) },
		func() ([]Thing, error) { return s.stageThings(ctx, personID) },
		func() ([]Thing, error) { return s.scoreThings(ctx, personID, within) },
		func() ([]Thing, error) { return s.ruleThings(ctx, within) },
		func() ([]Thing, error) { return s.eventThings(ctx, personID, within) },
	} {
		some, err := list()
		if err != nil {
			return nil, 0, err
		}
		n := 0
		for _, t := range some {
			if !fits(t.Title, t.Apart) {
				continue
			}
			if n++; n <= mostThings {
				out = append(out, t)
			}
		}
		total += n
	}
	return out, total, nil
}

func (s *Service) sectionThings(ctx context.Context, within *permission.Reach) (out []Thing, err error) {
	all, err := rosterstore.Sections(ctx, s.Store)
	for _, x := range all {
		if !x.Gone && x.List == "" && (within == nil || within.Covers(x.ID)) {
			out = append(out, Thing{
				ThingSection, x.ID, x.Title,
				strings.TrimSpace(x.Code + " " + strings.Join(x.Terms, ", ")),
			})
		}
	}
	return out, err
}

func (s *Service) badgeThings(ctx context.Context, within *permission.Reach) (out []Thing, err error) {
	all, err := badgestore.Badges(ctx, s.Store, within)
	for _, b := range all {
		out = append(out, Thing{ThingBadge, b.ID, b.Name, b.Issuer})
	}
	return out, err
}

func (s *Service) stageThings(ctx context.Context, personID string) (out []Thing, err error) {
	all, err := s.Stages.StagesOf(ctx, personID)
	for _, x := range all {
		out = append(out, Thing{ThingStage, x.ID, x.Title, x.Plan})
	}
	return out, err
}

// scoreThings lists the scores in sections that are reached.
func (s *Service) scoreThings(ctx context.Context, personID string, within *permission.Reach) (out []Thing,
	err error,
) {
	all, err := s.scoresOf(ctx, personID, within)
	for _, x := range all {
		out = append(out, Thing{ThingScore, x.LinkID + "/" + x.ItemID, x.Assignment, x.Section})
	}
	return out, err
}

func (s *Service) scoresOf(ctx context.Context, personID string, within *permission.Reach) ([]ScoreAt, error) {
	all, err := s.Scores.ScoresOf(ctx, personID)
	if err != nil || within == nil {
		return all, err
	}
	reached, err := reachstore.Reached(ctx, s.Store, permission.OfScoreLink, *within)
	var out []ScoreAt
	for _, x := range all {
		if reached[x.LinkID] {
			out = append(out, x)
		}
	}
	return out, err
}

func (s *Service) ruleThings(ctx context.Context, within *permission.Reach) (out []Thing, err error) {
	if within != nil {
		return nil, nil
	}
	all, err := rulestore.Rules(ctx, s.Store)
	for _, r := range all {
		out = append(out, Thing{ThingRule, r.ID, r.Name, ""})
	}
	return out, err
}

// Why says why a thing has happened to somebody, or has not.
func (s *Service) Why(ctx context.Context, personID string, t Thing, within *permission.Reach) (a Answer, err error) {
	p, err := rosterstore.FindPerson(ctx, s.Store, personID)
	if err != nil {
		return a, err
	}
	answer := map[ThingKind]func(context.Context, string, string, *permission.Reach, *Answer) error{
		ThingSection: s.whySection, ThingBadge: s.whyBadge, ThingStage: s.whyStage, ThingScore: s.whyScore,
		ThingRule: s.whyRule, ThingEvent: s.whyEvent,
	}[t.Kind]
	if answer == nil {
		return a, refusal.Invalid("kind", "%q is not one of section, badge, stage, rule, score, event", t.Kind)
	}
	a = Answer{Thing: t, Person: p.Name()}
	if err := answer(ctx, personID, t.ID, within, &a); err != nil {
		return a, err
	}
	if a.Happened {
		a.Again, a.AgainAt = "", nil
	}
	return a, nil
}

// notThere is what is answered of things that there are not, or that belong to others.
func notThere(what string) error { return fmt.Errorf("finding the %s: %w", what, db.ErrNotFound) }

// whySection answers whether somebody is in a section, and in its class.
func (s *Service) whySection(ctx context.Context, personID, id string, within *permission.Reach, a *Answer) error {
	if uuid.Validate(id) != nil || within != nil && !within.Covers(id) {
		return notThere("section")
	}
	x, err := rosterstore.FindSection(ctx, s.Store, id)
	if err != nil {
		return err
	}
	a.Thing.Title = x.Title
	w, in, err := s.inSection(ctx, personID, x, a)
	if err != nil || !in {
		return err
	}
	return s.whyClass(ctx, w, a)
}

// inSection adds whether the register has somebody in a section now, and gives how.
func (s *Service) inSection(ctx context.Context, personID string, x rosterstore.Section, a *Answer) (
	w rosterstore.Whereabouts, in bool, err error,
) {
	places, err := rosterstore.WhereaboutsOf(ctx, s.Store, personID)
	if err != nil {
		return w, false, err
	}
	needed := "The register has them in " + x.Title
	for _, w := range places {
		if w.SectionID != x.ID {
			continue
		}
		switch {
		case w.BeginsOn != nil:
			a.ends(WhyStep{Needed: needed, Found: "from " + w.BeginsOn.Format(time.DateOnly) + " on", At: w.BeginsOn})
			a.Again, a.AgainAt = "on that day", w.BeginsOn
		case w.LeftAt != nil:
			a.ends(WhyStep{
				Needed: needed, Found: "they left it", At: w.LeftAt, Owner: string(finding.OwnerRegister),
				Remedy: "Enrol them again in the register, if they belong there.",
			})
			a.Again = "when the register is read next"
		default:
			a.met(needed, "as "+w.Role, &w.JoinedAt)
			return w, true, nil
		}
		return w, false, nil
	}
	a.ends(WhyStep{
		Needed: needed, Found: "it does not", Owner: string(finding.OwnerRegister), Remedy: "Enrol them in the register.",
	})
	a.Again = "when the register is read next"
	return w, false, nil
}

// whyClass answers whether somebody of a section is in its class outside.
func (s *Service) whyClass(ctx context.Context, w rosterstore.Whereabouts, a *Answer) error {
	if w.PairingID == "" {
		a.ends(WhyStep{
			Needed: "The section is paired with a class", Found: "it is not", Owner: string(finding.OwnerAdministrator),
			Remedy: "Pair the section, if its people belong into a class.",
		})
		a.Again = "when the section is paired"
		return nil
	}
	a.met("The section is paired with a class", w.Target+" at "+w.Service, nil)
	p, err := pairingstore.FindPairing(ctx, s.Store, w.PairingID)
	if err != nil && !errors.Is(err, db.ErrNotFound) {
		return err
	}
	needed := "They are in " + w.Target
	in := InClassOf(w)
	if in.State == "in" {
		a.met(needed, "Kanban put them in", in.Since)
		a.Happened, a.At = true, in.Since
		return nil
	}
	found := in.Why
	if found == "" {
		found = "they are not"
	}
	a.ends(WhyStep{Needed: needed, Found: found, At: in.AsOf, Code: in.Code, Remedy: in.Remedy, Owner: in.Owner})
	if a.Again, a.AgainAt = "when the class is compared next", p.NextAt; p.NextAt == nil {
		a.Again = "when somebody compares the class; it does not run by itself"
	}
	return nil
}

// whyBadge answers whether somebody holds a badge.
func (s *Service) whyBadge(ctx context.Context, personID, id string, within *permission.Reach, a *Answer) error {
	if uuid.Validate(id) != nil {
		return notThere("badge")
	}
	b, err := badgestore.FindListed(ctx, s.Store, id, within)
	if err != nil {
		return err
	}
	a.Thing.Title = b.Name
	awards, err := badgestore.Awards(ctx, s.Store, badgestore.AwardFilter{BadgeID: id, PersonID: personID, Limit: 1})
	if err != nil {
		return err
	}
	if len(awards) > 0 {
		s.whyAward(awards[0], a)
		return nil
	}
	if b.State != badgestore.Published {
		a.ends(WhyStep{
			Needed: "The badge is published", Found: "it is " + b.State, Owner: string(finding.OwnerAdministrator),
			Remedy: "Publish it, if it is to be awarded.",
		})
		return nil
	}
	a.met("The badge is published", "it is", nil)
	a.Again = "when something happens that it is awarded for"
	asks, err := s.Stages.Meets(ctx, personID, b.Asks)
	if err != nil {
		return err
	}
	if !s.criteria(asks, a) {
		return nil
	}
	stages, err := s.Stages.StagesOf(ctx, personID)
	if err != nil {
		return err
	}
	for _, x := range stages {
		if x.BadgeID == id && !x.Reached {
			s.stage(x, a)
			return nil
		}
	}
	return s.whyAwardedByRule(ctx, personID, id, within, a)
}

// whyAward answers what became of an award.
func (s *Service) whyAward(w badgestore.ListedAward, a *Answer) {
	now, by := s.Clock.Now(), "by a rule or a stage"
	if w.AwardedBy != "" {
		by = "by " + w.AwardedBy
	}
	a.met("It was awarded", by, &w.AwardedAt)
	switch {
	case w.RevokedAt != nil:
		a.ends(WhyStep{Needed: "The award holds", Found: "it was revoked: " + w.Reason, At: w.RevokedAt})
	case w.SuspendedAt != nil:
		a.ends(WhyStep{
			Needed: "The award holds", Found: "it is suspended: " + w.SuspendedReason, At: w.SuspendedAt,
			Remedy: "Restore it when the reason is settled.", Owner: string(finding.OwnerAdministrator),
		})
	case w.ValidUntil != nil && w.ValidUntil.Before(now):
		a.ends(WhyStep{Needed: "The award holds", Found: "its time has ended", At: w.ValidUntil})
	default:
		a.Happened, a.At = true, &w.AwardedAt
	}
}

// criteria adds what is asked, up to the first that is not met; all says whether everything is.
func (s *Service) criteria(asks []CriterionAt, a *Answer) (all bool) {
	for _, c := range asks {
		if !c.Met {
			a.ends(WhyStep{
				Needed: c.Text, Found: "not done yet", Owner: string(finding.OwnerLearner),
				Remedy: "They do it.",
			})
			return false
		}
		a.met(c.Text, "done", nil)
	}
	return true
}

// whyStage answers whether somebody has reached a stage.
func (s *Service) whyStage(ctx context.Context, personID, id string, _ *permission.Reach, a *Answer) error {
	all, err := s.Stages.StagesOf(ctx, personID)
	if err != nil {
		return err
	}
	for _, x := range all {
		if x.ID == id {
			a.Thing.Title, a.Thing.Apart = x.Title, x.Plan
			s.stage(x, a)
			return nil
		}
	}
	return notThere("stage")
}

func (s *Service) stage(x StageAt, a *Answer) {
	if x.Reached {
		a.met("The stage "+x.Title+" is reached", "it is", x.At)
		a.Happened, a.At = true, x.At
		return
	}
	a.Again = "when they do something in the course"
	if !s.criteria(x.Asks, a) {
		return
	}
	if !x.Open {
		a.ends(WhyStep{
			Needed: "The stages before are reached", Found: "they are not all", Owner: string(finding.OwnerLearner),
			Remedy: "They reach those first.",
		})
		return
	}
	a.ends(WhyStep{
		Needed: "The stage " + x.Title + " is reached", Found: "everything for it is done; it was not worked out yet",
	})
}

// whyScore answers whether somebody's score is in the book. The id is that of the score link, a slash and the
// assignment's.
func (s *Service) whyScore(ctx context.Context, personID, id string, within *permission.Reach, a *Answer) error {
	all, err := s.scoresOf(ctx, personID, within)
	if err != nil {
		return err
	}
	for _, x := range all {
		if x.LinkID+"/"+x.ItemID != id {
			continue
		}
		a.Thing.Title, a.Thing.Apart = x.Assignment, x.Section
		a.Again = "when the scores are compared next"
		if x.Given == "" {
			a.ends(WhyStep{
				Needed: "There is a score at the source", Found: "there is none", Owner: string(finding.OwnerTeacher),
				Remedy: "Mark the work.",
			})
			return nil
		}
		a.met("There is a score at the source", x.Given, nil)
		if x.There {
			a.met("It is in the book", x.InBook, nil)
			a.Happened = true
			return nil
		}
		step := explained(WhyStep{Needed: "It may be carried to the book"}, x.Reason)
		if step.Found == "" {
			step.Found = "the next carrying takes it along"
		}
		if x.InBook != "" {
			step.Found += "; the book has " + x.InBook
		}
		a.ends(step)
		return nil
	}
	return notThere("score")
}
