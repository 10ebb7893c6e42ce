// Package launchstore keeps which course platforms may open pages here, who opened which, and what the courses
// there are about.
package launchstore

import (
	"context"
	"errors"
	"time"

	"kanban/internal/store/db"
)

// Begun is a launch that a platform has begun, until it ends.
type Begun struct {
	InterfaceID string
	Nonce       string
	Browser     []byte // the hash of what the browser keeps
	Storage     string // the frame that keeps values where cookies are blocked
	ExpiresAt   time.Time
}

// Begin keeps a launch under the hash of its state.
func Begin(ctx context.Context, tx *db.Tx, state []byte, b Begun) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO launches_begun (state, interface_id, nonce, browser, storage, expires_at)
		VALUES ($1, $2, $3, $4, $5, $6)`, state, b.InterfaceID, b.Nonce, b.Browser, b.Storage, b.ExpiresAt)
	return db.Known(err, "beginning the launch")
}

// End gives a launch that has begun, once.
func End(ctx context.Context, tx *db.Tx, state []byte) (Begun, error) {
	return db.Row[Begun](ctx, tx, "ending the launch", `DELETE FROM launches_begun WHERE state = $1
		RETURNING interface_id::text, nonce, browser, storage, expires_at`, state)
}

// FindBegun looks at a launch that has begun without ending it.
func FindBegun(ctx context.Context, from db.From, state []byte) (Begun, error) {
	return db.Row[Begun](ctx, from, "finding the launch", `SELECT interface_id::text, nonce, browser, storage, expires_at
		FROM launches_begun WHERE state = $1`, state)
}

// RemoveOld removes launches that nobody has ended in time.
func RemoveOld(ctx context.Context, tx *db.Tx, now time.Time) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM launches_begun WHERE expires_at < $1`, now)
	if err == nil {
		_, err = db.Exec(ctx, tx, `DELETE FROM launch_sessions WHERE expires_at < $1`, now)
	}
	return db.Known(err, "removing launches that are over")
}

// Session is a page that stands open in a course.
type Session struct {
	CourseID  string // the course page
	PersonID  string
	Role      string // as the platform says
	ReturnURL string
	ExpiresAt time.Time
}

// KeepSession keeps a page under the hash of its token.
func KeepSession(ctx context.Context, tx *db.Tx, token []byte, x Session) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO launch_sessions (token, context_id, person_id, role, return_url, expires_at)
		VALUES ($1, $2, $3, $4, $5, $6)`, token, x.CourseID, x.PersonID, x.Role, x.ReturnURL, x.ExpiresAt)
	return db.Known(err, "keeping the page")
}

// FindSession finds a page that has not ended.
func FindSession(ctx context.Context, from db.From, token []byte, now time.Time) (Session, error) {
	return db.Row[Session](ctx, from, "finding the page", `SELECT context_id::text AS course_id, person_id::text, role,
		return_url, expires_at FROM launch_sessions WHERE token = $1 AND expires_at > $2`, token, now)
}

// Deployment is one by which a platform opens links.
type Deployment struct {
	ID          string
	InterfaceID string
	Deployment  string // as the platform calls it
	AdmittedBy  string
	AdmittedAt  *time.Time // nil while nobody has admitted it
	FirstAt     time.Time
	LatestAt    time.Time
}

const deploymentColumns = `d.id::text, d.interface_id::text, d.deployment, d.admitted_by, d.admitted_at, d.first_at, d.latest_at`

// ListedDeployment is one with how many course pages it has.
type ListedDeployment struct {
	Deployment `gorm:"embedded"`
	Courses    int // in which links were opened
}

// notedFor is for how long it is not noted again that something was opened: what thousands open at the same time is
// one row.
const notedFor = time.Minute

// MeetDeployment notes that a platform has named a deployment, and gives what is known of it.
func MeetDeployment(ctx context.Context, tx *db.Tx, interfaceID, deployment string, at time.Time) (d Deployment,
	err error,
) {
	find := func() (Deployment, error) {
		return db.Row[Deployment](ctx, tx, "finding the deployment", `SELECT `+deploymentColumns+` FROM deployments d
			WHERE d.interface_id = $1 AND d.deployment = $2`, interfaceID, deployment)
	}
	if d, err = find(); err == nil && at.Sub(d.LatestAt) < notedFor {
		return d, nil
	}
	if err != nil && !errors.Is(err, db.ErrNotFound) {
		return d, err
	}
	if _, err = db.Exec(ctx, tx, `INSERT INTO deployments (id, interface_id, deployment, first_at, latest_at)
		VALUES ($1, $2, $3, $4, $4) ON CONFLICT (interface_id, deployment) DO UPDATE SET latest_at = excluded.latest_at`,
		db.NewID(), interfaceID, deployment, at); err != nil {
		return d, db.Known(err, "noting the deployment")
	}
	return find()
}

// AdmitDeployment lets a deployment open links from now on; an empty name ends that.
func AdmitDeployment(ctx context.Context, tx *db.Tx, id, by string, at time.Time) error {
	n, err := db.Exec(ctx, tx, `UPDATE deployments SET admitted_by = $2,
		admitted_at = CASE $2 WHEN '' THEN NULL ELSE $3::timestamptz END WHERE id::text = $1`, id, by, at)
	if err == nil && n == 0 {
		err = db.ErrNotFound
	}
	return db.Known(err, "admitting the deployment")
}

// Deployments lists those of a platform, those that wait first.
func Deployments(ctx context.Context, from db.From, interfaceID string) ([]ListedDeployment, error) {
	return db.Rows[ListedDeployment](ctx, from, "listing deployments", `SELECT `+deploymentColumns+`,
			(SELECT count(*) FROM contexts c WHERE c.deployment_id = d.id)::int AS courses FROM deployments d
		WHERE d.interface_id = $1 ORDER BY d.admitted_at IS NOT NULL, d.first_at`, interfaceID)
}

// FindDeployment finds one.
func FindDeployment(ctx context.Context, from db.From, id string) (Deployment, error) {
	return db.Row[Deployment](ctx, from, "finding the deployment", `SELECT `+deploymentColumns+` FROM deployments d
		WHERE d.id::text = $1`, id)
}
