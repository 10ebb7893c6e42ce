package launchstore

import (
	"context"
	"errors"
	"time"

	"kanban/internal/store/db"
)

// Course is a course page of a platform in which links were opened: a context, as the standard calls it.
type Course struct {
	ID           string
	InterfaceID  string
	DeploymentID string
	Context      string // as the platform calls it
	Label        string
	Title        string
	SectionIDs   []string `gorm:"type:text[]"` // that it is about
	DecidedBy    string   // empty where the platform's own ids say it
	FirstAt      time.Time
	LatestAt     time.Time
}

const courseColumns = `c.id::text, d.interface_id::text, c.deployment_id::text, c.context, c.label, c.title,
	c.section_ids::text[] AS section_ids, c.decided_by, c.first_at, c.latest_at`

// ListedCourse is one with how many people opened it.
type ListedCourse struct {
	Course `gorm:"embedded"`
	People int
}

// MeetCourse notes that a link was opened in a course page, and gives what is known of it.
func MeetCourse(ctx context.Context, tx *db.Tx, c Course, at time.Time) (Course, error) {
	find := func() (Course, error) {
		return db.Row[Course](ctx, tx, "finding the course page", `SELECT `+courseColumns+` FROM contexts c
			JOIN deployments d ON d.id = c.deployment_id WHERE c.deployment_id = $1 AND c.context = $2`, c.DeploymentID, c.Context)
	}
	known, err := find()
	if err == nil && at.Sub(known.LatestAt) < notedFor && known.Label == c.Label && known.Title == c.Title {
		return known, nil
	}
	if err != nil && !errors.Is(err, db.ErrNotFound) {
		return c, err
	}
	if _, err = db.Exec(ctx, tx, `INSERT INTO contexts (id, deployment_id, context, label, title, first_at, latest_at)
		VALUES ($1, $2, $3, $4, $5, $6, $6) ON CONFLICT (deployment_id, context) DO UPDATE SET label = excluded.label,
		title = excluded.title, latest_at = excluded.latest_at`, db.NewID(), c.DeploymentID, c.Context, c.Label, c.Title, at,
	); err != nil {
		return c, db.Known(err, "noting the course page")
	}
	return find()
}

// SetSections keeps which sections a course page is about; by is empty where the platform's own ids say it.
func SetSections(ctx context.Context, tx *db.Tx, id string, sections []string, by string) error {
	n, err := db.Exec(ctx, tx, `UPDATE contexts SET section_ids = $2::text[]::uuid[], decided_by = $3 WHERE id::text = $1`, id,
		db.TextArray(sections), by)
	if err == nil && n == 0 {
		err = db.ErrNotFound
	}
	return db.Known(err, "keeping what the course page is about")
}

// SectionsCalled finds the ids of sections that a register calls one of some ids, or by its codes: by the first of
// them that any has. Two registers may have it both.
func SectionsCalled(ctx context.Context, from db.From, id string) (ids []string, err error) {
	err = db.Into(ctx, from, &ids, `SELECT coalesce(array_agg(x.id::text ORDER BY x.id), '{}') FROM sections x
		WHERE x.gone_at IS NULL AND x.sourced_id = $1 AND NOT EXISTS (SELECT 1 FROM interfaces i
			WHERE i.id = x.interface_id AND i.removed_at IS NOT NULL)`, id)
	return ids, db.Known(err, "finding the section")
}

// CourseFilter narrows a list of course pages. What is empty narrows nothing.
type CourseFilter struct {
	InterfaceID string
	Undecided   bool // only those of which nobody knows which section they are about
	After       string
	Limit       int
}

// Courses lists the course pages of a platform by id, the oldest first.
func Courses(ctx context.Context, from db.From, f CourseFilter) ([]ListedCourse, error) {
	return db.Rows[ListedCourse](ctx, from, "listing course pages", `SELECT `+courseColumns+`,
			(SELECT count(*) FROM openings o WHERE o.context_id = c.id)::int AS people FROM contexts c
		JOIN deployments d ON d.id = c.deployment_id WHERE d.interface_id = $1 AND (NOT $2 OR c.section_ids = '{}')
			AND ($3 = '' OR c.id::text > $3) ORDER BY c.id LIMIT $4`, f.InterfaceID, f.Undecided, f.After, f.Limit)
}

// CountCourses counts the course pages that a filter fits, however many it lists.
func CountCourses(ctx context.Context, from db.From, f CourseFilter) (n int, err error) {
	err = db.Into(ctx, from, &n, `SELECT count(*) FROM contexts c JOIN deployments d ON d.id = c.deployment_id
		WHERE d.interface_id = $1 AND (NOT $2 OR c.section_ids = '{}')`, f.InterfaceID, f.Undecided)
	return n, db.Known(err, "counting course pages")
}

// FindCourse finds one.
func FindCourse(ctx context.Context, from db.From, id string) (Course, error) {
	return db.Row[Course](ctx, from, "finding the course page", `SELECT `+courseColumns+` FROM contexts c
		JOIN deployments d ON d.id = c.deployment_id WHERE c.id::text = $1`, id)
}
