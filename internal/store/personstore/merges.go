// Package personstore keeps which records of several registers are one person's, and what is proposed about that.
package personstore

import (
	"context"
	"fmt"
	"strings"
	"time"

	"kanban/internal/store/db"
)

// Merge is two persons who became one.
type Merge struct {
	ID       string
	PersonID string   // who remains
	OtherID  string   // who was merged into them
	Name     string   // of who remains, as it was then
	Other    string   // name of the other, as it was then
	Evidence []string `gorm:"serializer:json"`
	MergedBy string
	MergedAt time.Time
	SplitBy  string
	SplitAt  *time.Time
}

// TableName names the table.
func (Merge) TableName() string { return "person_merges" }

// pointing is a table whose rows name a person.
type pointing struct {
	table string
	key   string // tells the rows of a person apart
	once  string // columns of which one person can have only one row; empty when any number
}

// pointings are all of them, but proofs, which end before people are merged.
var pointings = []pointing{
	{"accesses", `t.id::text`, ``},
	{"accounts", `t.interface_id::text`, `interface_id`},
	{"activity_progress", `t.section_id || '/' || t.activity_id`, `section_id, activity_id`},
	{"awards", `t.id::text`, ``},
	{"brought_credentials", `t.id::text`, `credential_id`},
	{"deliveries", `t.id::text`, ``},
	{"events", `t.id::text`, ``},
	{"holders", `''`, `person_id IS NULL`},
	{"launch_sessions", `encode(t.token, 'hex')`, ``},
	{"not_accounts", `t.interface_id || '/' || t.remote_id`, `interface_id, remote_id`},
	{"people_list_members", `t.list_id::text`, `list_id`},
	{"placements", `t.pairing_id || '/' || t.remote_id`, ``},
	{"progress", `t.section_id::text`, `section_id`},
	{"score_carried", `t.item_id::text`, `item_id`},
	{"score_changes", `t.run_id || '/' || t.position`, ``},
	{"score_decisions", `t.item_id::text`, `item_id`},
	{"score_owners", `t.link_id || '/' || t.source_item || '/' || t.student`, ``},
	{"stage_approvals", `t.approval_id::text`, `approval_id`},
	{"stage_plan_people", `t.stage_plan_id::text`, `stage_plan_id`},
	{"statements", `t.id::text`, ``},
	{"tasks", `t.id::text`, ``},
	{"users", `t.id::text`, ``},
	{"wallet_grants", `t.wallet_id::text`, `wallet_id`},
	{"wallet_tokens", `t.hash::text`, ``},
}

// bySection are the tables whose rows belong to a section: when people are split, those of the sections of a
// register go with its record, whenever they came to be.
var bySection = []string{"activity_progress", "awards", "deliveries", "events", "progress", "score_owners", "tasks"}

// Tables gives the tables whose rows name a person and are moved when people are merged.
func Tables() (all []string) {
	for _, p := range pointings {
		all = append(all, p.table)
	}
	return all
}

// theseMerges are some merges by their ids, behind a statement's WITH.
const theseMerges = `WITH m AS MATERIALIZED (SELECT id, person_id, other_id FROM person_merges
	WHERE id = ANY ($1::text[]::uuid[]))`

// MergePeople lets others become one with those who remain: every record of theirs and everything that names them.
// keep gives, by merge and interface, the account that is used from now on where both have one; the other's is
// dropped. What is moved and dropped is kept, so that SplitPeople can put it back.
func MergePeople(ctx context.Context, tx *db.Tx, merges []Merge, keep map[string]map[string]string) error {
	ids := make([]string, len(merges))
	for i := range merges {
		ids[i] = merges[i].ID
		if err := db.Create(tx, &merges[i], "merging people"); err != nil {
			return err
		}
	}
	steps := []string{
		theseMerges + ` UPDATE person_merges x SET records = r.records FROM (
			SELECT m.id, jsonb_agg(jsonb_build_object('interface', p.interface_id, 'sourced', p.sourced_id,
				'before',
				p.merged_into)) AS records FROM m JOIN people p ON p.id = m.other_id GROUP BY m.id) r WHERE x.id =
					r.id`,
		theseMerges + ` INSERT INTO event_keys SELECT DISTINCT key_of(replace(e.natural_key, m.other_id::text,
			m.person_id::text)) FROM m JOIN events e ON e.person_id = m.other_id
			WHERE strpos(e.natural_key, m.other_id::text) > 0 ON CONFLICT DO NOTHING`,
		theseMerges + ` UPDATE deliveries d SET once_key = replace(d.once_key, m.other_id::text, m.person_id::text)
			FROM m
			WHERE d.person_id = m.other_id AND strpos(d.once_key, m.other_id::text) > 0 AND NOT EXISTS (SELECT 1
				FROM deliveries o WHERE o.once_key = replace(d.once_key, m.other_id::text, m.person_id::text))`,
	}
	for _, p := range pointings {
		if p.once != "" {
			steps = append(steps, p.drop())
		}
		steps = append(steps, p.move())
	}
	steps = append(steps,
		theseMerges+` UPDATE section_facts f SET teacher_ids = array_replace(f.teacher_ids, m.other_id::text,
			m.person_id::text) FROM m WHERE f.teacher_ids && ARRAY[m.other_id::text]`,
		theseMerges+` UPDATE people p SET merged_into = m.person_id FROM m WHERE p.id = m.other_id`,
		theseMerges+` SELECT choose_leading(ARRAY(SELECT person_id FROM m))`)
	if err := chosen(ctx, tx, keep); err != nil {
		return err
	}
	for _, sql := range steps {
		if _, err := db.Exec(ctx, tx, sql, ids); err != nil {
			return db.Known(err, "merging people")
		}
	}
	return nil
}

// chosen drops the accounts of those who remain where the other's is used from now on.
func chosen(ctx context.Context, tx *db.Tx, keep map[string]map[string]string) error {
	for merge, accounts := range keep {
		for interfaceID, remoteID := range accounts {
			if _, err := db.Exec(ctx, tx, `WITH gone AS (
					DELETE FROM accounts a USING person_merges m WHERE m.id = $1 AND a.person_id = m.person_id
						AND a.interface_id = $2 AND a.remote_id <> $3
						AND EXISTS (SELECT 1 FROM accounts o WHERE o.person_id = m.other_id AND o.interface_id = $2
							AND o.remote_id = $3) RETURNING to_jsonb(a) AS row)
				UPDATE person_merges x SET dropped = jsonb_set(x.dropped, '{accounts}',
					coalesce(x.dropped->'accounts', '[]')
					|| (SELECT jsonb_agg(row) FROM gone)) WHERE x.id = $1 AND EXISTS (SELECT 1 FROM gone)`, merge,
				interfaceID,
				remoteID); err != nil {
				return db.Known(err, "choosing an account")
			}
		}
	}
	return nil
}

// MoveRest moves what came to name somebody who was merged meanwhile, as by a fact that was just being recorded.
func MoveRest(ctx context.Context, tx *db.Tx) error {
	ids, err := db.Values[string](ctx, tx, "listing merges", `SELECT id::text FROM person_merges WHERE split_at IS
		NULL
		FOR UPDATE`)
	if err != nil || len(ids) == 0 {
		return err
	}
	for _, p := range pointings {
		if p.once != "" {
			if _, err := db.Exec(ctx, tx, p.drop(), ids); err != nil {
				return db.Known(err, "moving what names merged people")
			}
		}
		if _, err := db.Exec(ctx, tx, p.move(), ids); err != nil {
			return db.Known(err, "moving what names merged people")
		}
	}
	return nil
}

// drop is the statement that drops rows of others where the one who remains has such a row.
func (p pointing) drop() string {
	same := "true"
	if !strings.Contains(p.once, "NULL") {
		var columns []string
		for c := range strings.SplitSeq(p.once, ", ") {
			columns = append(columns, "k."+c+" = t."+c)
		}
		same = strings.Join(columns, " AND ")
	}
	return theseMerges + fmt.Sprintf(`, gone AS (
		DELETE FROM %[1]s t USING m WHERE t.person_id = m.other_id
			AND EXISTS (SELECT 1 FROM %[1]s k WHERE k.person_id = m.person_id AND %[2]s)
		RETURNING m.id, to_jsonb(t) AS row)
		UPDATE person_merges x SET dropped = jsonb_set(x.dropped, '{%[1]s}', coalesce(x.dropped->'%[1]s', '[]') ||
			g.rows)
		FROM (SELECT id, jsonb_agg(row) AS rows FROM gone GROUP BY id) g WHERE x.id = g.id`, p.table, same)
}

// move is the statement that lets rows name the one who remains.
func (p pointing) move() string {
	return theseMerges + fmt.Sprintf(`, moved AS (
		UPDATE %[1]s t SET person_id = m.person_id FROM m WHERE t.person_id = m.other_id RETURNING m.id, %[2]s AS
			key)
		UPDATE person_merges x SET moved = jsonb_set(x.moved, '{%[1]s}', coalesce(x.moved->'%[1]s', '[]') || v.keys)
		FROM (SELECT id, jsonb_agg(key) AS keys FROM moved GROUP BY id) v WHERE x.id = v.id`, p.table, p.key)
}

// SplitPeople lets who was merged be a person again, with everything that was theirs, and with what has come to be
// since in the sections of the registers whose records they have. What was dropped is there again.
func SplitPeople(ctx context.Context, tx *db.Tx, m Merge, by string, at time.Time) error {
	steps := make([]string, 0, 3*len(pointings))
	for _, p := range pointings {
		steps = append(steps, fmt.Sprintf(`UPDATE %[1]s t SET person_id = m.other_id FROM person_merges m,
			jsonb_array_elements_text(m.moved->'%[1]s') k (key) WHERE m.id = $1 AND t.person_id = m.person_id AND
				k.key = %[2]s`,
			p.table, p.key))
	}
	for _, table := range bySection {
		steps = append(steps, fmt.Sprintf(`UPDATE %s t SET person_id = m.other_id FROM person_merges m, sections s
			WHERE m.id = $1 AND t.person_id = m.person_id AND s.id = t.section_id
				AND EXISTS (SELECT 1 FROM jsonb_array_elements(m.records) r WHERE r->>'interface' =
					s.interface_id::text)`, table))
	}
	for _, p := range pointings {
		if p.once == "" {
			continue // nothing of it is ever dropped
		}
		steps = append(steps, fmt.Sprintf(`INSERT INTO %[1]s SELECT (jsonb_populate_record(NULL::%[1]s, r.row)).*
			FROM person_merges m, jsonb_array_elements(m.dropped->'%[1]s') r (row) WHERE m.id = $1 ON CONFLICT DO
				NOTHING`, p.table))
	}
	steps = append(steps,
		`INSERT INTO event_keys SELECT DISTINCT key_of(replace(e.natural_key, m.person_id::text, m.other_id::text))
			FROM person_merges m JOIN events e ON e.person_id = m.other_id WHERE m.id = $1
			AND strpos(e.natural_key, m.person_id::text) > 0 ON CONFLICT DO NOTHING`,
		`UPDATE deliveries d SET once_key = replace(d.once_key, m.person_id::text, m.other_id::text) FROM
			person_merges m
			WHERE m.id = $1 AND d.person_id = m.other_id AND strpos(d.once_key, m.person_id::text) > 0 AND NOT
				EXISTS (SELECT 1
				FROM deliveries o WHERE o.once_key = replace(d.once_key, m.person_id::text, m.other_id::text))`,
		`UPDATE section_facts f SET teacher_ids = array_replace(f.teacher_ids, m.person_id::text, m.other_id::text)
			FROM person_merges m WHERE m.id = $1 AND f.teacher_ids && ARRAY[m.person_id::text]
			AND EXISTS (SELECT 1 FROM jsonb_array_elements(m.records) r WHERE r->>'interface' =
				f.interface_id::text)`,
		`UPDATE people p SET merged_into = (r->>'before')::uuid FROM person_merges m,
			jsonb_array_elements(m.records) r
			WHERE m.id = $1 AND p.interface_id = (r->>'interface')::uuid AND p.sourced_id = r->>'sourced'`,
		`SELECT choose_leading(ARRAY[m.person_id, m.other_id]) FROM person_merges m WHERE m.id = $1`)
	for _, sql := range steps {
		if _, err := db.Exec(ctx, tx, sql, m.ID); err != nil {
			return db.Known(err, "splitting people")
		}
	}
	done, err := db.Exec(ctx, tx, `UPDATE person_merges SET split_by = $2, split_at = $3 WHERE id = $1
		AND split_at IS NULL`, m.ID, by, at)
	if err == nil && done == 0 {
		err = db.ErrStale
	}
	return db.Known(err, "splitting people")
}

// FindMerge finds one by id.
func FindMerge(ctx context.Context, from db.From, id string) (m Merge, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&m).Error
	return m, db.Known(err, "finding the merge")
}

// MergeOf finds the merge by which somebody became one with somebody else, and is none of their own any more.
func MergeOf(ctx context.Context, from db.From, personID string) (m Merge, err error) {
	err = from.Records(ctx).Where("other_id = ? AND split_at IS NULL", personID).First(&m).Error
	return m, db.Known(err, "finding the merge")
}

// Merges lists those that hold, the newest first; before is the id of the last one that was given, personID narrows
// them to those of one person.
func Merges(ctx context.Context, from db.From, personID, before string, limit int) (all []Merge, err error) {
	q := from.Records(ctx).Where("split_at IS NULL").Order("id DESC").Limit(limit)
	if personID != "" {
		q = q.Where("person_id = ?", personID)
	}
	if before != "" {
		q = q.Where("id < ?", before)
	}
	err = q.Find(&all).Error
	return all, db.Known(err, "listing merges")
}

// PeopleNow gives the ids that people have now who may have had others before they were merged, by the ids that are
// asked for. The error is ErrNotFound when one is no id.
func PeopleNow(ctx context.Context, from db.From, ids ...string) (map[string]string, error) {
	return db.Map[string, string](ctx, from, "finding people", `WITH RECURSIVE m AS (
			SELECT w.id AS was, w.id::uuid AS now, 0 AS n FROM unnest($1::text[]) AS w (id)
			UNION SELECT m.was, o.person_id, m.n + 1 FROM m JOIN person_merges o ON o.other_id = m.now AND o.split_at IS NULL)
		SELECT DISTINCT ON (was) was AS key, now::text AS value FROM m ORDER BY was, n DESC`, ids)
}

// Record is what a register has of a person.
type Record struct {
	PersonID    string
	InterfaceID string
	Register    string // its name
	SourcedID   string
	GivenName   string
	FamilyName  string
	Email       string
	UserName    string
	Identifier  string
	Leads       bool // its name and address stand for the person
	Left        bool // the register does not list it any more
	Test        bool // a test learner that was made, or somebody whom somebody called one
	Second      bool // a second account
	Enrolments  int
}

// Records lists the records of people, the leading ones first.
func Records(ctx context.Context, from db.From, people ...string) ([]Record, error) {
	return db.Rows[Record](ctx, from, "finding the person's records", `SELECT p.id::text AS person_id,
		p.interface_id::text, c.name AS register, p.sourced_id, p.given_name, p.family_name, p.email, p.user_name,
			p.identifier,
		p.leads, p.gone_at IS NOT NULL AS left, p.test OR coalesce(k.kind = 'test', false) AS test,
		coalesce(k.kind = 'second', p.secondary) AS second, (SELECT count(*)::int FROM enrolments e
			WHERE e.interface_id = p.interface_id AND e.person = p.sourced_id AND e.gone_at IS NULL) AS enrolments
		FROM people p JOIN interfaces c ON c.id = p.interface_id
		LEFT JOIN person_marks k ON k.interface_id = p.interface_id AND k.sourced_id = p.sourced_id
		WHERE p.id = ANY ($1::text[]::uuid[]) ORDER BY NOT p.leads, c.name, p.sourced_id`, people)
}

// Clash is something of which each of two persons has one, and one person can have only one.
type Clash struct {
	PersonID, OtherID string
	Kind              string // ClashAccount, ClashBadge or ClashProof
	InterfaceID       string // of accounts
	Subject           string // the service's or badge's name
	Mine, Theirs      string // of accounts: what the service calls them
}

// Kinds of clashes.
const (
	ClashAccount = "account"
	ClashBadge   = "badge"
	ClashProof   = "proof"
)

// Clashes lists those of pairs of persons.
func Clashes(ctx context.Context, from db.From, people, others []string) ([]Clash, error) {
	return db.Rows[Clash](ctx, from, "finding what two people have each", `WITH w AS (
			SELECT * FROM unnest($1::text[]::uuid[], $2::text[]::uuid[]) AS w (a, b))
		SELECT w.a::text AS person_id, w.b::text AS other_id, 'account' AS kind, c.id::text AS interface_id, c.name
			AS subject,
			x.remote_id AS mine, y.remote_id AS theirs
		FROM w JOIN accounts x ON x.person_id = w.a JOIN accounts y ON y.person_id = w.b AND y.interface_id =
			x.interface_id
			AND y.remote_id <> x.remote_id JOIN interfaces c ON c.id = x.interface_id
		UNION ALL SELECT w.a::text, w.b::text, 'badge', '', b.name, '', '' FROM w
			JOIN awards x ON x.person_id = w.a AND x.revoked_at IS NULL AND x.renewed_at IS NULL
			JOIN awards y ON y.person_id = w.b AND y.revoked_at IS NULL AND y.renewed_at IS NULL AND y.badge_id =
				x.badge_id
			JOIN badges b ON b.id = x.badge_id
		UNION ALL SELECT w.a::text, w.b::text, 'proof', '', p.name, '', '' FROM w
			JOIN proofs p ON p.ended_at IS NULL AND p.person_id IN (w.a, w.b)
		ORDER BY 1, 2, 3, 5`, people, others)
}

// Touched are what stage plans may look at anew for people who were merged or split.
type Touched struct{ Courses, Badges []string }

// TouchedOf gives the courses and badges of people.
func TouchedOf(ctx context.Context, from db.From, people []string) (t Touched, err error) {
	if t.Courses, err = db.Values[string](ctx, from, "finding the people's courses", `SELECT DISTINCT
		f.course_id::text
		FROM people p JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id AND
			e.gone_at IS NULL
		JOIN sections s ON s.interface_id = e.interface_id AND s.sourced_id = e.section JOIN section_facts f ON
			f.section_id = s.id
		WHERE p.id = ANY ($1::text[]::uuid[]) AND e.role = 'student'`, people); err != nil {
		return t, err
	}
	t.Badges, err = db.Values[string](ctx, from, "finding the people's badges", `SELECT DISTINCT badge_id::text
		FROM awards
		WHERE person_id = ANY ($1::text[]::uuid[])`, people)
	return t, err
}

// PairingsOf gives the ids of the pairings of the sections in which some people are.
func PairingsOf(ctx context.Context, from db.From, people []string) ([]string, error) {
	return db.Values[string](ctx, from, "finding the people's pairings", `SELECT DISTINCT q.pairing_id::text
		FROM people p JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id AND
			e.gone_at IS NULL
		JOIN sections s ON s.interface_id = e.interface_id AND s.sourced_id = e.section
		JOIN paired_sections q ON q.section_id = s.id JOIN pairings g ON g.id = q.pairing_id AND g.ran_at IS NOT
			NULL
		WHERE p.id = ANY ($1::text[]::uuid[])`, people)
}
