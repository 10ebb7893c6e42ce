// Package mirror merges what a register says into Kanban's copy of it, set-wise, and tells
// what that changed: COPY into staging tables, then a few statements for all rows.
package mirror

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/core/finding"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
)

// mirrorTable is one table of the mirror.
type mirrorTable struct {
	name    string
	columns []string // that a read fills, sourced_id first
	refs    []mirrorRef
	lists   []mirrorRef // columns that hold several
	same    []string    // rows that agree in these columns are one thing given twice
}

// mirrorRef is a column that holds the sourced id of a row of another table.
type mirrorRef struct{ column, table, noun string }

var mirrorTables = []mirrorTable{
	{name: "orgs", columns: []string{"sourced_id", "name", "type", "parent"}},
	{name: "terms", columns: []string{"sourced_id", "title", "type", "start_date", "end_date", "parent"}},
	{name: "courses", columns: []string{"sourced_id", "title", "org", "code", "level", "subject"}},
	{
		name: "sections", columns: []string{
			"sourced_id", "title", "code", "class_type", "course", "org", "terms",
			"level", "subject",
		},
		refs:  []mirrorRef{{"course", "courses", "course"}},
		lists: []mirrorRef{{"terms", "terms", "term"}},
	},
	{name: "people", columns: []string{
		"sourced_id", "given_name", "family_name", "email", "email_key", "user_name",
		"identifier", "user_ids", "org", "master", "secondary", "enabled",
	}},
	{
		name: "enrolments", columns: []string{
			"sourced_id", "section", "person", "role", "begin_date", "end_date",
			"state",
		},
		refs: []mirrorRef{{"section", "sections", "class"}, {"person", "people", "user"}},
		same: []string{"section", "person", "role"},
	},
}

// Incoming gives the records of one read, a table at a time.
type Incoming interface {
	// Partial reports whether the table only changes: what does not come stays.
	Partial(table string) bool
	// Each calls put for each record of the table. seen tells whether a record
	// with this fingerprint is in the mirror already, unchanged: then it need not
	// be put. A record that was looked up as seen counts as read.
	Each(ctx context.Context, table string, seen func(position int, hash uint64, id func() string) bool,
		put func(MirrorRow) error) error
	// Incomplete says, after Each, why the table could not be read whole, "" when it could:
	// then nothing is ended that was only not seen.
	Incomplete(table string) string
	// Lacking are the columns of the table that this read cannot fill, because the register
	// does not give them.
	Lacking(table string) []string
	// Where says in words where a record of the table stands.
	Where(table string, position int) string
}

// MirrorRow is one record on its way into the mirror.
type MirrorRow struct {
	Position int
	Hash     uint64
	ID       string // its sourced id
	Deleted  bool   // the register marks it as deleted
	Bad      bool   // it cannot be used: what the mirror has under its id stays as it is
	Damaged  bool   // and its id is only what the rest of it shows, which may be another's
	Unsure   bool   // it goes in only when the mirror has nothing under its id
	Again    bool   // look at it at the next read too, whatever its fingerprint
	// Values by the table's columns, the sourced id first, in PostgreSQL's text
	// form; Null is absent. Empty when Deleted or Bad.
	Values []string
}

// Null is the absent value of a MirrorRow. PostgreSQL's text cannot hold it.
const Null = "\x00"

// TableCounts counts what a merge did to one table.
type TableCounts struct {
	Read    int `json:"read"`
	Added   int `json:"added"`
	Changed int `json:"changed"`
	Gone    int `json:"gone"`
	Before  int `json:"before"` // rows before the merge
}

// Merged is what a merge did.
type Merged struct {
	Tables map[string]TableCounts
	// First says that the mirror was empty. Then nobody joined, left or changed:
	// the read found what has been so before, and the lists below are empty.
	First bool
	// Joined and Left are the enrolments that appeared and vanished.
	Joined, Left []Movement
	// Sections whose people, or people's details, changed.
	Sections []string
	// Noticed is what was wrong with records in relation to others, up to
	// maxNoticed of it, and Unlisted how much more there was.
	Noticed  []runstore.Noticed
	Unlisted int
	// Differences are the fields of records that changed, the first of each table, and
	// MoreDifferences whether there were more.
	Differences     []Difference
	MoreDifferences bool
	// Renumbered is how many enrolments came under another id and are else what they were.
	Renumbered int
	// Incomplete are the tables of which nothing was ended, because a part of them could not
	// be read.
	Incomplete []string

	badAt   map[string]map[string]int  // by table: where records stand that cannot be used, by sourced id
	deleted map[string]map[string]bool // by table: sourced ids marked as deleted
	ids     map[string]map[uint64]bool // by table: fingerprints of the sourced ids put by a first read
}

// cannotBeUsed keeps where a record stands of which nothing can be made.
func (m *Merged) cannotBeUsed(table string, r MirrorRow) {
	if m.badAt == nil {
		m.badAt = map[string]map[string]int{}
	}
	if m.badAt[table] == nil {
		m.badAt[table] = map[string]int{}
	}
	m.badAt[table][r.ID] = r.Position
}

// maxNoticed bounds what one merge tells one by one.
const maxNoticed = 500

// Movement is one enrolment that appeared or vanished.
type Movement struct {
	EnrolmentID string
	PersonID    string
	SectionID   string
	CourseID    string
	Role        string
	// Times it has happened to this enrolment, so that coming back is a new fact.
	ChangedAt string
	Section   string // its title
}

// manyRows is how many written rows are worth new statistics.
const manyRows = 10_000

// Merge brings the mirror of one register up to date with a read. The first read
// fills new partitions; later ones copy only records with a new fingerprint into
// staging tables and merge them set-wise, so that unchanged rows are neither
// written nor sent. now() is one instant for everything that this transaction
// touches, and marks what the merge changed.
func Merge(ctx context.Context, tx *db.Tx, interfaceID string, in Incoming) (Merged, error) {
	m := Merged{
		Tables: map[string]TableCounts{}, deleted: map[string]map[string]bool{},
		ids: map[string]map[uint64]bool{},
	}
	if err := db.Into(ctx, tx, &m.First, `SELECT to_regclass($1) IS NULL`,
		partition("people", interfaceID)); err != nil {
		return m, fmt.Errorf("looking at the mirror: %w", err)
	}
	// The tables are joined whole, on sizes that the planner cannot know yet. A
	// sample of 6,000 rows (20 x 300) tells it enough, and what is sorted and
	// gathered fits into memory.
	if _, err := db.Exec(ctx, tx,
		`SET LOCAL enable_nestloop = off; SET LOCAL default_statistics_target = 20; SET LOCAL maintenance_work_mem = '192MB'; SET LOCAL work_mem = '64MB'`); err != nil {
		return m, err
	}
	defer func() { _, _ = db.Exec(ctx, tx, `SET LOCAL enable_nestloop = on`) }()
	for _, t := range mirrorTables {
		l := &loading{
			tx: tx, mirrorTable: t, interfaceID: interfaceID, in: in, merged: &m,
			deleted: map[string]bool{},
		}
		work := l.merge
		if m.First {
			work = l.fill
		}
		if err := work(ctx); err != nil {
			return m, fmt.Errorf("merging %s: %w", t.name, err)
		}
		m.Tables[t.name], m.deleted[t.name], m.ids[t.name] = l.counted, l.deleted, l.ids
	}
	if m.First {
		return m, nil
	}
	return m, moved(ctx, tx, interfaceID, &m)
}

// moved finds who joined and left, and which sections changed, in this transaction.
func moved(ctx context.Context, tx *db.Tx, interfaceID string, m *Merged) (err error) {
	if m.Joined, err = movements(ctx, tx, interfaceID, `SELECT sourced_id, section, person, role, changed_at
		FROM enrolments WHERE interface_id = $1 AND gone_at IS NULL AND joined_at = now()`); err != nil {
		return err
	}
	if m.Left, err = movements(ctx, tx, interfaceID, `SELECT sourced_id, section, person, role, gone_at AS changed_at
		FROM enrolments WHERE interface_id = $1 AND gone_at = now() AND joined_at < now()
		UNION ALL SELECT sourced_id, section, person, role, left_at FROM past_enrolments
			WHERE interface_id = $1 AND left_at = now()`); err != nil {
		return err
	}
	if m.renumbered(); m.Renumbered > 0 {
		if err := keepStart(ctx, tx, interfaceID); err != nil {
			return err
		}
	}
	m.Sections, err = touched(ctx, tx, interfaceID)
	return err
}

// renumbered takes those out of who joined and left who only have another enrolment id.
func (m *Merged) renumbered() {
	type place struct{ person, section, role string }
	left := map[place]int{}
	for _, x := range m.Left {
		left[place{x.PersonID, x.SectionID, x.Role}]++
	}
	again := map[place]int{}
	m.Joined = slices.DeleteFunc(m.Joined, func(x Movement) bool {
		at := place{x.PersonID, x.SectionID, x.Role}
		if left[at] == 0 {
			return false
		}
		left[at]--
		again[at]++
		m.Renumbered++
		return true
	})
	m.Left = slices.DeleteFunc(m.Left, func(x Movement) bool {
		at := place{x.PersonID, x.SectionID, x.Role}
		if again[at] == 0 {
			return false
		}
		again[at]--
		return true
	})
}

// keepStart lets an enrolment under another id have begun when it did under the old one.
func keepStart(ctx context.Context, tx *db.Tx, interfaceID string) error {
	_, err := db.Exec(ctx, tx, `UPDATE enrolments n SET joined_at = o.joined_at FROM enrolments o
		WHERE n.interface_id = $1 AND n.gone_at IS NULL AND n.joined_at = now()
			AND o.interface_id = $1 AND o.gone_at = now() AND (o.section, o.person, o.role) = (n.section, n.person,
				n.role)`, interfaceID)
	if err != nil {
		return fmt.Errorf("keeping when enrolments began: %w", err)
	}
	return nil
}

// partition is the name of a register's part of a table of the mirror.
func partition(table, interfaceID string) string {
	return table + "_" + strings.ReplaceAll(interfaceID, "-", "")
}

func (m *Merged) notice(code finding.Code, subject, detail string) {
	if len(m.Noticed) >= maxNoticed {
		m.Unlisted++
		return
	}
	m.Noticed = append(m.Noticed, runstore.Noticed{Code: code, Subject: subject, Detail: detail})
}

func movements(ctx context.Context, tx *db.Tx, interfaceID, which string) ([]Movement, error) {
	return db.Rows[Movement](ctx, tx, "finding who joined and left", `
		SELECT $1 || '/' || e.sourced_id AS enrolment_id, p.id::text AS person_id, s.id::text AS section_id,
			c.id::text AS course_id, e.role, e.changed_at::text, s.title AS section
		FROM (`+strings.ReplaceAll(which, "$1", "$1::uuid")+`) e
		JOIN people p ON p.interface_id = $1::uuid AND p.sourced_id = e.person
		JOIN sections s ON s.interface_id = $1::uuid AND s.sourced_id = e.section
		JOIN courses c ON c.interface_id = $1::uuid AND c.sourced_id = s.course`, interfaceID)
}

// touched finds the sections whose comparison may give something new after this
// merge: their own record, an enrolment or an enrolled person changed.
func touched(ctx context.Context, tx *db.Tx, interfaceID string) ([]string, error) {
	return db.Values[string](ctx, tx, "finding the sections that changed", `
		SELECT s.id::text FROM sections s WHERE s.interface_id = $1 AND (s.changed_at = now()
			OR s.sourced_id IN (SELECT section FROM enrolments WHERE interface_id = $1 AND changed_at = now())
			OR s.sourced_id IN (SELECT section FROM past_enrolments WHERE interface_id = $1 AND left_at = now())
			OR s.sourced_id IN (
				SELECT e.section FROM people p
				JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id
					AND e.gone_at IS NULL
				WHERE p.interface_id = $1 AND p.changed_at = now()))`, interfaceID)
}

// ChooseLeading chooses anew which record of each person leads who has records in some registers and in others too:
// after records were read, or registers removed or restored.
func ChooseLeading(ctx context.Context, tx *db.Tx, interfaces ...string) error {
	_, err := db.Exec(ctx, tx, `SELECT choose_leading(ARRAY(SELECT DISTINCT p.id FROM people p
		WHERE p.interface_id = ANY ($1::text[]::uuid[])
			AND p.id IN (SELECT o.merged_into FROM people o WHERE o.merged_into IS NOT NULL)))`, interfaces)
	return db.Known(err, "choosing the leading records")
}

// DropMirror removes everything read through an interface. People who are in other registers too stay, with the
// records of those.
func DropMirror(ctx context.Context, tx *db.Tx, interfaceID string) error {
	merged, err := db.Values[string](ctx, tx, "finding merged people", `SELECT DISTINCT p.id::text FROM people p
		WHERE p.interface_id = $1 AND p.id IN (SELECT o.merged_into FROM people o WHERE o.merged_into IS NOT NULL)`,
		interfaceID)
	if err != nil {
		return err
	}
	for _, t := range mirrorTables {
		if _, err := db.Exec(ctx, tx, `DROP TABLE IF EXISTS `+db.Quoted(partition(t.name,
			interfaceID))); err != nil {
			return db.Known(err, "removing the mirror")
		}
	}
	if _, err := db.Exec(ctx, tx, `DELETE FROM section_facts WHERE interface_id = $1`, interfaceID); err != nil {
		return db.Known(err, "removing the mirror")
	}
	if _, err := db.Exec(ctx, tx, `SELECT choose_leading($1::text[]::uuid[])`, merged); err != nil {
		return db.Known(err, "choosing the leading records")
	}
	return SectionsChanged(ctx, tx)
}

// HasPlace reports whether the movement is a learner's or a teacher's.
func (m Movement) HasPlace() bool { return m.Role == "student" || m.Role == "teacher" }
