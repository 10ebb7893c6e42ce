package launchstore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// Subject is somebody who opened a link, as the platform calls them.
type Subject struct {
	ID          string
	InterfaceID string
	Subject     string
	Name        string
	Email       string
	Identifier  string // the register's, as far as the platform says it
	Why         string // nobody of the register was recognised; empty where somebody was
	FirstAt     time.Time
	LatestAt    time.Time
}

const subjectColumns = `u.id::text, u.interface_id::text, u.subject, u.name, u.email, u.identifier, u.why, u.first_at, u.latest_at`

// MeetSubject notes who opened a link, and why nobody of the register was recognised.
func MeetSubject(ctx context.Context, tx *db.Tx, u Subject, at time.Time) (Subject, error) {
	return db.Row[Subject](ctx, tx, "noting who opened the page", `
		INSERT INTO subjects AS u (id, interface_id, subject, name, email, identifier, why, first_at, latest_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $8) ON CONFLICT (interface_id, subject) DO UPDATE SET name = excluded.name,
			email = excluded.email, identifier = excluded.identifier, why = excluded.why, latest_at = excluded.latest_at
		RETURNING `+subjectColumns, db.NewID(), u.InterfaceID, u.Subject, u.Name, u.Email, u.Identifier, u.Why, at)
}

// Unrecognised lists who opened links and is nobody of the register, the latest first.
func Unrecognised(ctx context.Context, from db.From, interfaceID string, limit int) ([]Subject, error) {
	return db.Rows[Subject](ctx, from, "listing who was not recognised", `SELECT `+subjectColumns+` FROM subjects u
		WHERE u.interface_id = $1 AND u.why <> '' ORDER BY u.latest_at DESC, u.id LIMIT $2`, interfaceID, limit)
}

// CountUnrecognised counts them, however many are listed.
func CountUnrecognised(ctx context.Context, from db.From, interfaceID string) (n int, err error) {
	err = db.Into(ctx, from, &n, `SELECT count(*) FROM subjects u WHERE u.interface_id = $1 AND u.why <> ''`, interfaceID)
	return n, db.Known(err, "counting who was not recognised")
}

// FindSubject finds somebody who opened a link.
func FindSubject(ctx context.Context, from db.From, id string) (Subject, error) {
	return db.Row[Subject](ctx, from, "finding who opened the page", `SELECT `+subjectColumns+` FROM subjects u
		WHERE u.id::text = $1`, id)
}

// Recognised takes away why somebody was not recognised, once a person has said who they are.
func Recognised(ctx context.Context, tx *db.Tx, id string) error {
	_, err := db.Exec(ctx, tx, `UPDATE subjects SET why = '' WHERE id::text = $1`, id)
	return db.Known(err, "keeping who it is")
}

// CountOpening counts that somebody opened a course page.
func CountOpening(ctx context.Context, tx *db.Tx, courseID, subjectID, role string, at time.Time) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO openings AS o (context_id, subject_id, role, first_at, latest_at)
		VALUES ($1, $2, $3, $4, $4) ON CONFLICT (context_id, subject_id) DO UPDATE SET role = excluded.role,
		times = o.times + 1, latest_at = excluded.latest_at`, courseID, subjectID, role, at)
	return db.Known(err, "counting the opening")
}

// Opening is how often somebody of a section opened its course page.
type Opening struct {
	PersonID string
	Name     string
	Role     string
	Times    int64
	FirstAt  *time.Time // nil when they never did
	LatestAt *time.Time
}

// Openings lists the people of a course page's sections with how often they opened it; those who never did first.
func Openings(ctx context.Context, from db.From, courseID string) ([]Opening, error) {
	return db.Rows[Opening](ctx, from, "listing who opened the course page", `
		SELECT p.id::text AS person_id, p.given_name || ' ' || p.family_name AS name, w.role,
			coalesce(sum(o.times), 0)::bigint AS times, min(o.first_at) AS first_at, max(o.latest_at) AS latest_at
		FROM contexts c JOIN deployments d ON d.id = c.deployment_id
		JOIN (SELECT DISTINCT x.id AS section_id, h.id AS person_id, e.role FROM sections x
			JOIN enrolments e ON e.interface_id = x.interface_id AND e.section = x.sourced_id AND e.gone_at IS NULL
			JOIN people h ON h.interface_id = e.interface_id AND h.sourced_id = e.person AND h.gone_at IS NULL
			WHERE x.gone_at IS NULL) w ON w.section_id = ANY (c.section_ids)
		JOIN people p ON p.id = w.person_id AND p.leads
		LEFT JOIN accounts a ON a.interface_id = d.interface_id AND a.person_id = p.id
		LEFT JOIN subjects u ON u.interface_id = d.interface_id AND u.subject = a.remote_id
		LEFT JOIN openings o ON o.subject_id = u.id AND o.context_id = c.id
		WHERE c.id::text = $1 GROUP BY p.id, p.given_name, p.family_name, w.role
		ORDER BY max(o.latest_at) IS NOT NULL, lower(p.family_name), lower(p.given_name), p.id`, courseID)
}

// Opened reports whether anybody has opened a course page of a platform.
func Opened(ctx context.Context, from db.From, interfaceID string) (yes bool, err error) {
	err = db.Into(ctx, from, &yes, `SELECT EXISTS (SELECT 1 FROM openings o JOIN subjects u ON u.id = o.subject_id
		WHERE u.interface_id = $1)`, interfaceID)
	return yes, db.Known(err, "looking for pages that were opened")
}

// Shared is how many of those who opened a course page are in a section now.
type Shared struct {
	SectionID string
	Shared    int
	Opened    int // who opened it and were recognised
}

// SharedWith lists the sections in which people are who opened a course page, with how many of them.
func SharedWith(ctx context.Context, from db.From, courseID string) ([]Shared, error) {
	return db.Rows[Shared](ctx, from, "finding whose course page it is", `
		WITH opened AS (SELECT DISTINCT a.person_id FROM openings o JOIN subjects u ON u.id = o.subject_id
			JOIN accounts a ON a.interface_id = u.interface_id AND a.remote_id = u.subject WHERE o.context_id::text = $1)
		SELECT x.id::text AS section_id, count(DISTINCT w.person_id)::int AS shared,
			(SELECT count(*) FROM opened)::int AS opened
		FROM opened w JOIN people p ON p.id = w.person_id
		JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id AND e.gone_at IS NULL
		JOIN sections x ON x.interface_id = e.interface_id AND x.sourced_id = e.section AND x.gone_at IS NULL
		GROUP BY x.id ORDER BY 2 DESC, 1`, courseID)
}
