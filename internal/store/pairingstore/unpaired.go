package pairingstore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// IgnoredClass is a class at a service of which somebody said that it is no business of
// Kanban's.
type IgnoredClass struct {
	Ref       string
	IgnoredBy string
	IgnoredAt time.Time
}

// IgnoredClasses lists those of an interface.
func IgnoredClasses(ctx context.Context, from db.From, interfaceID string) ([]IgnoredClass, error) {
	return db.Rows[IgnoredClass](ctx, from, "listing ignored classes", `SELECT ref, ignored_by, ignored_at
		FROM ignored_classes WHERE interface_id = $1 ORDER BY ref`, interfaceID)
}

// IgnoreClasses ignores classes of an interface, or no longer does.
func IgnoreClasses(ctx context.Context, tx *db.Tx, who, interfaceID string, refs []string, ignore bool) error {
	sql := `DELETE FROM ignored_classes WHERE interface_id = $1 AND ref = ANY ($2::text[]) AND $3::text IS NOT NULL`
	if ignore {
		sql = `INSERT INTO ignored_classes (interface_id, ref, ignored_by) SELECT $1, unnest($2::text[]), $3
			ON CONFLICT DO NOTHING`
	}
	_, err := db.Exec(ctx, tx, sql, interfaceID, refs, who)
	return db.Known(err, "ignoring classes")
}

// Holder is an account at a service by what tells whose it is.
type Holder struct {
	ID, ExternalID, UserName, EmailKey string
}

// Seat is a place of an account's person in a section.
type Seat struct {
	SectionID string
	Teacher   bool
}

// SeatsOf gives, by account, the sections in which the people are now whose accounts these
// are: known as theirs, or with their identifier, user name or address. It is evidence, no
// decision about whose account it is.
func SeatsOf(ctx context.Context, from db.From, interfaceID string, holders []Holder) (map[string][]Seat, error) {
	n := len(holders)
	ids, external, names, keys := make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	for i, h := range holders {
		ids[i], external[i], names[i], keys[i] = h.ID, h.ExternalID, h.UserName, h.EmailKey
	}
	type row struct {
		Account string
		Seat    `gorm:"embedded"`
	}
	out := map[string][]Seat{}
	err := db.Each(ctx, from, "finding whose accounts these are", `
		WITH asked AS MATERIALIZED (SELECT * FROM unnest($2::text[], $3::text[], $4::text[], $5::text[]) AS w (id,
			external, name, key)),
		held AS (
			SELECT w.id, a.person_id AS person FROM asked w JOIN accounts a ON a.interface_id = $1
				AND a.remote_id = w.id
			UNION SELECT w.id, p.id FROM asked w JOIN people p ON p.identifier = w.external AND p.gone_at IS NULL
				WHERE w.external <> ''
			UNION SELECT w.id, p.id FROM asked w JOIN people p ON lower(p.user_name) = w.name AND p.gone_at IS NULL
				WHERE w.name <> ''
			UNION SELECT w.id, p.id FROM asked w JOIN people p ON p.email_key = w.key AND p.email_key <> ''
				AND p.gone_at IS NULL WHERE w.key <> '')
		SELECT h.id AS account, s.id::text AS section_id, bool_or(e.role = 'teacher') AS teacher FROM held h
			JOIN people p ON p.id = h.person
		JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id AND e.gone_at IS NULL
		JOIN sections s ON s.interface_id = e.interface_id AND s.sourced_id = e.section AND s.gone_at IS NULL
		GROUP BY 1, 2 ORDER BY 1, 2`, []any{interfaceID, ids, external, names, keys}, func(r row) error {
		out[r.Account] = append(out[r.Account], r.Seat)
		return nil
	})
	return out, err
}
