package pairingstore

import (
	"context"

	"kanban/internal/core/roster"
	"kanban/internal/store/db"
)

// Source gives the section's side of a pairing: who is enrolled, with the accounts
// known at the interface, and whom the pairing has placed.
func Source(ctx context.Context, from db.From, p Pairing) (roster.Source, error) {
	all, err := Sources(ctx, from, p.InterfaceID, []Pairing{p})
	return all[p.ID], err
}

// membersSQL gives the people of sections, with what is known of them at an interface.
const membersSQL = `
		WITH asked AS MATERIALIZED (
			SELECT w.id AS pairing_id, w.section_id, w.grouped FROM unnest($2::text[]::uuid[], $3::text[]::uuid[],
				$4::bool[]) AS w (id, section_id, grouped)),
		seats AS (
			SELECT w.pairing_id, e.interface_id, e.person, e.role, CASE WHEN w.grouped THEN s.id::text ELSE '' END AS
				section, CASE WHEN e.state = 'waiting' THEN e.begin_date END AS begins
			FROM asked w JOIN sections s ON s.id = w.section_id JOIN enrolments e ON e.interface_id = s.interface_id
				AND e.section = s.sourced_id AND (e.gone_at IS NULL OR e.state = 'waiting')
			UNION ALL SELECT w.id, l.interface_id, l.person, l.role, '', l.begins
				FROM unnest($5::text[]::uuid[], $6::text[]::uuid[]) AS w (id, list) CROSS
				JOIN LATERAL people_of_list(w.list) l)
		SELECT w.pairing_id::text, p.id::text AS person_id, CASE k.kind WHEN 'test' THEN 'ext:preview' ELSE w.role END
			AS role, p.given_name, p.family_name, p.email, p.user_name, p.identifier, p.enabled,
		       p.user_ids, p.org, coalesce(o.name, '') AS org_name, coalesce(a.remote_id, '') AS account,
			coalesce(a.chosen_by <> '', false) AS chosen, coalesce(a.switched_off, false) AS switched_off,
		       coalesce((SELECT array_agg(n.remote_id) FROM not_accounts n
			WHERE n.interface_id = $1 AND n.person_id = p.id), '{}') AS not_accounts,
		       coalesce((SELECT f.id::text FROM people f WHERE k.kind = 'second' AND f.interface_id = p.interface_id
			AND f.sourced_id = k.second_of AND f.gone_at IS NULL),
		                (SELECT f.id::text FROM people f WHERE coalesce(k.kind, '') <> 'neither' AND p.secondary
			AND p.master <> '' AND f.interface_id = p.interface_id AND f.master <> ''
		                 AND f.master = p.master AND NOT f.secondary AND f.gone_at IS NULL ORDER BY f.sourced_id
			LIMIT 1), '') AS second_of,
		       w.section AS group,
		       coalesce((SELECT o.given_name || ' ' || o.family_name FROM people o
			WHERE p.email_key <> '' AND o.email_key <> '' AND o.email_key = p.email_key
			AND o.interface_id = p.interface_id
		                 AND o.gone_at IS NULL AND o.id <> p.id AND (p.master = '' OR o.master <> p.master)
		                 AND NOT EXISTS (SELECT 1 FROM person_marks x WHERE x.interface_id = p.interface_id
			AND x.kind = 'second' AND (x.sourced_id = o.sourced_id AND x.second_of = p.sourced_id
			OR x.sourced_id = p.sourced_id AND x.second_of = o.sourced_id)) ORDER BY o.id
			LIMIT 1), '') AS shares_address_with,
		       w.begins
		FROM seats w
		JOIN people p ON p.interface_id = w.interface_id AND p.sourced_id = w.person
		LEFT JOIN orgs o ON o.interface_id = p.interface_id AND o.sourced_id = p.org
		LEFT JOIN person_marks k ON k.interface_id = p.interface_id AND k.sourced_id = p.sourced_id
		LEFT JOIN accounts a ON a.interface_id = $1 AND a.person_id = p.id`

// Sources does the same for many pairings with one interface. A pairing that is
// not stored yet has placed nobody. The conditions that no text is empty repeat
// those of the indexes, or they could not be used.
func Sources(ctx context.Context, from db.From, interfaceID string, pairings []Pairing) (map[string]roster.Source,
	error,
) {
	var ids []string
	for _, p := range pairings {
		ids = append(ids, p.ID)
	}
	asked, err := askedSections(ctx, from, pairings)
	if err != nil {
		return nil, err
	}
	out := make(map[string]roster.Source, len(pairings))
	members, err := sides[roster.Member](ctx, from, "reading the sections' people", membersSQL, interfaceID,
		asked.pairings, asked.sections, asked.grouped, asked.listed, asked.lists)
	if err != nil {
		return nil, err
	}
	placed, err := sides[roster.Placement](ctx, from, "reading whom the pairings placed",
		`SELECT p.pairing_id::text, p.person_id::text, p.remote_id AS account_id, p.name, EXISTS (
			SELECT 1 FROM placements o JOIN pairings q ON q.id = o.pairing_id
			WHERE o.remote_id = p.remote_id AND o.pairing_id <> p.pairing_id AND q.interface_id = $2
				AND q.ended_at IS NULL) AS elsewhere
		FROM placements p WHERE p.pairing_id = ANY ($1::text[]::uuid[])`, ids, interfaceID)
	if err != nil {
		return nil, err
	}
	grouped, err := sides[roster.Grouping](ctx, from, "reading whom the pairings put into groups",
		`SELECT pairing_id::text, remote_id AS account_id, section_id::text AS group FROM group_placements
			WHERE pairing_id = ANY ($1::text[]::uuid[])`, ids)
	for _, p := range pairings {
		out[p.ID] = roster.Source{
			Members: members[p.ID], Placed: placed[p.ID], Grouped: grouped[p.ID],
			TakesOver: p.TakeOver == TakesOverNext,
		}
	}
	return out, err
}

// asked are pairings with the sections that they are about.
type asked struct {
	pairings, sections []string
	grouped            []bool   // the section is one of a linked set
	listed, lists      []string // pairings that are about people lists, with those
}

// askedSections finds the sections that pairings are about.
func askedSections(ctx context.Context, from db.From, pairings []Pairing) (a asked, err error) {
	var sets []string
	for _, p := range pairings {
		if p.SetID != nil && p.Sections == nil {
			sets = append(sets, *p.SetID)
		}
	}
	of := map[string][]string{}
	if len(sets) > 0 {
		of, err = db.Map[string, []string](ctx, from, "finding the sets' sections", `SELECT set_id::text AS key,
			array_agg(section_id::text ORDER BY position) AS value FROM linked_sections
			WHERE set_id = ANY ($1::text[]::uuid[]) AND unlinked_at IS NULL GROUP BY 1`, sets)
		if err != nil {
			return a, err
		}
	}
	lists, err := areLists(ctx, from, pairings)
	if err != nil {
		return a, err
	}
	for _, p := range pairings {
		sections := p.Sections
		switch {
		case lists[p.SectionID]:
			a.listed, a.lists = append(a.listed, p.ID), append(a.lists, p.SectionID)
			continue
		case p.SetID == nil:
			sections = []string{p.SectionID}
		case sections == nil:
			sections = of[*p.SetID]
		}
		for _, x := range sections {
			a.pairings, a.sections, a.grouped = append(a.pairings, p.ID), append(a.sections, x), append(a.grouped,
				p.SetID != nil)
		}
	}
	return a, nil
}

// sides runs a query that gives something of pairings, by their ids.
func sides[T any](ctx context.Context, from db.From, doing, sql string, args ...any) (map[string][]T, error) {
	type row struct {
		PairingID string
		Of        T `gorm:"embedded"`
	}
	out := map[string][]T{}
	err := db.EachFast(ctx, from, doing, sql, args, func(r row) error {
		out[r.PairingID] = append(out[r.PairingID], r.Of)
		return nil
	})
	return out, err
}

// areLists tells which of some pairings' sections are people lists.
func areLists(ctx context.Context, from db.From, pairings []Pairing) (map[string]bool, error) {
	ids := make([]string, len(pairings))
	for i, p := range pairings {
		ids[i] = p.SectionID
	}
	found, err := db.Values[string](ctx, from, "finding people lists", `SELECT id::text FROM people_lists
		WHERE id = ANY ($1::text[]::uuid[])`, ids)
	out := make(map[string]bool, len(found))
	for _, id := range found {
		out[id] = true
	}
	return out, err
}
