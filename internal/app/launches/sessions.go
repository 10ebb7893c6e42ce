package launches

import (
	"context"
	"crypto/rand"
	"errors"
	"time"

	"kanban/internal/store/db"
	"kanban/internal/store/launchstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/lti"
)

// pageLasts is how long a page stands open in a course.
const pageLasts = 2 * time.Hour

// Page is the course page of a launch, as long as it stands open.
type Page struct {
	Launch
	Return string
}

// Origins are those in whose pages it may stand.
func (p Page) Origins() []string { return origins(p.Platform, p.Return) }

// Keep lets a page stand open, and gives the token by which it is asked for: it is good for this person in this
// course and for nothing else. It is empty where there is nothing to be seen, because the person or the course is
// not known.
func (s *Service) Keep(ctx context.Context, l Launch) (token string, err error) {
	if l.Person == nil || l.Course == nil {
		return "", nil
	}
	token = rand.Text()
	return token, s.Store.InTx(ctx, func(tx *db.Tx) error {
		return launchstore.KeepSession(ctx, tx, hashed(token), launchstore.Session{
			CourseID: l.Course.ID, PersonID: l.Person.ID, Role: string(l.Role), ReturnURL: l.returnURL(),
			ExpiresAt: s.Clock.Now().Add(pageLasts),
		})
	})
}

// Look gives a page that stands open. It has ended when the platform was paused or removed, or its deployment shut
// out.
func (s *Service) Look(ctx context.Context, token string) (p Page, err error) {
	x, err := launchstore.FindSession(ctx, s.Store, hashed(token), s.Clock.Now())
	if errors.Is(err, db.ErrNotFound) {
		return p, refuse("Open the link in the course again.", "This page has ended.")
	}
	if err != nil {
		return p, err
	}
	course, err := launchstore.FindCourse(ctx, s.Store, x.CourseID)
	if err != nil {
		return p, err
	}
	d, err := launchstore.FindDeployment(ctx, s.Store, course.DeploymentID)
	if err != nil {
		return p, err
	}
	p = Page{Launch: Launch{Role: lti.Role(x.Role), Course: &course}, Return: x.ReturnURL}
	p.Platform, err = s.Connections.FindInterface(ctx, course.InterfaceID)
	if errors.Is(err, db.ErrNotFound) || err == nil && (p.Platform.Paused() || d.AdmittedAt == nil) {
		return p, refuse("Ask an administrator of Kanban.", "Links from the course platform open nothing at the moment.")
	}
	if err != nil {
		return p, err
	}
	who, err := rosterstore.FindPerson(ctx, s.Store, x.PersonID)
	p.Person = &who
	return p, err
}
