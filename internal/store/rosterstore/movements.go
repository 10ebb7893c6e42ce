package rosterstore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// RosterLine is one person of a section's roster on a day.
type RosterLine struct {
	PersonID   string
	Name       string
	Identifier string
	Role       string
	JoinedAt   time.Time
	LeftAt     *time.Time
}

// RosterOn lists who was in a section at a time, with when they joined and left.
// What a first read found counts from the enrolment's first day.
func RosterOn(ctx context.Context, from db.From, sectionID string, at time.Time) ([]RosterLine, error) {
	return db.Rows[RosterLine](ctx, from, "listing the roster", `
		WITH spells AS (
			SELECT e.interface_id, e.section, e.person, e.role, CASE e.state WHEN 'waiting' THEN
				e.begin_date::timestamptz ELSE least(e.begin_date::timestamptz, e.joined_at) END AS joined,
				CASE WHEN e.state = 'gone' THEN least(e.gone_at, (e.end_date + 1)::timestamptz) ELSE (e.end_date +
					1)::timestamptz END AS left_at
			FROM enrolments e WHERE (e.state <> 'gone' OR e.joined_at IS NOT NULL) AND NOT e.test
			UNION ALL
			SELECT e.interface_id, e.section, e.person, e.role, least(e.begin_date::timestamptz, e.joined_at),
				e.left_at FROM past_enrolments e)
		SELECT p.id::text AS person_id, p.given_name || ' ' || p.family_name AS name, p.identifier, e.role,
			e.joined AS joined_at, e.left_at
		FROM sections s JOIN spells e ON e.interface_id = s.interface_id AND e.section = s.sourced_id
		JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person
		WHERE s.id = $1 AND e.joined <= $2 AND (e.left_at IS NULL OR e.left_at > $2)
		ORDER BY e.role DESC, p.family_name, p.given_name, p.id`, sectionID, at)
}

// spells are from when to when somebody was in a section, as the reads found it; first is when the first read of each
// register ended, which found everybody.
const spells = `WITH spells AS (
		SELECT e.interface_id, e.section, e.person, e.role, e.joined_at AS joined, e.gone_at AS left_at
			FROM enrolments e WHERE e.joined_at IS NOT NULL AND NOT e.test
		UNION ALL SELECT e.interface_id, e.section, e.person, e.role, e.joined_at, e.left_at
			FROM past_enrolments e),
	first AS (SELECT r.interface_id, min(r.finished_at) AS at FROM runs r WHERE r.kind = 'read'
		AND r.state IN ('finished', 'needs-person') GROUP BY 1)`

// Movements lists who joined and left a section after its first read, newest first.
func Movements(ctx context.Context, from db.From, sectionID string, limit int) ([]RosterLine, error) {
	return db.Rows[RosterLine](ctx, from, "listing who came and went", spells+`
		SELECT p.id::text AS person_id, p.given_name || ' ' || p.family_name AS name, p.identifier, e.role,
			e.joined AS joined_at, e.left_at
		FROM sections s JOIN spells e ON e.interface_id = s.interface_id AND e.section = s.sourced_id
		JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person
			JOIN first f ON f.interface_id = s.interface_id
		WHERE s.id = $1 AND (e.joined > f.at OR e.left_at > f.at)
		ORDER BY coalesce(e.left_at, e.joined) DESC, p.id LIMIT $2`, sectionID, limit)
}

// Movement is how many joined and left in a quarter of an hour, of which the days of every time zone are made.
type Movement struct {
	At     time.Time
	Joined int
	Left   int
}

// CountMovements counts who joined and left sections after their first read, in any role, from a time on and before
// another; nil is without an end.
func CountMovements(ctx context.Context, from db.From, sectionIDs []string, after, before *time.Time) ([]Movement,
	error,
) {
	return db.Rows[Movement](ctx, from, "counting who came and went", spells+`, moved AS (
			SELECT m.at, m.joined, m.gone FROM sections s
			JOIN spells e ON e.interface_id = s.interface_id AND e.section = s.sourced_id
			JOIN first f ON f.interface_id = s.interface_id
			CROSS JOIN LATERAL (VALUES (e.joined, 1, 0), (e.left_at, 0, 1)) AS m (at, joined, gone)
			WHERE s.id = ANY ($1::text[]::uuid[]) AND m.at > f.at)
		SELECT `+db.Quarter(`at`)+` AS at, sum(joined)::int AS joined, sum(gone)::int AS left
		FROM moved WHERE ($2::timestamptz IS NULL OR at >= $2) AND ($3::timestamptz IS NULL OR at < $3)
		GROUP BY 1 ORDER BY 1`, sectionIDs, after, before)
}

// Arrival is how long it took at a service from when a read found that people had joined until they were in the class.
type Arrival struct {
	Service string
	Joined  int
	In      int
	Half    *float64 // days after which half of them were in; nil when nobody is
	Most    *float64 // and 9 of 10
}

// Arrivals says so of those who joined sections after their first read, from a time on and before another, and are in
// them.
func Arrivals(ctx context.Context, from db.From, sectionIDs []string, after, before *time.Time) ([]Arrival, error) {
	return db.Rows[Arrival](ctx, from, "counting when who joined was in the class", spells+`, seats AS (
			SELECT n.name AS service, (SELECT min(o.placed_at) FROM placements o WHERE o.pairing_id = w.id
				AND o.person_id = p.id AND o.placed_at >= e.joined) - e.joined AS took
			FROM sections s JOIN spells e ON e.interface_id = s.interface_id AND e.section = s.sourced_id
				AND e.left_at IS NULL AND e.role IN ('student', 'teacher')
			JOIN first f ON f.interface_id = s.interface_id AND e.joined > f.at
			JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person
			JOIN paired_sections q ON q.section_id = s.id JOIN pairings w ON w.id = q.pairing_id AND w.ended_at IS NULL
			JOIN interfaces n ON n.id = w.interface_id
			WHERE s.id = ANY ($1::text[]::uuid[]) AND ($2::timestamptz IS NULL OR e.joined >= $2)
				AND ($3::timestamptz IS NULL OR e.joined < $3))
		SELECT service, count(*)::int AS joined, count(took)::int AS in,
			(percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM took)) / 86400)::float8 AS half,
			(percentile_cont(0.9) WITHIN GROUP (ORDER BY extract(epoch FROM took)) / 86400)::float8 AS most
		FROM seats GROUP BY 1 ORDER BY 1`, sectionIDs, after, before)
}
