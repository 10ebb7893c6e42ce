package rosterstore

import (
	"context"
	"errors"
	"strings"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/reachstore"
)

// Whereabouts is a section that a person is in, or was.
type Whereabouts struct {
	SectionID string
	Section   string
	Course    string
	Role      string
	JoinedAt  time.Time
	LeftAt    *time.Time
	Through   string     // the identifier of the person's second account that is enrolled, empty for their own
	BeginsOn  *time.Time // the first day of an enrolment that has not begun
	PairingID string     // of the section now, empty when not paired
	Target    string
	Percent   *int // progress, when there is any
	// From is the day from which the register has the enrolment, nil when it does not say.
	From *time.Time
	// What is known of the class, as the pairing was compared last.
	Service                 string
	PlacedAt                *time.Time // when Kanban put them into the class, nil while they are not in it
	Code, Detail, Outcome   string     // why they are not simply in it, empty when nothing is to be said
	ComparedAt, RanAt       *time.Time // of the pairing
	Stopped, Paused, Undone bool       // its last run failed; it is paused; it has something to do
	Unminded                int        // of its people are in the class and are not Kanban's to mind
}

// WhereaboutsOf lists a person's sections, present ones first. What was reached
// in a section that was left stays with it. Those of their second accounts are among them.
func WhereaboutsOf(ctx context.Context, from db.From, personID string) ([]Whereabouts, error) {
	return db.Rows[Whereabouts](ctx, from, "finding the person's sections", `
		WITH who AS (
			SELECT id, interface_id, sourced_id, '' AS through FROM people WHERE id = $1
			UNION ALL SELECT x.id, x.interface_id, x.sourced_id, x.identifier FROM people f
				JOIN people x ON x.interface_id = f.interface_id AND x.id <> f.id AND x.gone_at IS NULL
				LEFT JOIN person_marks k ON k.interface_id = x.interface_id AND k.sourced_id = x.sourced_id
			WHERE f.id = $1 AND (k.kind = 'second' AND k.second_of = f.sourced_id OR k.kind IS NULL AND x.secondary
				AND x.master <> '' AND x.master = f.master AND NOT f.secondary))
		SELECT s.id::text AS section_id, s.title AS section, c.title AS course, e.role, coalesce(e.joined_at,
			e.begin_date::timestamptz, e.gone_at) AS joined_at, CASE WHEN e.state <> 'waiting' THEN e.gone_at END AS
			left_at, h.through, CASE WHEN e.state = 'waiting' THEN e.begin_date END AS begins_on, coalesce(p.id::text,
			'') AS pairing_id, coalesce(p.target_name, '') AS target, g.percent,
			e.begin_date AS from, coalesce((SELECT n.name FROM interfaces n
				WHERE n.id = p.interface_id), '') AS service, (SELECT min(o.placed_at) FROM placements o
				WHERE o.pairing_id = p.id AND o.person_id = h.id) AS placed_at,
			coalesce(m.one->>'code', '') AS code, coalesce(m.one->>'detail', '') AS detail,
				coalesce(m.one->>'outcome', '') AS outcome, p.compared_at, p.ran_at, coalesce(p.last_failed,
				false) AS stopped,
			coalesce(p.paused_at IS NOT NULL OR (SELECT `+connectionstore.Paused("n")+` FROM interfaces n
				WHERE n.id = p.interface_id), false) AS paused, coalesce((p.counts->>'to-add')::int,
				0) > 0 AS undone, coalesce(p.unminded, 0) AS unminded
		FROM who h
		JOIN enrolments e ON e.interface_id = h.interface_id AND e.person = h.sourced_id
		JOIN sections s ON s.interface_id = e.interface_id AND s.sourced_id = e.section
		JOIN courses c ON c.interface_id = s.interface_id AND c.sourced_id = s.course
		LEFT JOIN paired_sections q ON q.section_id = s.id
		LEFT JOIN pairings p ON p.id = q.pairing_id
		LEFT JOIN LATERAL (SELECT one FROM (VALUES (p.mend), (p.left_as_is)) v (list),
			jsonb_array_elements(CASE jsonb_typeof(v.list) WHEN 'array' THEN v.list ELSE '[]' END) one
			WHERE one->>'personId' = h.id::text LIMIT 1) m ON true
		LEFT JOIN progress g ON g.person_id = h.id AND g.section_id = s.id
		WHERE (e.joined_at IS NOT NULL OR e.state <> 'gone') ORDER BY e.gone_at DESC NULLS FIRST, s.title`, personID)
}

// FoundPerson is a person with the name of the register that has them.
type FoundPerson struct {
	Person
	Register string
}

// FoundPeople are the first of the people that were looked for, and how many there are.
type FoundPeople struct {
	People []FoundPerson
	Total  int
}

// People finds people by a part of their name, address, user name or identifier; those of whom
// one of the latter three is the whole text come first. Of some sections, now or before, or of all when within is nil.
func People(ctx context.Context, from db.From, text string, limit int, within *permission.Reach) (found FoundPeople,
	err error,
) {
	type row struct {
		FoundPerson `gorm:"embedded"`
		Total       int
	}
	const has = `strpos(lower(p.given_name || ' ' || p.family_name || ' ' || p.email || ' ' || p.user_name || ' '
		|| p.identifier), lower($1)) > 0`
	args, there := []any{text, limit}, ``
	if within != nil {
		args = append(args, within.IDs())
		there = ` AND ` + reachstore.In(permission.OfPerson, "p.id", "$3::text[]::uuid[]")
	}
	err = db.Each(ctx, from, "finding people", `
		SELECT x.*, count(*) OVER ()::int AS total FROM (SELECT DISTINCT ON (p.id) `+PersonColumns+`, coalesce((
			SELECT n.name FROM interfaces n WHERE n.id = p.interface_id), '') AS register FROM people p
			WHERE p.gone_at IS NULL AND NOT p.test`+connectionstore.NotRemoved("p")+there+` AND `+has+`
			ORDER BY p.id, NOT p.leads, lower($1) NOT IN (lower(p.identifier), lower(p.email), lower(p.user_name))) x
		ORDER BY lower($1) NOT IN (lower(x.identifier), lower(x.email), lower(x.user_name)), x.family_name,
			x.given_name, x.id LIMIT $2`, args, func(r row) error {
		found.People, found.Total = append(found.People, r.FoundPerson), r.Total
		return nil
	})
	return found, err
}

// PersonCalled finds somebody by the register's identifier or, when nobody has it, by
// address.
func PersonCalled(ctx context.Context, from db.From, name string) (Person, error) {
	p, err := PersonByIdentifier(ctx, from, name)
	if errors.Is(err, db.ErrNotFound) && strings.Contains(name, "@") {
		return PersonByAddress(ctx, from, name)
	}
	return p, err
}

// InOtherSections gives, by account, the people to whom accounts at an interface belong and whom the
// register has in other sections of a section's course now.
func InOtherSections(ctx context.Context, from db.From, interfaceID, sectionID string,
	accounts []string,
) (map[string]roster.Other, error) {
	type row struct {
		Account      string
		roster.Other `gorm:"embedded"`
	}
	out := map[string]roster.Other{}
	err := db.Each(ctx, from, "finding who is of other sections", `SELECT a.remote_id AS account,
		p.id::text AS person_id, p.given_name || ' ' || p.family_name AS name, array_agg(DISTINCT x.title
		ORDER BY x.title) AS sections
		FROM sections s JOIN sections x ON x.interface_id = s.interface_id AND x.course = s.course AND x.id <> s.id
			AND x.gone_at IS NULL
		JOIN enrolments e ON e.interface_id = x.interface_id AND e.section = x.sourced_id AND e.gone_at IS NULL
		JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person
		JOIN accounts a ON a.interface_id = $1 AND a.person_id = p.id AND a.remote_id = ANY ($3::text[])
		WHERE s.id = $2 GROUP BY 1, 2, 3`, []any{interfaceID, sectionID, accounts}, func(r row) error {
		out[r.Account] = r.Other
		return nil
	})
	return out, err
}

// Named is somebody whom a name fits: an identifier, an e-mail address or a user name.
type Named struct {
	Person
	Name string
	Left bool // they are not in the register any more
}

// PeopleNamed gives everybody whom one of some names fits, those who left too, in the order of the names. Nobody is
// chosen: of a name that fits several, all of them are given.
func PeopleNamed(ctx context.Context, from db.From, names []string) ([]Named, error) {
	keys := make([]string, len(names))
	for i, n := range names {
		if key, err := roster.AddressKey(n); err == nil {
			keys[i] = key
		}
	}
	fits := func(how string) string {
		return `SELECT ` + PersonColumns + `, n.name, p.gone_at IS NOT NULL AS "left", n.at, p.leads
			FROM unnest($1::text[], $2::text[]) WITH ORDINALITY n (name, key, at) JOIN people p ON ` + how +
			connectionstore.NotRemoved("p")
	}
	return db.Rows[Named](ctx, from, "finding people", `SELECT id, given_name, family_name, email, user_name,
		identifier, name, "left" FROM (SELECT DISTINCT ON (at, id) * FROM (`+fits(`p.identifier = n.name AND n.name <> ''`)+
		` UNION `+fits(`p.email_key = n.key AND n.key <> ''`)+` UNION `+
		fits(`lower(p.user_name) = lower(n.name) AND n.name <> ''`)+`) y ORDER BY at, id, "left", NOT leads) x
		ORDER BY at, "left", id`, names, keys)
}
