package badges

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"kanban/internal/core/badge"
	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
)

// What becomes of somebody who is to be awarded a badge.
const (
	ToAward     = "to-award" // looked at only
	AwardedNow  = "awarded"
	HeldAlready = "held"
	Refused     = "refused"
)

// Wish is a badge for somebody, by hand or from a file.
type Wish struct {
	Line   int    // in a file; 0 by hand
	Person string // an id, or in a file an identifier, an address or a user name
	Badge  string // its id, or in a file its name
	// SectionID is where it was earned; "" when it does not matter.
	SectionID string
	Note      string
	Evidence  []badgestore.Evidence
	At        time.Time // zero for now

	courseID string // of the section
	wrong    string // why the row cannot be used
}

// Awarding is what becomes of a wish.
type Awarding struct {
	Wish
	PersonID, Name   string
	BadgeID, Title   string
	Outcome, Because string
	AwardID          string
	Unmet            []string // what the badge asks for and they have not done; a person decides
	renews           string   // the award whose place it takes
}

// mostWishes bounds how many are awarded at once.
const mostWishes = 20_000

// AwardByHand awards a badge to people, or only says what would become of them.
func (s *Service) AwardByHand(ctx context.Context, who Awarder, badgeID string, people []string, w Wish, apply bool) (
	[]Awarding, error,
) {
	if len(people) == 0 {
		return nil, refusal.Invalid("people", "is missing: choose who is awarded")
	}
	if len(people) > mostWishes {
		return nil, refusal.Invalid("people", "are more than %d; award them in parts", mostWishes)
	}
	if err := w.check(s.Clock.Now()); err != nil {
		return nil, err
	}
	found, err := rosterstore.PeopleByID(ctx, s.Store, people)
	if err != nil {
		return nil, err
	}
	known := map[string]rosterstore.Person{}
	for _, p := range found {
		known[p.ID] = p
	}
	b, err := badgestore.FindBadge(ctx, s.Store, badgeID)
	if err == nil {
		err = awardable(b)
	}
	if err != nil {
		return nil, err
	}
	r, err := s.reach(ctx, who, b.IssuerID)
	if err != nil {
		return nil, err
	}
	reached, err := s.reached(ctx, people, r)
	if err != nil {
		return nil, err
	}
	if w.SectionID != "" {
		x, err := rosterstore.FindSection(ctx, s.Store, w.SectionID)
		if errors.Is(err, db.ErrNotFound) || !r.Covers(w.SectionID) {
			return nil, refusal.Invalid("sectionId", "there is no section %q", w.SectionID)
		}
		if err != nil {
			return nil, err
		}
		w.courseID = x.CourseID
	}
	var all []Awarding
	for _, id := range people {
		w.Person = id
		a := Awarding{Wish: w, PersonID: id, Name: known[id].Name(), BadgeID: b.ID, Title: b.Name}
		if _, ok := known[id]; !ok || !reached[id] {
			return nil, refusal.Invalid("people", "there is nobody with the id %s", id)
		}
		a.addressed(known[id])
		all = append(all, a)
	}
	return all, s.award(ctx, who.Name, all, map[string]badgestore.Badge{b.ID: b}, apply)
}

func (w Wish) check(now time.Time) error {
	if len(w.Note) > 2000 {
		return refusal.Invalid("note", "is longer than 2,000 characters")
	}
	if w.At.After(now.Add(time.Minute)) {
		return refusal.Invalid("date", "is in the future")
	}
	for _, e := range w.Evidence {
		if u, err := url.Parse(e.Address); e.Address != "" &&
			(err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "") {
			return refusal.Invalid("evidence", "%q is not a full address", e.Address)
		}
		if e.Address == "" && strings.TrimSpace(e.Text) == "" {
			return refusal.Invalid("evidence", "is empty")
		}
	}
	return nil
}

// addressed refuses people without an address: a credential says by it whose it is.
func (a *Awarding) addressed(p rosterstore.Person) {
	if strings.TrimSpace(p.Email) == "" {
		a.Outcome, a.Because = Refused, "has no e-mail address, which the credential needs to say whose it is"
	}
}

// award does what was wished, or only says what would become of it. Nobody is awarded twice, whatever is repeated.
func (s *Service) award(ctx context.Context, who string, all []Awarding, badges map[string]badgestore.Badge,
	apply bool,
) error {
	people := map[string]bool{}
	for _, a := range all {
		if a.PersonID != "" {
			people[a.PersonID] = true
		}
	}
	held, err := badgestore.Holders(ctx, s.Store, slices.Collect(maps.Keys(badges)), slices.Collect(maps.Keys(people)))
	if err != nil {
		return err
	}
	first := map[[2]string]int{}
	for i := range all {
		a := &all[i]
		if a.Outcome != "" {
			continue
		}
		key := [2]string{a.BadgeID, a.PersonID}
		if at, twice := first[key]; twice {
			a.Outcome, a.Because = Refused, "stands here twice"
			if all[at].Line > 0 {
				a.Because = fmt.Sprintf("stands in line %d already", all[at].Line)
			}
			continue
		}
		first[key] = i
		a.look(held[key], badges[a.BadgeID], s.Clock.Now())
	}
	if err := s.unmet(ctx, all, badges); err != nil || !apply {
		return err
	}
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(max(2, runtime.NumCPU()))
	for i := range all {
		if all[i].Outcome == ToAward {
			work.Go(func() error { return s.awardOne(ctx, who, &all[i], badges[all[i].BadgeID]) })
		}
	}
	return work.Wait()
}

// unmet notes what those who are to be awarded have not done of what the badges ask for.
func (s *Service) unmet(ctx context.Context, all []Awarding, badges map[string]badgestore.Badge) error {
	for id, b := range badges {
		var people []string
		for _, a := range all {
			if a.BadgeID == id && a.Outcome == ToAward {
				people = append(people, a.PersonID)
			}
		}
		if len(b.Asks) == 0 || len(people) == 0 {
			continue
		}
		unmet, err := s.Criteria.Unmet(ctx, b.Asks, people)
		if err != nil {
			return err
		}
		for i := range all {
			if all[i].BadgeID == id && all[i].Outcome == ToAward {
				all[i].Unmet = unmet[all[i].PersonID]
			}
		}
	}
	return nil
}

// look says what becomes of a wish of somebody who holds the badge, or not.
func (a *Awarding) look(held badgestore.Held, b badgestore.Badge, now time.Time) {
	until := ""
	if held.ValidUntil != nil {
		until = held.ValidUntil.UTC().Format(time.DateOnly)
	}
	switch ended := held.ValidUntil != nil && !held.ValidUntil.After(now); {
	case held.ID == "":
		a.Outcome = ToAward
	case b.Renewable && badge.Renews(held.ValidUntil, now):
		a.Outcome, a.Because, a.renews = ToAward, "renews the one until "+until, held.ID
	case ended:
		a.Outcome, a.AwardID = HeldAlready, held.ID
		a.Because = "held it until " + until + "; make the badge renewable to award it again"
	default:
		a.Outcome, a.Because, a.AwardID = HeldAlready, "holds it already", held.ID
	}
}

func (s *Service) awardOne(ctx context.Context, who string, w *Awarding, b badgestore.Badge) error {
	a := badgestore.Award{
		BadgeID: b.ID, PersonID: w.PersonID, AwardedAt: w.At, AwardedBy: who, Note: w.Note, Evidence: w.Evidence,
	}
	if a.AwardedAt.IsZero() {
		a.AwardedAt = s.Clock.Now()
	}
	if w.SectionID != "" {
		a.SectionID, a.CourseID = &w.SectionID, &w.courseID
	}
	err := s.give(ctx, &a, b, 0, w.renews, func(tx *db.Tx) error {
		what := map[string]string{"badge": b.Name, "person": a.PersonID}
		return tx.Audit(ctx, who, "awarded a badge", "award/"+a.ID, what)
	})
	refused, isRefused := refusal.As(err)
	switch {
	case errors.Is(err, db.ErrTaken): // somebody else awarded it meanwhile
		w.Outcome, w.Because = HeldAlready, "holds it already"
	case isRefused:
		w.Outcome, w.Because = Refused, refused.Detail
	case err != nil:
		return err
	default:
		w.Outcome, w.AwardID = AwardedNow, a.ID
	}
	return nil
}
