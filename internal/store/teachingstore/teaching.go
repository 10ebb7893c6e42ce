// Package teachingstore keeps how teachers arrange their own sections.
package teachingstore

import (
	"context"

	"kanban/internal/store/db"
)

// TaughtSection is how a teacher has a section in their own list.
type TaughtSection struct {
	SectionID string
	Position  int    // from 1 on; 0 where it was not put anywhere
	ShortName string // empty for the register's title
	Picture   bool   // whether it has one
}

// TaughtSections gives how a user has arranged sections, by section.
func TaughtSections(ctx context.Context, from db.From, userID string) (map[string]TaughtSection, error) {
	all, err := db.Rows[TaughtSection](ctx, from, "finding the teacher's sections", `SELECT section_id::text, position,
		short_name, picture IS NOT NULL AS picture FROM taught_sections WHERE user_id = $1`, userID)
	out := make(map[string]TaughtSection, len(all))
	for _, x := range all {
		out[x.SectionID] = x
	}
	return out, err
}

// NameSection keeps what a user calls a section.
func NameSection(ctx context.Context, tx *db.Tx, userID, sectionID, name string) error {
	return own(ctx, tx, "naming the section", `INSERT INTO taught_sections (user_id, section_id, short_name)
		SELECT $1::uuid, id, $3 FROM sections WHERE id::text = $2
		ON CONFLICT (user_id, section_id) DO UPDATE SET short_name = excluded.short_name`, userID, sectionID, name)
}

// SetPicture keeps a user's picture of a section; nil for none.
func SetPicture(ctx context.Context, tx *db.Tx, userID, sectionID string, picture []byte) error {
	return own(ctx, tx, "keeping the picture", `INSERT INTO taught_sections (user_id, section_id, picture)
		SELECT $1::uuid, id, $3::bytea FROM sections WHERE id::text = $2
		ON CONFLICT (user_id, section_id) DO UPDATE SET picture = excluded.picture`, userID, sectionID, picture)
}

// own keeps something of a section that is there.
func own(ctx context.Context, tx *db.Tx, doing, statement string, args ...any) error {
	n, err := db.Exec(ctx, tx, statement, args...)
	if err == nil && n == 0 {
		err = db.ErrNotFound
	}
	return db.Known(err, doing)
}

// PictureOf gives a user's picture of a section.
func PictureOf(ctx context.Context, from db.From, userID, sectionID string) (picture []byte, err error) {
	err = db.Into(ctx, from, &picture, `SELECT picture FROM taught_sections
		WHERE user_id = $1 AND section_id = $2 AND picture IS NOT NULL`, userID, sectionID)
	return picture, db.Known(err, "finding the picture")
}

// OrderSections puts a user's sections into an order; others stand behind them.
func OrderSections(ctx context.Context, tx *db.Tx, userID string, sections []string) error {
	if _, err := db.Exec(ctx, tx, `UPDATE taught_sections SET position = 0 WHERE user_id = $1`, userID); err != nil {
		return db.Known(err, "ordering the sections")
	}
	_, err := db.Exec(ctx, tx, `INSERT INTO taught_sections (user_id, section_id, position)
		SELECT $1, x.id, min(x.n) FROM unnest($2::text[]::uuid[]) WITH ORDINALITY AS x(id, n) GROUP BY x.id
		ON CONFLICT (user_id, section_id) DO UPDATE SET position = excluded.position`, userID, sections)
	return db.Known(err, "ordering the sections")
}

// SetUp says what there is of a section besides its class outside. Test learners are left out of it.
type SetUp struct {
	SectionID string
	Outline   bool // its course has one
	Begun     int  // people who have begun, and the sum of how far they have come
	Percents  int
	Tasks     int // that are open, without what was handed on
}

// SetUps gives it of some sections, by section.
func SetUps(ctx context.Context, from db.From, sections []string) (map[string]SetUp, error) {
	all, err := db.Rows[SetUp](ctx, from, "finding what is set up", `SELECT s.id::text AS section_id,
			EXISTS (SELECT 1 FROM outlines o JOIN courses c ON c.id = o.course_id
				WHERE c.interface_id = s.interface_id AND c.sourced_id = s.course) AS outline,
			g.begun, g.percents, t.tasks
		FROM sections s
		CROSS JOIN LATERAL (SELECT count(*) AS begun, coalesce(sum(g.percent), 0) AS percents FROM progress g
			WHERE g.section_id = s.id AND `+db.NoTest("g.person_id")+`) g
		CROSS JOIN LATERAL (SELECT count(*) AS tasks FROM tasks t
			WHERE t.section_id = s.id AND t.done_at IS NULL AND t.about IS NULL AND `+db.NoTest("t.person_id")+`) t
		WHERE s.id = ANY ($1::text[]::uuid[])`, sections)
	out := make(map[string]SetUp, len(all))
	for _, x := range all {
		out[x.SectionID] = x
	}
	return out, err
}
