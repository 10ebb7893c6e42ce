// Package holders gives people who hold badges a page of their own: what they have and what is missing, what others
// may see of it, and everything to take away. It is reached by a link in a mail and stays when they leave.
package holders

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"kanban/internal/adapter/mails"
	"kanban/internal/app/badges"
	"kanban/internal/app/stages"
	"kanban/internal/core/clock"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/personstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/stagestore"
)

// Service is the use case. Fill every field.
type Service struct {
	Store  *db.Database
	Badges *badges.Service
	Stages *stages.Service
	// Mailer gives what sends mails of the service's own; nil when no mail server is connected.
	Mailer func(context.Context) (*mails.Mailer, error)
	// Public is the address at which people reach the service, without a slash at its end.
	Public string
	Clock  clock.Clock
}

const (
	// linkOwner and visitOwner bind what is sealed to its purpose.
	linkOwner  = "holder-link"
	visitOwner = "holder-visit"
	linkHolds  = 90 * 24 * time.Hour
	// VisitHolds is how long a browser that opened a link stays on the page.
	VisitHolds  = 12 * time.Hour
	longestName = 200
)

// Path is the holder's page, below the address of the service.
const Path = "/open/holder"

// ErrForwarded means that a link was sent to another address than the one that was given.
var ErrForwarded = errors.New("the link was sent to another address")

// ErrOld means that a link does not hold any more.
var ErrOld = errors.New("the link is too old")

// Link is the address by which somebody opens their page; it holds for 90 days, together with the e-mail address to
// which it is sent.
func (s *Service) Link(personID, email string) (string, error) {
	key, err := roster.AddressKey(email)
	if err != nil {
		return "", refusal.Conflict("", "there is no e-mail address to which a link could be sent")
	}
	text := strings.Join([]string{personID, key, strconv.FormatInt(s.Clock.Now().Add(linkHolds).Unix(), 10)}, "\n")
	sealed, err := s.Store.Seal([]byte(text), linkOwner)
	return s.Public + Path + "/link/" + base64.RawURLEncoding.EncodeToString(sealed), err
}

// LinkFor makes a link for somebody.
func (s *Service) LinkFor(ctx context.Context, personID string) (string, error) {
	p, err := rosterstore.FindPerson(ctx, s.Store, personID)
	if err != nil {
		return "", err
	}
	return s.Link(p.ID, p.Email)
}

// Enter gives what a browser keeps to stay on somebody's page: for whoever has the link and knows the address to which
// it was sent. The error is ErrNotFound for a link that is none, ErrOld or ErrForwarded.
func (s *Service) Enter(ctx context.Context, token, address string) (visit string, err error) {
	parts, err := s.unsealed(token, linkOwner, 3)
	if err != nil {
		return "", err
	}
	until, err := strconv.ParseInt(parts[2], 10, 64)
	if err != nil || s.Clock.Now().Unix() > until {
		return "", ErrOld
	}
	now, err := personstore.PeopleNow(ctx, s.Store, parts[0])
	if err != nil {
		return "", err
	}
	if _, err := rosterstore.FindPerson(ctx, s.Store, now[parts[0]]); err != nil {
		return "", err
	}
	if key, err := roster.AddressKey(address); err != nil || key != parts[1] {
		return "", ErrForwarded
	}
	ends := strconv.FormatInt(s.Clock.Now().Add(VisitHolds).Unix(), 10)
	sealed, err := s.Store.Seal([]byte(parts[0]+"\n"+ends), visitOwner)
	return base64.RawURLEncoding.EncodeToString(sealed), err
}

// Visitor is who stays on their page by what their browser kept; ErrNotFound for nobody.
func (s *Service) Visitor(ctx context.Context, visit string) (personID string, err error) {
	parts, err := s.unsealed(visit, visitOwner, 2)
	if err != nil {
		return "", err
	}
	until, err := strconv.ParseInt(parts[1], 10, 64)
	if err != nil || s.Clock.Now().Unix() > until {
		return "", db.ErrNotFound
	}
	now, err := personstore.PeopleNow(ctx, s.Store, parts[0])
	return now[parts[0]], err
}

func (s *Service) unsealed(token, owner string, n int) ([]string, error) {
	sealed, err := base64.RawURLEncoding.DecodeString(token)
	if err != nil || len(sealed) == 0 {
		return nil, fmt.Errorf("reading the link: %w", db.ErrNotFound)
	}
	text, err := s.Store.Unseal(sealed, owner)
	parts := strings.Split(string(text), "\n")
	if err != nil || len(parts) != n {
		return nil, fmt.Errorf("reading the link: %w", db.ErrNotFound)
	}
	return parts, nil
}

// Ask has links sent to everybody who is known by an e-mail address and holds a badge. It says nothing about whether
// there is anybody, not even by how long it takes.
func (s *Service) Ask(ctx context.Context, address string) error {
	if _, err := roster.AddressKey(address); err != nil {
		return refusal.Invalid("address", "%q is not an e-mail address", address)
	}
	mailer, err := s.Mailer(ctx)
	if err != nil {
		return err
	}
	if mailer == nil { // said to everybody, whether they are known or not
		return refusal.Conflict("", "no mail server is connected, so no link can be sent; ask the school")
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error { return tx.Enqueue(ctx, jobs.SendLinks{Address: address}) })
}

// SendLinks sends links to everybody who is known by an e-mail address and holds a badge, those who left too.
func (s *Service) SendLinks(ctx context.Context, address string) error {
	mailer, err := s.Mailer(ctx)
	if err != nil || mailer == nil {
		return err
	}
	found, err := rosterstore.PeopleNamed(ctx, s.Store, []string{address})
	if err != nil {
		return err
	}
	var lines []string
	to := ""
	for _, p := range found {
		held, err := badgestore.AwardsOfHolder(ctx, s.Store, p.ID)
		if err != nil {
			return err
		}
		if len(held) == 0 || !sameAddress(p.Email, address) {
			continue
		}
		link, err := s.Link(p.ID, p.Email)
		if err != nil {
			return err
		}
		to = p.Email
		lines = append(lines, p.Person.Name()+":\n"+link)
	}
	if len(lines) == 0 {
		return nil
	}
	_, err = mailer.Send(ctx, mails.Mail{
		ID: "holder-" + db.NewID(), To: to, Subject: "Your badges",
		Text: "Here is the page of your badges:\n\n" + strings.Join(lines, "\n\n") +
			"\n\nThe link is for you alone and holds for 90 days. Whoever opens it is asked for this e-mail address.\n",
	})
	return err
}

func sameAddress(a, b string) bool {
	x, err := roster.AddressKey(a)
	y, err2 := roster.AddressKey(b)
	return err == nil && err2 == nil && x == y
}

// Held is a badge that somebody holds or held.
type Held struct {
	badgestore.ListedAward
	Address string // its public page
	Forms   []string
	Looks   badgestore.Looks
}

// Page is what somebody sees on their page.
type Page struct {
	Person   rosterstore.Person
	Holder   badgestore.Holder
	Terms    Terms
	Accepted bool // the terms as they are now
	Held     []Held
	Wanted   []Wanted
	Plans    []stages.PlanProgress
}

// Wanted is a badge that somebody can get: what of it they have done, and what is missing.
type Wanted struct {
	badgestore.ListedBadge
	Asks []stages.CriterionProgress
}

// Page gives somebody's page.
func (s *Service) Page(ctx context.Context, personID string) (p Page, err error) {
	if p.Person, p.Holder, err = s.Who(ctx, personID); err != nil {
		return p, err
	}
	if p.Terms, err = s.Terms(ctx); err != nil {
		return p, err
	}
	p.Accepted = p.Holder.Terms == p.Terms.Version
	if p.Held, err = s.held(ctx, personID); err != nil {
		return p, err
	}
	if p.Wanted, err = s.wanted(ctx, personID, p.Held); err != nil {
		return p, err
	}
	p.Plans, err = s.Stages.Of(ctx, personID)
	return p, err
}

// wanted lists the badges that somebody does not hold and that ask for something in a course in which they learn or
// learned.
func (s *Service) wanted(ctx context.Context, personID string, held []Held) (all []Wanted, err error) {
	listed, err := badgestore.Badges(ctx, s.Store, nil)
	if err != nil {
		return nil, err
	}
	now, holds := s.Clock.Now(), map[string]bool{}
	for _, h := range held {
		ended := h.ValidUntil != nil && !h.ValidUntil.After(now)
		holds[h.BadgeID] = holds[h.BadgeID] || h.RevokedAt == nil && !ended
	}
	for _, b := range listed {
		if b.State != badgestore.Published || len(b.Asks) == 0 || holds[b.ID] {
			continue
		}
		courses := stage.Watching(stage.Plan{Stages: []stage.Stage{{Criteria: b.Asks}}}).Courses
		studied, err := stagestore.FindStudied(ctx, s.Store, []string{personID}, slices.Sorted(maps.Keys(courses)))
		if err != nil {
			return nil, err
		}
		if len(studied) == 0 {
			continue
		}
		standing, err := s.Stages.Standing(ctx, b.Asks, []string{personID})
		if err != nil {
			return nil, err
		}
		all = append(all, Wanted{b, standing[personID]})
	}
	return all, nil
}

// Who is somebody, and what they decided about their badges.
func (s *Service) Who(ctx context.Context, personID string) (rosterstore.Person, badgestore.Holder, error) {
	p, err := rosterstore.FindPerson(ctx, s.Store, personID)
	if err != nil {
		return p, badgestore.Holder{}, err
	}
	h, err := s.holder(ctx, p)
	return p, h, err
}

// holder is what somebody decided, or how they begin.
func (s *Service) holder(ctx context.Context, p rosterstore.Person) (badgestore.Holder, error) {
	h, err := badgestore.FindHolder(ctx, s.Store, p.ID)
	if errors.Is(err, db.ErrNotFound) {
		return badgestore.Holder{PersonID: p.ID, ShownName: p.Name()}, nil
	}
	return h, err
}

// theirs finds an award that is somebody's; for another's it is as if there were none.
func (s *Service) theirs(ctx context.Context, personID, awardID string) (badgestore.Award, error) {
	a, err := badgestore.FindAward(ctx, s.Store, awardID)
	if err == nil && a.PersonID != personID {
		err = db.ErrNotFound
	}
	return a, err
}

func (s *Service) held(ctx context.Context, personID string) (all []Held, err error) {
	awards, err := badgestore.AwardsOfHolder(ctx, s.Store, personID)
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(awards))
	for i, a := range awards {
		ids[i] = a.ID
	}
	looks, err := badgestore.LooksAt(ctx, s.Store, ids)
	if err != nil {
		return nil, err
	}
	for _, a := range awards {
		forms, err := s.Badges.Forms(ctx, a.Award)
		if err != nil {
			return nil, err
		}
		all = append(all, Held{
			ListedAward: a, Address: s.Badges.AwardAddress(a.ID), Forms: forms, Looks: looks[a.ID],
		})
	}
	return all, nil
}

// Accept notes that somebody accepts the terms of a version, and the name under which others may see them.
func (s *Service) Accept(ctx context.Context, personID string, version int, name string) error {
	name, err := shownName(name)
	if err != nil {
		return err
	}
	terms, err := s.Terms(ctx)
	if err != nil {
		return err
	}
	if version != terms.Version {
		return refusal.Conflict("", "the terms have changed since this page was opened; read them again")
	}
	if _, err := rosterstore.FindPerson(ctx, s.Store, personID); err != nil {
		return err
	}
	h := badgestore.Holder{PersonID: personID, ShownName: name, Terms: version, AcceptedAt: s.Clock.Now()}
	return s.keep(ctx, h, "accepted the terms for holders", map[string]any{"version": version})
}

// SetName corrects the name under which others see somebody.
func (s *Service) SetName(ctx context.Context, personID, name string) error {
	name, err := shownName(name)
	if err != nil {
		return err
	}
	h, err := badgestore.FindHolder(ctx, s.Store, personID)
	if errors.Is(err, db.ErrNotFound) {
		return refusal.Conflict("", "accept the terms first")
	}
	if err != nil {
		return err
	}
	h.ShownName = name
	return s.keep(ctx, h, "changed the name on their badges", nil)
}

func shownName(name string) (string, error) {
	name = strings.Join(strings.Fields(name), " ")
	if name == "" || utf8.RuneCountInString(name) > longestName {
		return "", refusal.Invalid("name", "is missing, or longer than %d letters", longestName)
	}
	return name, nil
}

func (s *Service) keep(ctx context.Context, h badgestore.Holder, what string, details any) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := badgestore.KeepHolder(ctx, tx, h); err != nil {
			return err
		}
		return tx.Audit(ctx, "the holder", what, "person/"+h.PersonID, details)
	})
}

// Share makes the page of somebody's award say whose it is, or no more. Nothing is shared before the terms are
// accepted; taking back is always possible.
func (s *Service) Share(ctx context.Context, personID, awardID string, share bool) error {
	if _, err := s.theirs(ctx, personID, awardID); err != nil {
		return err
	}
	var at *time.Time
	what := "took a shared badge back"
	if share {
		terms, err := s.Terms(ctx)
		if err != nil {
			return err
		}
		h, err := badgestore.FindHolder(ctx, s.Store, personID)
		if errors.Is(err, db.ErrNotFound) || err == nil && h.Terms != terms.Version {
			return refusal.Conflict("", "accept the terms first; nothing is shared before")
		}
		if err != nil {
			return err
		}
		now := s.Clock.Now()
		at, what = &now, "shared a badge"
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := badgestore.Share(ctx, tx, awardID, at); err != nil {
			return err
		}
		return tx.Audit(ctx, "the holder", what, "award/"+awardID, nil)
	})
}

// Shown is what the public page of an award says of whoever holds it; "" for nothing.
func (s *Service) Shown(ctx context.Context, a badgestore.Award) (name string, err error) {
	if a.SharedAt == nil {
		return "", nil
	}
	h, err := badgestore.FindHolder(ctx, s.Store, a.PersonID)
	if errors.Is(err, db.ErrNotFound) {
		return "", nil
	}
	return h.ShownName, err
}

// Looked counts a look at the public page of an award.
func (s *Service) Looked(ctx context.Context, awardID string, program bool) error {
	return badgestore.NoteLook(ctx, s.Store, awardID, program, s.Clock.Now())
}
