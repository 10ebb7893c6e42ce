package launches

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"net/url"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/launchstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/lti"
)

// launchLasts is how long a browser has between coming here and coming back with who it is.
const launchLasts = 10 * time.Minute

// longestParameter bounds what a platform hands through a browser, in bytes.
const longestParameter = 4 << 10

// Begun is a launch that has begun.
type Begun struct {
	Address string // of the platform, where the browser goes now
	State   string
	Browser string // what the browser keeps and brings back
	Storage string // the frame that keeps it where cookies are blocked; empty where the platform has none
	Origin  string // of the platform: only it is asked to keep something
}

// Begin takes a browser that a platform sends, and says where it goes to be told who it is. browser is what it
// keeps from an earlier launch, empty when nothing.
func (s *Service) Begin(ctx context.Context, l lti.Login, browser string) (b Begun, err error) {
	if lacks := l.Lacks(); len(lacks) > 0 {
		return b, refuse("Open Kanban by a link in a course. If this came of one, the platform's administrator has to look: it speaks "+
			"an older version, or its set-up of this tool is not whole.", "The platform did not say %s.", strings.Join(lacks, ", "))
	}
	for _, text := range []string{l.Issuer, l.ClientID, l.Hint, l.Message, l.Storage} {
		if len(text) > longestParameter {
			return b, refuse("The platform's administrator has to look.", "The platform sent more than %d bytes in one parameter.",
				longestParameter)
		}
	}
	c, err := s.joined(ctx, l)
	if err != nil {
		return b, err
	}
	p := platformOf(c)
	b = Begun{State: rand.Text(), Browser: browser, Storage: l.Storage, Origin: originOf(p.Authorize)}
	if b.Browser == "" {
		b.Browser = rand.Text()
	}
	nonce, now := rand.Text(), s.Clock.Now()
	b.Address = l.AddressAt(p, s.Public+LaunchPath, b.State, nonce)
	return b, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := launchstore.RemoveOld(ctx, tx, now); err != nil {
			return err
		}
		return launchstore.Begin(ctx, tx, hashed(b.State), launchstore.Begun{
			InterfaceID: c.ID, Nonce: nonce, Browser: hashed(b.Browser), Storage: l.Storage,
			ExpiresAt: now.Add(launchLasts),
		})
	})
}

// joined finds the platform that sends a browser.
func (s *Service) joined(ctx context.Context, l lti.Login) (c connectionstore.Interface, err error) {
	ids, err := launchstore.PlatformOf(ctx, s.Store, adapter.KindLTI, l.Issuer, l.ClientID)
	switch {
	case err != nil:
		return c, err
	case len(ids) == 0:
		return c, refuse("An administrator of Kanban has to let it join: under Connections, or by kanban platforms add-registration.",
			"The platform %s has not joined Kanban, or with another client id than %q.", l.Issuer, l.ClientID)
	case len(ids) > 1:
		return c, refuse("The platform has to send its client_id; an administrator of Kanban removes what joined twice.",
			"The platform %s has joined Kanban more than once, and it is not clear as which it asks.", l.Issuer)
	}
	if c, err = s.Connections.FindInterface(ctx, ids[0]); err == nil && c.Paused() {
		err = refuse("Ask an administrator of Kanban.", "Links from %s open nothing at the moment: it was paused.", c.Name)
	}
	return c, err
}

func platformOf(c connectionstore.Interface) lti.Platform {
	return lti.Platform{
		Issuer: c.Settings["issuer"], ClientID: c.Settings["clientId"], Authorize: c.Settings["authorizeAddress"],
		Keys: c.Settings["keysAddress"],
	}
}

// Launch is a link that somebody opened, with what is known of them and of the course.
type Launch struct {
	Platform connectionstore.Interface
	Message  lti.Message
	Role     lti.Role // as the platform says
	Test     bool     // nobody real opened it
	Person   *rosterstore.Person
	Why      string // there is no person
	Course   *launchstore.Course
}

// origins are those of the platform, whose pages an answer may stand in: where it signs people in, what it calls
// itself, and where its courses are, which may be three hosts.
func origins(c connectionstore.Interface, returnURL string) (all []string) {
	for _, at := range []string{c.Settings["authorizeAddress"], c.Settings["issuer"], returnURL} {
		if o := originOf(at); o != "" && !slices.Contains(all, o) {
			all = append(all, o)
		}
	}
	return all
}

// Origins are those in whose pages the answer may stand.
func (l Launch) Origins() []string { return origins(l.Platform, l.returnURL()) }

// returnURL is where somebody goes back to; empty where the platform says nothing that can be gone to.
func (l Launch) returnURL() string {
	at := l.Message.Presentation.ReturnURL
	if u, err := url.Parse(at); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return ""
	}
	return at
}

// ErrStorage is given when the browser brought nothing back, and the platform may have kept it.
var ErrStorage = errors.New("the browser keeps it at the platform")

// Asked is where a launch asks the platform's page for what the browser keeps there.
type Asked struct{ Storage, Origin string }

// Storage says where what a browser keeps may be found when it brought no cookie.
func (s *Service) Storage(ctx context.Context, state string) (a Asked, err error) {
	b, err := launchstore.FindBegun(ctx, s.Store, hashed(state))
	if err != nil {
		return a, err
	}
	c, err := s.Connections.FindInterface(ctx, b.InterfaceID)
	return Asked{b.Storage, originOf(c.Settings["authorizeAddress"])}, err
}

// Back is with what a browser comes back.
type Back struct {
	IDToken, State, Browser string
	Error, Description      string // of the platform, which says nothing then
}

// End takes a browser that comes back, once for each state, and finds out who opened which page.
func (s *Service) End(ctx context.Context, back Back) (l Launch, err error) {
	if back.State == "" {
		return l, refuse("Open Kanban by a link in a course.", "The platform did not send back what Kanban gave it (state).")
	}
	b, err := launchstore.FindBegun(ctx, s.Store, hashed(back.State))
	switch {
	case errors.Is(err, db.ErrNotFound) || err == nil && b.ExpiresAt.Before(s.Clock.Now()):
		return l, refuse("Open the link in the course again.", "This page was opened already, or it took too long.")
	case err != nil:
		return l, err
	case subtle.ConstantTimeCompare(b.Browser, hashed(back.Browser)) != 1:
		if b.Storage != "" && back.Browser == "" {
			return l, ErrStorage
		}
		return l, refuse("Have the platform open Kanban in a new window; or allow cookies of "+s.Public+" in the browser.",
			"The browser that came back is not known to be the one that began: it keeps no cookies for pages inside other pages.")
	}
	if err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		b, err = launchstore.End(ctx, tx, hashed(back.State))
		return err
	}); errors.Is(err, db.ErrNotFound) { // two at once
		return l, refuse("Open the link in the course again.", "This page was opened already.")
	} else if err != nil {
		return l, err
	}
	if l.Platform, err = s.Connections.FindInterface(ctx, b.InterfaceID); err != nil {
		return l, refuse("Ask an administrator of Kanban.", "The platform was removed here a moment ago.")
	}
	if back.Error != "" {
		return l, refuse("Sign in at the platform, and open the link again. If it stays so, its administrator has to look.",
			"%s does not say who opened the link: %s", l.Platform.Name, strings.TrimSuffix(back.Error+": "+back.Description, ": "))
	}
	if l.Message, err = s.verifier.Verify(ctx, platformOf(l.Platform), back.IDToken, b.Nonce,
		s.Clock.Now()); err != nil {
		return l, explained(err)
	}
	l.Role, l.Test = lti.RoleIn(l.Message.Roles), lti.IsTestUser(l.Message.Roles)
	return l, s.meet(ctx, &l)
}

// meet keeps who opened which page, and finds out what is known of both.
func (s *Service) meet(ctx context.Context, l *Launch) error {
	var waits bool
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		now := s.Clock.Now()
		d, err := launchstore.MeetDeployment(ctx, tx, l.Platform.ID, l.Message.Deployment, now)
		if err != nil {
			return err
		}
		if waits = d.AdmittedAt == nil; waits {
			return tx.Announce(ctx, "interface", l.Platform.ID)
		}
		if err := s.recognise(ctx, tx, l); err != nil {
			return err
		}
		return s.place(ctx, tx, l, d, now)
	})
	if err == nil && waits {
		err = refuse("An administrator of Kanban admits it on the page of the connection, or by kanban platforms admit; then open "+
			"the link again.", "%s opens links by the deployment %q, which nobody has admitted yet.", l.Platform.Name,
			l.Message.Deployment)
	}
	return err
}

// place finds out which sections the course is about, and counts that it was opened.
func (s *Service) place(ctx context.Context, tx *db.Tx, l *Launch, d launchstore.Deployment, now time.Time) error {
	if l.Message.Context.ID == "" || l.Test {
		return nil
	}
	if len(l.Message.Context.ID) > 255 {
		return refuse("The platform's administrator has to look.", "The platform gives its course an id of more than 255 letters.")
	}
	c, err := launchstore.MeetCourse(ctx, tx, launchstore.Course{
		DeploymentID: d.ID, Context: l.Message.Context.ID, Label: start(l.Message.Context.Label),
		Title: start(l.Message.Context.Title),
	}, now)
	if err != nil {
		return err
	}
	if c.DecidedBy == "" {
		found, err := s.sections(ctx, tx, l.Message)
		if err != nil {
			return err
		}
		if len(found) > 0 && !slices.Equal(found, c.SectionIDs) { // what the platform no longer says is kept
			if err := launchstore.SetSections(ctx, tx, c.ID, found, ""); err != nil {
				return err
			}
			c.SectionIDs = found
		}
	}
	l.Course = &c
	if l.Message.Subject == "" {
		return nil
	}
	u, err := launchstore.MeetSubject(ctx, tx, launchstore.Subject{
		InterfaceID: l.Platform.ID, Subject: l.Message.Subject, Name: start(l.Message.Name),
		Email:      start(l.Message.Email),
		Identifier: start(l.Message.PersonID()), Why: l.Why,
	}, now)
	if err != nil {
		return err
	}
	return launchstore.CountOpening(ctx, tx, c.ID, u.ID, string(l.Role), now)
}

// sections finds those that the platform names by the register's ids: by the surest place at which every one of
// them is exactly one section of the registers.
func (s *Service) sections(ctx context.Context, tx *db.Tx, m lti.Message) ([]string, error) {
	for _, ids := range m.Sections() {
		var found []string
		for _, id := range ids {
			all, err := launchstore.SectionsCalled(ctx, tx, id)
			if err != nil {
				return nil, err
			}
			if len(all) == 1 {
				found = append(found, all[0])
			}
		}
		if len(found) == len(ids) {
			return found, nil
		}
	}
	return nil, nil
}

// start bounds what a platform says, in letters.
func start(text string) string {
	text = strings.TrimSpace(strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", ""), "?"))
	if runes := []rune(text); len(runes) > 300 {
		return string(runes[:300])
	}
	return text
}
