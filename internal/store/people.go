package store

import (
	"context"
	"errors"
	"strings"
	"time"
)

// Whereabouts is a section that a person is in, or was.
type Whereabouts struct {
	SectionID string
	Section   string
	Course    string
	Role      string
	JoinedAt  time.Time
	LeftAt    *time.Time
	BeginsOn  *time.Time // the first day of an enrolment that has not begun
	PairingID string     // of the section now, empty when not paired
	Target    string
	Percent   *int // progress, when there is any
}

// WhereaboutsOf lists a person's sections, present ones first. What was reached
// in a section that was left stays with it.
func (s *Store) WhereaboutsOf(ctx context.Context, personID string) ([]Whereabouts, error) {
	return many[Whereabouts](ctx, s, "finding the person's sections", `
		SELECT s.id::text, s.title, c.title, e.role, coalesce(e.joined_at, e.begin_date::timestamptz, e.gone_at), CASE WHEN e.standing <> 'waiting' THEN e.gone_at END, CASE WHEN e.standing = 'waiting' THEN e.begin_date END, coalesce(p.id::text, ''), coalesce(p.target_name, ''), g.percent
		FROM people h
		JOIN enrolments e ON e.connection_id = h.connection_id AND e.person = h.sourced_id
		JOIN sections s ON s.connection_id = e.connection_id AND s.sourced_id = e.section
		JOIN courses c ON c.connection_id = s.connection_id AND c.sourced_id = s.course
		LEFT JOIN paired_sections q ON q.section_id = s.id
		LEFT JOIN pairings p ON p.id = q.pairing_id
		LEFT JOIN progress g ON g.person_id = h.id AND g.section_id = s.id
		WHERE h.id = $1 AND (e.joined_at IS NOT NULL OR e.standing <> 'gone') ORDER BY e.gone_at DESC NULLS FIRST, s.title`, personID)
}

// People finds people by a part of their name, address, user name or identifier; those of whom
// one of the latter three is the whole text come first.
func (s *Store) People(ctx context.Context, text string, limit int) ([]Person, error) {
	return many[Person](ctx, s, "finding people", `
		SELECT `+personColumns+` FROM people p
		WHERE p.gone_at IS NULL`+shown("p")+` AND strpos(lower(p.given_name || ' ' || p.family_name || ' ' || p.email || ' ' || p.user_name || ' ' || p.identifier), lower($1)) > 0
		ORDER BY lower($1) NOT IN (lower(p.identifier), lower(p.email), lower(p.user_name)), p.family_name, p.given_name, p.id LIMIT $2`, text, limit)
}

// PersonCalled finds somebody by the register's identifier or, when nobody has it, by
// address.
func (s *Store) PersonCalled(ctx context.Context, name string) (Person, error) {
	p, err := s.PersonByIdentifier(ctx, name)
	if errors.Is(err, ErrNotFound) && strings.Contains(name, "@") {
		return s.PersonByAddress(ctx, name)
	}
	return p, err
}
