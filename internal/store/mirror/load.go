package mirror

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/cespare/xxhash/v2"
	"github.com/jackc/pgx/v5/pgconn"

	"kanban/internal/core/finding"
	"kanban/internal/store/db"
)

// loading brings one table of one register's mirror up to date.
type loading struct {
	mirrorTable
	tx          *db.Tx
	interfaceID string
	in          Incoming
	merged      *Merged
	counted     TableCounts

	staged  string           // the table that the records are copied into, quoted
	known   map[uint64]int32 // fingerprints in the mirror; the position where each was seen, 0 before
	deleted map[string]bool  // sourced ids that the register marks as deleted
	bad     []string         // sourced ids of records that cannot be used
	damaged []string         // those of them that are only guessed from what is left of a record
	unsure  []string         // sourced ids of records that do not change what is there
	// Why nothing is ended that was only not seen, "" when it is.
	incomplete string
	// What follows finds out, while a table is filled, whether the exact searches
	// for bad references and for enrolments given twice are worth making.
	ids      map[uint64]bool // fingerprints of the sourced ids put
	pairs    map[uint64]bool // fingerprints of what may stand only once
	dangling bool            // a reference was put to something that was not
	doubled  bool            // something of pairs came twice
	shared   bool            // an identifier of a person came twice
	copied   int             // records in the staged table
	dormant  bool            // an enrolment was put that is over or to come
	scratch  []byte
}

// fill makes the register's partition out of its first read: records are copied
// into a table that has no index yet, the indexes are built, the table becomes
// part of the mirror.
func (l *loading) fill(ctx context.Context) error {
	name := db.Quoted(partition(l.name, l.interfaceID))
	l.staged = name
	err := l.exec(ctx,
		fmt.Sprintf(`CREATE TABLE %s (LIKE %s INCLUDING DEFAULTS INCLUDING GENERATED)`, name, l.name),
		fmt.Sprintf(`ALTER TABLE %[1]s ADD position int, ALTER interface_id
			SET DEFAULT '%[2]s', ADD CHECK (interface_id = '%[2]s')`, name, l.interfaceID))
	if err != nil {
		return err
	}
	if err := l.copy(ctx); err != nil {
		return err
	}
	if l.dormant { // what is over or to come is known from its dates; nobody joined or left by that
		if err := l.exec(ctx,
			`UPDATE `+name+` SET gone_at = CASE state WHEN 'over' THEN end_date + 1 ELSE now() END, joined_at = CASE state WHEN 'over' THEN least(begin_date, end_date) END WHERE state <> 'in'`); err != nil {
			return err
		}
	}
	if err := l.keyed(ctx, name); err != nil {
		return err
	}
	if err := l.check(ctx, l.dangling, l.doubled); err != nil {
		return err
	}
	steps := []string{fmt.Sprintf(`ALTER TABLE %s DROP position, ALTER interface_id DROP DEFAULT`, name)}
	for _, columns := range l.indexes() {
		steps = append(steps, fmt.Sprintf(`CREATE INDEX ON %s %s`, name, columns))
	}
	steps = append(steps, fmt.Sprintf(`ALTER TABLE %s ATTACH PARTITION %s FOR VALUES IN ('%s')`, l.name, name,
		l.interfaceID), `ANALYZE `+name)
	l.counted.Added = l.copied
	return l.exec(ctx, steps...)
}

// indexes are those of the whole table, so that the partition's own ones become
// parts of them when it is attached.
func (l *loading) indexes() []string {
	switch l.name {
	case "courses", "sections":
		return []string{`(id)`}
	case "people":
		return []string{
			`(id)`, `(merged_into) WHERE merged_into IS NOT NULL`, `(identifier)`, `(email_key) WHERE email_key <> '' AND gone_at IS NULL`,
			`(master) WHERE master <> '' AND gone_at IS NULL`,
		}
	case "enrolments":
		return []string{`(section)`, `(person)`, `(` + turns + `) WHERE ` + turnsOnce}
	}
	return nil
}

// keyed gives the filled table its key. Records with one sourced id are found by
// that failing, which costs nothing when there are none.
func (l *loading) keyed(ctx context.Context, name string) error {
	key := fmt.Sprintf(`ALTER TABLE %s ADD PRIMARY KEY (sourced_id, interface_id)`, name)
	err := l.tx.Nested(ctx, func() error { return l.exec(ctx, key) })
	var refused *pgconn.PgError
	if !errors.As(err, &refused) || refused.Code != "23505" {
		return err
	}
	if err := l.last(ctx); err != nil {
		return err
	}
	return l.exec(ctx, key)
}

// merge stages the records that are new or differ and brings the mirror in step
// with them.
func (l *loading) merge(ctx context.Context) error {
	l.staged = db.Quoted("staged_" + l.name)
	err := l.exec(ctx,
		fmt.Sprintf(`CREATE TEMP TABLE %s (LIKE %s INCLUDING DEFAULTS) ON COMMIT DROP`, l.staged, l.name),
		fmt.Sprintf(`ALTER TABLE %s ADD position int, ALTER interface_id DROP NOT NULL%s`, l.staged, l.optional()))
	if err != nil {
		return err
	}
	if err := l.remember(ctx); err != nil {
		return err
	}
	if err := l.lacking(ctx); err != nil {
		return err
	}
	if err := l.copy(ctx); err != nil {
		return err
	}
	steps := []func(context.Context) error{
		l.plan,
		l.last, l.superseded, l.keep, l.inherit, l.identify, l.gone, l.referred,
		func(ctx context.Context) error { return l.check(ctx, true, true) },
		l.history, l.write, l.orphans,
	}
	for _, step := range steps {
		if err := step(ctx); err != nil {
			return err
		}
	}
	// so that the queries that follow are planned for it
	if l.counted.Added+l.counted.Changed+l.counted.Gone > manyRows {
		return l.exec(ctx, `ANALYZE `+db.Quoted(partition(l.name, l.interfaceID)))
	}
	return nil
}

// Where an enrolment stands that the register lists: today is one of its days, they are all
// over, or they are to come.
const (
	EnrolmentIn      = "in"
	EnrolmentOver    = "over"
	EnrolmentWaiting = "waiting"
)

// listed says of a row m of the mirror that the register lists it: no test learner of ours.
func (l *loading) listed() string {
	switch l.name {
	case "enrolments":
		return `m.state <> 'gone' AND NOT m.test`
	case "people":
		return `m.gone_at IS NULL AND NOT m.test`
	}
	return `m.gone_at IS NULL`
}

// counts says of a row m of the mirror, or of the staged table, that it holds what it refers
// to: enrolments that are over hold nobody.
func (l *loading) counts() string {
	if l.name == "enrolments" {
		return `m.state IN ('in', 'waiting') AND NOT m.test`
	}
	return `m.gone_at IS NULL`
}

// lacking refuses a read that would empty a column of the mirror.
func (l *loading) lacking(ctx context.Context) error {
	for _, column := range l.in.Lacking(l.name) {
		lost := &ColumnLost{Table: l.name, Column: column}
		err := db.Into(ctx, l.tx, &lost.Values, fmt.Sprintf(`SELECT count(*) FROM %s
			WHERE interface_id = $1 AND gone_at IS NULL AND %s::text NOT IN ('', '{}')`,
			l.name, db.Quoted(column)), l.interfaceID)
		if err != nil {
			return err
		}
		if lost.Values > 0 {
			return lost
		}
	}
	return nil
}

// plan lets the statements that follow be planned for the size of the staged
// table: few records are looked up one by one, many are joined whole. The
// planner may believe a large table to be empty, and a nested loop over it would
// take hours, so it is not left to choose.
func (l *loading) plan(ctx context.Context) error {
	loops := "off"
	if l.copied*20 < l.counted.Before {
		loops = "on"
	}
	return l.exec(ctx, `ANALYZE `+l.staged, `SET LOCAL enable_nestloop = `+loops)
}

// optional lets the columns that a read does not fill stay empty while staged.
func (l *loading) optional() string {
	switch l.name {
	case "enrolments":
		return ""
	case "people":
		return ", ALTER id DROP NOT NULL, ALTER secondary DROP NOT NULL"
	}
	return ", ALTER id DROP NOT NULL"
}

// remember loads the fingerprints of the mirror's rows.
func (l *loading) remember(ctx context.Context) error {
	rows, err := l.tx.PGX.Query(ctx, `SELECT row_hash FROM `+l.name+` m WHERE interface_id = $1 AND `+l.listed(),
		l.interfaceID)
	if err != nil {
		return err
	}
	defer rows.Close()
	l.known = map[uint64]int32{}
	var hash *int64
	for rows.Next() {
		if err := rows.Scan(&hash); err != nil {
			return err
		}
		l.counted.Before++
		if hash != nil {
			l.known[uint64(*hash)] = 0
		}
	}
	return rows.Err()
}

// copy streams the records into the staged table.
func (l *loading) copy(ctx context.Context) error {
	read, write := io.Pipe()
	out := bufio.NewWriterSize(write, 1<<16)
	produced := make(chan error, 1)
	go func() {
		err := l.in.Each(ctx, l.name, l.seen, func(r MirrorRow) error { return l.put(out, r) })
		if err == nil {
			err = out.Flush()
		}
		_ = write.CloseWithError(err) // a nil error is the end of the data
		produced <- err
	}()
	sql := fmt.Sprintf(`COPY %s (%s, row_hash, position) FROM STDIN`, l.staged, strings.Join(l.columns, ", "))
	if l.known == nil { // a table of this transaction's own: nobody ever has to look whether its rows can be seen
		sql += ` WITH (FREEZE)`
	}
	_, err := l.tx.PGX.Conn().PgConn().CopyFrom(ctx, read, sql)
	_ = read.CloseWithError(io.ErrClosedPipe)
	if cause := <-produced; cause != nil && !errors.Is(cause, io.ErrClosedPipe) {
		return cause // why the copy broke off
	}
	return err
}

func (l *loading) seen(position int, hash uint64, id func() string) bool {
	at, there := l.known[hash]
	if !there {
		return false
	}
	l.counted.Read++
	if at != 0 {
		l.twice(position, id())
	}
	l.known[hash] = int32(position)
	return true
}

func (l *loading) twice(position int, id string) {
	l.merged.notice(finding.RowDuplicate, fmt.Sprintf("%s (%s)", l.in.Where(l.name, position), id),
		"it stands there again; the last one was taken")
}

// put writes one record in COPY's text format.
func (l *loading) put(out *bufio.Writer, r MirrorRow) error {
	l.counted.Read++
	switch {
	case r.Deleted:
		l.deleted[r.ID] = true
		return nil
	case r.Bad:
		if r.ID != "" {
			l.bad = append(l.bad, r.ID)
			l.merged.cannotBeUsed(l.name, r)
		}
		if r.Damaged {
			l.damaged = append(l.damaged, r.ID)
		}
		return nil
	}
	if r.Unsure {
		l.unsure = append(l.unsure, strings.Clone(r.ID))
	}
	if l.known == nil {
		l.suspect(r.Values)
		if at := slices.Index(l.columns, "secondary"); at > 0 && r.Values[at] == Null {
			r.Values[at] = "f" // nothing was said, and nothing is known
		}
	}
	l.copied++
	l.dormant = l.dormant || l.name == "enrolments" && r.Values[len(r.Values)-1] != EnrolmentIn
	line := l.scratch[:0]
	for _, v := range r.Values {
		line = append(appendText(line, v), '\t')
	}
	if r.Again {
		line = append(line, `\N`...)
	} else {
		line = strconv.AppendInt(line, int64(r.Hash), 10)
	}
	line = append(line, '\t')
	line = append(strconv.AppendInt(line, int64(r.Position), 10), '\n')
	l.scratch = line
	_, err := out.Write(line)
	return err
}

// suspect notices, cheaply, whether a row may refer to nothing or say what
// another one says.
func (l *loading) suspect(values []string) {
	if l.ids == nil {
		l.ids, l.pairs = map[uint64]bool{}, map[uint64]bool{}
	}
	if l.name != "enrolments" { // to which nothing refers
		l.ids[xxhash.Sum64String(values[0])] = true
	}
	for _, ref := range l.refs {
		l.dangling = l.dangling || !l.merged.ids[ref.table][xxhash.Sum64String(values[slices.Index(l.columns,
			ref.column)])]
	}
	if at := slices.Index(l.columns, "identifier"); at > 0 {
		sum := xxhash.Sum64String(values[at])
		l.shared = l.shared || l.pairs[sum]
		l.pairs[sum] = true
	}
	if len(l.same) == 0 {
		return
	}
	key := l.scratch[:0]
	for _, column := range l.same {
		key = append(append(key, values[slices.Index(l.columns, column)]...), 0xff) // stands in no UTF-8
	}
	l.scratch = key
	sum := xxhash.Sum64(key)
	l.doubled = l.doubled || l.pairs[sum]
	l.pairs[sum] = true
}

// escapes are the second characters of COPY's escape sequences.
var escapes = map[byte]byte{'\\': '\\', '\t': 't', '\n': 'n', '\r': 'r'}

// appendText escapes a value for COPY's text format.
func appendText(line []byte, v string) []byte {
	if v == Null {
		return append(line, `\N`...)
	}
	for i := range len(v) {
		switch c := v[i]; c {
		case '\\', '\t', '\n', '\r':
			line = append(line, '\\', escapes[c])
		default:
			line = append(line, c)
		}
	}
	return line
}

func (l *loading) exec(ctx context.Context, statements ...string) error {
	for _, sql := range statements {
		if _, err := db.Exec(ctx, l.tx, sql); err != nil {
			return err
		}
	}
	return nil
}

func (l *loading) count(ctx context.Context, sql string, args ...any) (int, error) {
	done, err := db.Exec(ctx, l.tx, sql, args...)
	return int(done), err
}
