package personstore

import (
	"context"

	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
)

// Comparable lists the records of a register that can be one person's with those of others: of people whom it lists
// now, and who are neither second accounts nor test learners.
func Comparable(ctx context.Context, from db.From, interfaceID string) ([]roster.Record, error) {
	return db.Rows[roster.Record](ctx, from, "listing the register's people", `SELECT p.sourced_id AS id,
		p.identifier,
		p.email, p.user_name, p.given_name AS given, p.family_name AS family FROM people p
		LEFT JOIN person_marks k ON k.interface_id = p.interface_id AND k.sourced_id = p.sourced_id
		WHERE p.interface_id = $1 AND p.gone_at IS NULL AND NOT p.test
			AND CASE k.kind WHEN 'neither' THEN true WHEN 'second' THEN false WHEN 'test' THEN false ELSE NOT
				p.secondary END
		ORDER BY p.sourced_id`, interfaceID)
}

// Registers lists the ids of the registers that have people, the oldest first.
func Registers(ctx context.Context, from db.From) ([]string, error) {
	return db.Values[string](ctx, from, "listing registers", `SELECT i.id::text FROM interfaces i WHERE
		i.removed_at IS NULL
		AND EXISTS (SELECT 1 FROM people p WHERE p.interface_id = i.id) ORDER BY i.id`)
}

// DomainRules gives every domain rule by which people are recognised at some service, each once.
func DomainRules(ctx context.Context, from db.From) ([]roster.DomainRule, error) {
	return db.Rows[roster.DomainRule](ctx, from, "listing domain rules", `SELECT DISTINCT d->>'from' AS "from",
		d->>'to' AS "to",
		'' AS role FROM interfaces i, jsonb_array_elements(CASE jsonb_typeof(i.matching->'domains') WHEN 'array'
			THEN i.matching->'domains' ELSE '[]' END) d WHERE coalesce(d->>'role', '') = '' AND i.removed_at IS
				NULL ORDER BY 1, 2`)
}

// KeepSame keeps which records of two registers look like one person's; a is the one with the smaller id. Those
// that are one person's already and those of which somebody said that they are not are left away.
func KeepSame(ctx context.Context, tx *db.Tx, a, b string, pairs []roster.SamePerson) error {
	if _, err := db.Exec(ctx, tx, `DELETE FROM same_people WHERE a_interface = $1 AND b_interface = $2`, a,
		b); err != nil {
		return db.Known(err, "keeping who looks like one person")
	}
	const step = 10000
	for ; len(pairs) > 0; pairs = pairs[min(step, len(pairs)):] {
		now := pairs[:min(step, len(pairs))]
		ones, others, certainty, signs := make([]string, len(now)), make([]string, len(now)), make([]string,
			len(now)),
			make([]string, len(now))
		for i, p := range now {
			ones[i], others[i], certainty[i] = p.A, p.B, string(p.Certainty)
			for n, s := range p.Signs {
				if n > 0 {
					signs[i] += ","
				}
				signs[i] += string(s)
			}
		}
		if _, err := db.Exec(ctx, tx, `INSERT INTO same_people (a_interface, a_sourced, b_interface, b_sourced,
			certainty, signs)
			SELECT $1::uuid, w.a, $2::uuid, w.b, w.certainty, string_to_array(w.signs, ',')
			FROM unnest($3::text[], $4::text[], $5::text[], $6::text[]) AS w (a, b, certainty, signs)
			JOIN people p ON p.interface_id = $1::uuid AND p.sourced_id = w.a
			JOIN people o ON o.interface_id = $2::uuid AND o.sourced_id = w.b
			WHERE p.id <> o.id AND NOT EXISTS (SELECT 1 FROM different_people d WHERE d.a_interface = $1::uuid
				AND d.a_sourced = w.a AND d.b_interface = $2::uuid AND d.b_sourced = w.b)
			ON CONFLICT DO NOTHING`, a, b, ones, others, certainty, signs); err != nil {
			return db.Known(err, "keeping who looks like one person")
		}
	}
	return nil
}

// Same is two records that look like one person's.
type Same struct {
	ID        string // tells it apart from all others
	Certainty roster.Certainty
	Signs     []string
	A, B      Record `gorm:"-"`
}

// sameRow is one of the statement behind SamePeople.
type sameRow struct {
	ID, Certainty string
	Signs         []string
	AID, BID      string
	AInterface    string
	ASourced      string
	BInterface    string
	BSourced      string
}

// SameFilter narrows what looks like one person.
type SameFilter struct {
	Certainty roster.Certainty // "" for all
	PersonID  string           // with a record of this person
	Text      string           // a part of a name, address or identifier of either
	After     string           // the id of the last one that was given
	IDs       []string         // just these
	Limit     int
}

const sameID = `md5(s.a_interface || '/' || s.a_sourced || '/' || s.b_interface || '/' || s.b_sourced)`

const sameSQL = ` FROM same_people s
	JOIN people a ON a.interface_id = s.a_interface AND a.sourced_id = s.a_sourced
	JOIN people b ON b.interface_id = s.b_interface AND b.sourced_id = s.b_sourced
	WHERE a.id <> b.id`

// SamePeople lists the pairs that look like one person, by how sure that is and then by name.
func SamePeople(ctx context.Context, from db.From, f SameFilter) ([]Same, error) {
	const order = `array_position(ARRAY['sure', 'likely', 'unsure', 'ambiguous'], s.certainty)`
	rows, err := db.Rows[sameRow](ctx, from, "listing who looks like one person", `SELECT `+sameID+` AS id,
		s.certainty, s.signs,
		a.id::text AS a_id, b.id::text AS b_id, s.a_interface::text, s.a_sourced, s.b_interface::text,
			s.b_sourced`+sameSQL+
		connectionstore.NotRemoved("a")+connectionstore.NotRemoved("b")+` AND ($1 = '' OR s.certainty = $1)
		AND ($2 = '' OR a.id::text = $2 OR b.id::text = $2) AND ($3 = '' OR strpos(lower(a.given_name || ' ' ||
			a.family_name
			|| ' ' || a.email || ' ' || a.identifier || ' ' || b.given_name || ' ' || b.family_name || ' ' ||
				b.email || ' '
			|| b.identifier), lower($3)) > 0)
		AND ($4 = '' OR (`+order+`, a.family_name, a.given_name, `+sameID+`) > (SELECT `+order+`, a.family_name,
			a.given_name, `+
		sameID+sameSQL+` AND `+sameID+` = $4)) AND (cardinality($5::text[]) = 0 OR `+sameID+` = ANY ($5::text[]))
		ORDER BY `+order+`, a.family_name, a.given_name, 1 LIMIT nullif($6::int, 0)`, string(f.Certainty),
		f.PersonID, f.Text, f.After,
		append([]string{}, f.IDs...), f.Limit)
	if err != nil {
		return nil, err
	}
	var people []string
	for _, r := range rows {
		people = append(people, r.AID, r.BID)
	}
	records, err := Records(ctx, from, people...)
	if err != nil {
		return nil, err
	}
	by := map[[2]string]Record{}
	for _, r := range records {
		by[[2]string{r.InterfaceID, r.SourcedID}] = r
	}
	all := make([]Same, len(rows))
	for i, r := range rows {
		all[i] = Same{
			ID: r.ID, Certainty: roster.Certainty(r.Certainty), Signs: r.Signs, A: by[[2]string{
				r.AInterface,
				r.ASourced,
			}],
			B: by[[2]string{r.BInterface, r.BSourced}],
		}
	}
	return all, nil
}

// CountSame counts the pairs that look like one person, by how sure that is.
func CountSame(ctx context.Context, from db.From) (map[string]int, error) {
	return db.Map[string, int](ctx, from, "counting who looks like one person", `SELECT s.certainty AS key,
		count(*)::int AS value`+
		sameSQL+connectionstore.NotRemoved("a")+connectionstore.NotRemoved("b")+` GROUP BY 1`)
}

// KeepApart keeps that somebody said that two records are two people's.
func KeepApart(ctx context.Context, tx *db.Tx, s Same, by string) error {
	_, err := db.Exec(ctx, tx, `WITH gone AS (DELETE FROM same_people s WHERE `+sameID+` = $1 RETURNING *)
		INSERT INTO different_people (a_interface, a_sourced, b_interface, b_sourced, decided_by)
		SELECT a_interface, a_sourced, b_interface, b_sourced, $2 FROM gone ON CONFLICT DO NOTHING`, s.ID, by)
	return db.Known(err, "keeping that they are two people")
}

// Apart is two records of which somebody said that they are two people's.
type Apart struct {
	ID        string
	A         string // a name
	ARegister string
	B         string
	BRegister string
	DecidedBy string
}

// KeptApart lists them by name.
func KeptApart(ctx context.Context, from db.From) ([]Apart, error) {
	return db.Rows[Apart](ctx, from, "listing who are two people", `SELECT `+sameID+` AS id,
		a.given_name || ' ' || a.family_name AS a, b.given_name || ' ' || b.family_name AS b, x.name AS a_register,
		y.name AS b_register, s.decided_by FROM different_people s
		JOIN people a ON a.interface_id = s.a_interface AND a.sourced_id = s.a_sourced
		JOIN people b ON b.interface_id = s.b_interface AND b.sourced_id = s.b_sourced
		JOIN interfaces x ON x.id = s.a_interface JOIN interfaces y ON y.id = s.b_interface ORDER BY 2, 3, 1`)
}

// Rejoin drops what somebody said of two records; ok is false when nothing was. They are proposed again when it is
// looked for the next time.
func Rejoin(ctx context.Context, tx *db.Tx, id string) (registers []string, err error) {
	return db.Values[string](ctx, tx, "dropping that they are two people", `DELETE FROM different_people s WHERE
		`+sameID+` = $1
		RETURNING a_interface::text`, id)
}
