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
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"kanban/internal/core/finding"
	"kanban/internal/store/db"
)

// differences notes which fields of which records are about to change.
func (l *loading) differences(ctx context.Context) error {
	var fields []string
	for _, c := range l.columns[1:] {
		if c != "email_key" && c != "standing" { // they follow from others
			fields = append(fields, fmt.Sprintf(`('%[2]s', m.%[1]s::text, s.%[1]s::text)`, c, strings.ReplaceAll(c, "_", " ")))
		}
	}
	who := whose[l.name]
	if who == "" {
		who = `m.title`
	}
	rows, err := l.tx.PGX.Query(ctx, fmt.Sprintf(`SELECT m.sourced_id, %[3]s, v.field, coalesce(v.before, ''), coalesce(v.after, '')
		FROM %[2]s s JOIN %[1]s m ON m.connection_id = $1 AND m.sourced_id = s.sourced_id CROSS JOIN LATERAL (VALUES %[4]s) v (field, before, after)
		WHERE (%[5]s) AND v.before IS DISTINCT FROM v.after LIMIT %[6]d`, l.name, l.staged, who, strings.Join(fields, ", "), l.listed(), maxDifferences+1), l.connection)
	if err != nil {
		return err
	}
	d, n := Difference{Table: l.name}, 0
	_, err = pgx.ForEachRow(rows, []any{&d.ID, &d.Who, &d.Field, &d.Before, &d.After}, func() error {
		if n++; n > maxDifferences {
			l.merged.MoreDifferences = true
			return nil
		}
		l.merged.Differences = append(l.merged.Differences, d)
		return nil
	})
	return err
}

// loading brings one table of one register's mirror up to date.
type loading struct {
	mirrorTable
	tx         *db.Tx
	connection string
	in         Incoming
	merged     *Merged
	tally      TableCounts

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
	name := pgx.Identifier{partition(l.name, l.connection)}.Sanitize()
	l.staged = name
	err := l.exec(ctx,
		fmt.Sprintf(`CREATE TABLE %s (LIKE %s INCLUDING DEFAULTS INCLUDING GENERATED)`, name, l.name),
		fmt.Sprintf(`ALTER TABLE %[1]s ADD position int, ALTER connection_id SET DEFAULT '%[2]s', ADD CHECK (connection_id = '%[2]s')`, name, l.connection))
	if err != nil {
		return err
	}
	if err := l.copy(ctx); err != nil {
		return err
	}
	if l.dormant { // what is over or to come is known from its dates; nobody joined or left by that
		if err := l.exec(ctx, `UPDATE `+name+` SET gone_at = CASE standing WHEN 'over' THEN end_date + 1 ELSE now() END, joined_at = CASE standing WHEN 'over' THEN least(begin_date, end_date) END WHERE standing <> 'in'`); err != nil {
			return err
		}
	}
	if err := l.keyed(ctx, name); err != nil {
		return err
	}
	if err := l.check(ctx, l.dangling, l.doubled); err != nil {
		return err
	}
	steps := []string{fmt.Sprintf(`ALTER TABLE %s DROP position, ALTER connection_id DROP DEFAULT`, name)}
	for _, columns := range l.indexes() {
		steps = append(steps, fmt.Sprintf(`CREATE INDEX ON %s %s`, name, columns))
	}
	steps = append(steps, fmt.Sprintf(`ALTER TABLE %s ATTACH PARTITION %s FOR VALUES IN ('%s')`, l.name, name, l.connection), `ANALYZE `+name)
	l.tally.Added = l.copied
	return l.exec(ctx, steps...)
}

// indexes are those of the whole table, so that the partition's own ones become
// parts of them when it is attached.
func (l *loading) indexes() []string {
	switch l.name {
	case "courses", "sections":
		return []string{`(id)`}
	case "people":
		return []string{`(id)`, `(identifier)`, `(email_key) WHERE email_key <> '' AND gone_at IS NULL`, `(master) WHERE master <> '' AND gone_at IS NULL`}
	case "enrolments":
		return []string{`(section)`, `(person)`, `(` + turns + `) WHERE ` + turnsOnce}
	}
	return nil
}

// keyed gives the filled table its key. Records with one sourced id are found by
// that failing, which costs nothing when there are none.
func (l *loading) keyed(ctx context.Context, name string) error {
	key := fmt.Sprintf(`ALTER TABLE %s ADD PRIMARY KEY (sourced_id, connection_id)`, name)
	err := pgx.BeginFunc(ctx, l.tx.PGX, func(inner pgx.Tx) error {
		_, err := inner.Exec(ctx, key)
		return err
	})
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
	l.staged = pgx.Identifier{"staged_" + l.name}.Sanitize()
	err := l.exec(ctx,
		fmt.Sprintf(`CREATE TEMP TABLE %s (LIKE %s INCLUDING DEFAULTS) ON COMMIT DROP`, l.staged, l.name),
		fmt.Sprintf(`ALTER TABLE %s ADD position int, ALTER connection_id DROP NOT NULL%s`, l.staged, l.optional()))
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
	if l.tally.Added+l.tally.Changed+l.tally.Gone > manyRows { // so that the queries that follow are planned for it
		return l.exec(ctx, `ANALYZE `+pgx.Identifier{partition(l.name, l.connection)}.Sanitize())
	}
	return nil
}

// Where an enrolment stands that the register lists: today is one of its days, they are all
// over, or they are to come.
const (
	StandingIn      = "in"
	StandingOver    = "over"
	StandingWaiting = "waiting"
)

// listed says of a row m of the mirror that the register lists it.
func (l *loading) listed() string {
	if l.name == "enrolments" {
		return `m.standing <> 'gone'`
	}
	return `m.gone_at IS NULL`
}

// counts says of a row m of the mirror, or of the staged table, that it holds what it refers
// to: enrolments that are over hold nobody.
func (l *loading) counts() string {
	if l.name == "enrolments" {
		return `m.standing IN ('in', 'waiting')`
	}
	return `m.gone_at IS NULL`
}

// lacking refuses a read that would empty a column of the mirror.
func (l *loading) lacking(ctx context.Context) error {
	for _, column := range l.in.Lacking(l.name) {
		lost := &ColumnLost{Table: l.name, Column: column}
		err := l.tx.PGX.QueryRow(ctx, fmt.Sprintf(`SELECT count(*) FROM %s WHERE connection_id = $1 AND gone_at IS NULL AND %s::text NOT IN ('', '{}')`,
			l.name, pgx.Identifier{column}.Sanitize()), l.connection).Scan(&lost.Values)
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
	if l.copied*20 < l.tally.Before {
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
	rows, err := l.tx.PGX.Query(ctx, `SELECT row_hash FROM `+l.name+` m WHERE connection_id = $1 AND `+l.listed(), l.connection)
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
		l.tally.Before++
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
	l.tally.Read++
	if at != 0 {
		l.twice(position, id())
	}
	l.known[hash] = int32(position)
	return true
}

func (l *loading) twice(position int, id string) {
	l.merged.notice(finding.RowDuplicate, fmt.Sprintf("%s (%s)", l.in.Where(l.name, position), id), "it stands there again; the last one was taken")
}

// put writes one record in COPY's text format.
func (l *loading) put(out *bufio.Writer, r MirrorRow) error {
	l.tally.Read++
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
	l.dormant = l.dormant || l.name == "enrolments" && r.Values[len(r.Values)-1] != StandingIn
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
		l.dangling = l.dangling || !l.merged.ids[ref.table][xxhash.Sum64String(values[slices.Index(l.columns, ref.column)])]
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
		if _, err := l.tx.PGX.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

func (l *loading) count(ctx context.Context, sql string, args ...any) (int, error) {
	done, err := l.tx.PGX.Exec(ctx, sql, args...)
	return int(done.RowsAffected()), err
}

func (l *loading) taken(ctx context.Context, sql string, each func(misplaced), args ...any) error {
	rows, err := l.tx.PGX.Query(ctx, sql, args...)
	if err != nil {
		return err
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[misplaced])
	l.copied -= len(list)
	for _, m := range list {
		each(m)
	}
	return err
}

func (l *loading) subject(m misplaced) string {
	return fmt.Sprintf("%s (%s)", l.in.Where(l.name, m.Position), m.ID)
}

// last keeps the last of several staged records with one sourced id.
func (l *loading) last(ctx context.Context) error {
	return l.taken(ctx, fmt.Sprintf(`
		DELETE FROM %[1]s s USING (SELECT sourced_id, max(position) AS position FROM %[1]s GROUP BY sourced_id HAVING count(*) > 1) k
		WHERE s.sourced_id = k.sourced_id AND s.position < k.position
		RETURNING k.position, s.sourced_id, '', '', '', false`, l.staged), func(m misplaced) { l.twice(m.Position, m.ID) })
}

// superseded looks at staged records whose unchanged twin was read too: one
// sourced id with two contents. The later one counts.
func (l *loading) superseded(ctx context.Context) error {
	rows, err := l.tx.PGX.Query(ctx, fmt.Sprintf(`
		SELECT s.position, s.sourced_id, m.row_hash FROM %s s
		JOIN %s m ON m.connection_id = $1 AND m.sourced_id = s.sourced_id AND %s AND m.row_hash IS NOT NULL`, l.staged, l.name, l.listed()), l.connection)
	if err != nil {
		return err
	}
	var drop []string
	var position int
	var id string
	var hash int64
	if _, err := pgx.ForEachRow(rows, []any{&position, &id, &hash}, func() error {
		at := int(l.known[uint64(hash)])
		if at == 0 {
			return nil
		}
		l.twice(max(at, position), id)
		if at > position {
			drop = append(drop, id)
		}
		return nil
	}); err != nil {
		return err
	}
	_, err = l.tx.PGX.Exec(ctx, fmt.Sprintf(`DELETE FROM %s WHERE sourced_id = ANY ($1::text[])`, l.staged), drop)
	return err
}

// keep takes staged records out that are not understood well enough to change what is there.
func (l *loading) keep(ctx context.Context) error {
	if len(l.unsure) == 0 {
		return nil
	}
	rows, err := l.tx.PGX.Query(ctx, fmt.Sprintf(`DELETE FROM %s s USING %s m
		WHERE s.sourced_id = ANY ($2::text[]) AND m.connection_id = $1 AND m.sourced_id = s.sourced_id AND %s RETURNING s.sourced_id`, l.staged, l.name, l.listed()), l.connection, l.unsure)
	if err != nil {
		return err
	}
	kept, err := pgx.CollectRows(rows, pgx.RowTo[string])
	l.bad = append(l.bad, kept...)
	l.copied -= len(kept)
	return err
}

// identify finds out whether each damaged record is one that is known and was not read
// otherwise. If not, any record may be lost in it, and the table was not read whole.
func (l *loading) identify(ctx context.Context) error {
	if l.incomplete = l.in.Incomplete(l.name); l.incomplete == "" && len(l.damaged) > 0 {
		rows, err := l.tx.PGX.Query(ctx, fmt.Sprintf(`
			SELECT d.id, coalesce(m.row_hash, 0), m.sourced_id IS NOT NULL AND NOT EXISTS (SELECT 1 FROM %s s WHERE s.sourced_id = d.id) AND count(*) OVER (PARTITION BY d.id) = 1
			FROM unnest($2::text[]) d (id) LEFT JOIN %s m ON m.connection_id = $1 AND m.sourced_id = d.id AND %s`, l.staged, l.name, l.listed()), l.connection, l.damaged)
		if err != nil {
			return err
		}
		var id string
		var hash int64
		var known bool
		if _, err := pgx.ForEachRow(rows, []any{&id, &hash, &known}, func() error {
			if !known || l.known[uint64(hash)] != 0 {
				l.incomplete = fmt.Sprintf("what is left of a damaged record looks like %s, and that is not a record that is known and missing", id)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	if l.incomplete != "" && !l.in.Partial(l.name) {
		l.merged.Incomplete = append(l.merged.Incomplete, l.name)
		l.merged.notice(finding.ReadIncomplete, l.in.Where(l.name, 0), l.incomplete)
	}
	return nil
}

// referred brings records back that were ended because they are no longer listed, although
// records of this table that were read refer to them: the register contradicts itself, and
// nobody is to lose a place by that.
func (l *loading) referred(ctx context.Context) error {
	for _, ref := range slices.Concat(l.refs, l.lists) {
		to := `= r.sourced_id`
		if slices.Contains(l.lists, ref) {
			to = `@> ARRAY[r.sourced_id]`
		}
		if l.in.Partial(l.name) || l.in.Partial(ref.table) || l.merged.Tables[ref.table].Gone == 0 {
			continue
		}
		deleted := make([]string, 0, len(l.merged.deleted[ref.table]))
		for id := range l.merged.deleted[ref.table] {
			deleted = append(deleted, id)
		}
		rows, err := l.tx.PGX.Query(ctx, fmt.Sprintf(`UPDATE %[1]s r SET gone_at = NULL
			WHERE r.connection_id = $1 AND r.gone_at = now() AND r.sourced_id <> ALL ($2::text[]) AND (
				EXISTS (SELECT 1 FROM %[3]s m WHERE m.connection_id = $1 AND m.%[2]s %[5]s AND %[6]s)
				OR EXISTS (SELECT 1 FROM %[4]s m WHERE m.%[2]s %[5]s AND %[6]s))
			RETURNING r.sourced_id`, ref.table, ref.column, l.name, l.staged, to, l.counts()), l.connection, deleted)
		if err != nil {
			return err
		}
		back, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		tally := l.merged.Tables[ref.table]
		tally.Gone -= len(back)
		l.merged.Tables[ref.table] = tally
		for _, id := range back {
			l.merged.notice(finding.StillReferred, fmt.Sprintf("%s (%s)", l.in.Where(ref.table, 0), id), fmt.Sprintf("it is not listed any more, but %s refers to it", l.in.Where(l.name, 0)))
		}
	}
	return nil
}

// inherit fills in what a list of changes does not say.
func (l *loading) inherit(ctx context.Context) error {
	if l.name != "people" {
		return nil
	}
	_, err := l.tx.PGX.Exec(ctx, fmt.Sprintf(`UPDATE %s s SET secondary = coalesce((SELECT m.secondary FROM people m WHERE m.connection_id = $1 AND m.sourced_id = s.sourced_id), false)
		WHERE secondary IS NULL`, l.staged), l.connection)
	return err
}

// gone marks the rows that are no longer read, or that the register marks as
// deleted. A record that came but cannot be used takes nothing away: a slip in
// the register must not look like somebody leaving.
func (l *loading) gone(ctx context.Context) (err error) {
	mark := `UPDATE %[1]s m SET gone_at = coalesce(m.gone_at, now()), changed_at = now()` + l.standingGone() + ` WHERE m.connection_id = $1 AND ` + l.listed() + ` AND `
	if l.in.Partial(l.name) || l.incomplete != "" {
		ids := make([]string, 0, len(l.deleted))
		for id := range l.deleted {
			ids = append(ids, id)
		}
		l.tally.Gone, err = l.count(ctx, fmt.Sprintf(mark+`m.sourced_id = ANY ($2::text[])`, l.name), l.connection, ids)
		return err
	}
	unseen := make([]int64, 0, 64)
	for hash, at := range l.known {
		if at == 0 {
			unseen = append(unseen, int64(hash))
		}
	}
	l.tally.Gone, err = l.count(ctx, fmt.Sprintf(mark+`(m.row_hash IS NULL OR m.row_hash IN (SELECT unnest($2::bigint[])))
		AND NOT EXISTS (SELECT 1 FROM %[2]s s WHERE s.sourced_id = m.sourced_id) AND m.sourced_id <> ALL ($3::text[])`, l.name, l.staged), l.connection, unseen, append([]string{}, l.bad...))
	return err
}

// unlisted notices records that name something unknown among several: they go in, and what
// follows from the unknown one is not known.
func (l *loading) unlisted(ctx context.Context) error {
	for _, ref := range l.lists {
		unknown, err := l.names(ctx, fmt.Sprintf(`SELECT DISTINCT x.id FROM (SELECT DISTINCT %[2]s AS ids FROM %[1]s) l, unnest(l.ids) x (id)
			WHERE NOT EXISTS (SELECT 1 FROM %[3]s r WHERE r.connection_id = $1 AND r.sourced_id = x.id AND r.gone_at IS NULL)`, l.staged, ref.column, ref.table), l.connection)
		if err != nil {
			return err
		}
		if len(unknown) == 0 { // looked for first, because few lists are shared by all
			continue
		}
		rows, err := l.tx.PGX.Query(ctx, fmt.Sprintf(`SELECT min(s.position), (array_agg(s.sourced_id ORDER BY s.position))[1], x.id, count(*) FROM %[1]s s, unnest(s.%[2]s) x (id)
			WHERE x.id = ANY ($1::text[]) GROUP BY 3 ORDER BY 1, 3`, l.staged, ref.column), unknown)
		if err != nil {
			return err
		}
		var m misplaced
		var n int
		if _, err := pgx.ForEachRow(rows, []any{&m.Position, &m.ID, &m.Other, &n}, func() error {
			who := "it has"
			if n > 1 {
				who = fmt.Sprintf("it and %d more of its kind have", n-1)
			}
			l.merged.notice(finding.ReferenceUnknown, l.subject(m), fmt.Sprintf("its %s %q is not in the register, so %s no beginning and no end by it", ref.noun, m.Other, who))
			return nil
		}); err != nil {
			return err
		}
	}
	if l.name == "people" && (l.known != nil || l.shared) {
		return l.sharedIdentifiers(ctx)
	}
	return nil
}

// names runs a query that gives one text a row.
func (l *loading) names(ctx context.Context, sql string, args ...any) ([]string, error) {
	rows, err := l.tx.PGX.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// sharedIdentifiers notices people with an identifier that somebody else has: new ones, and
// those who have another identifier than before.
func (l *loading) sharedIdentifiers(ctx context.Context) error {
	sql := fmt.Sprintf(`WITH asked AS MATERIALIZED (
			SELECT s.position, s.sourced_id, s.identifier FROM %[1]s s LEFT JOIN people m ON m.connection_id = $1 AND m.sourced_id = s.sourced_id AND m.gone_at IS NULL
			WHERE m.identifier IS DISTINCT FROM s.identifier AND NOT coalesce(s.secondary, false))
		SELECT a.position, a.sourced_id, min(o.sourced_id) FROM asked a JOIN (
			SELECT sourced_id, identifier FROM people WHERE connection_id = $1 AND gone_at IS NULL AND NOT secondary AND identifier = ANY (ARRAY(SELECT identifier FROM asked))
			UNION ALL SELECT sourced_id, identifier FROM %[1]s WHERE NOT coalesce(secondary, false)
		) o ON o.identifier = a.identifier AND o.sourced_id <> a.sourced_id GROUP BY 1, 2 ORDER BY 1`, l.staged)
	args := []any{l.connection}
	if l.known == nil { // a first read
		sql, args = fmt.Sprintf(`SELECT s.position, s.sourced_id, (SELECT min(o.sourced_id) FROM %[1]s o WHERE o.identifier = s.identifier AND o.sourced_id <> s.sourced_id)
			FROM %[1]s s WHERE s.identifier IN (SELECT identifier FROM %[1]s WHERE NOT coalesce(secondary, false) GROUP BY identifier HAVING count(*) > 1) AND NOT coalesce(s.secondary, false) ORDER BY 1 LIMIT 1000`, l.staged), nil
	}
	rows, err := l.tx.PGX.Query(ctx, sql, args...)
	if err != nil {
		return err
	}
	var x misplaced
	_, err = pgx.ForEachRow(rows, []any{&x.Position, &x.ID, &x.Other}, func() error {
		l.merged.notice(finding.IdentifierShared, l.subject(x), fmt.Sprintf("%s has the same identifier", x.Other))
		return nil
	})
	return err
}

// standingGone is what else a row gets that is no longer listed.
func (l *loading) standingGone() string {
	if l.name == "enrolments" {
		return `, standing = 'gone'`
	}
	return ""
}

// check takes staged records out that refer to something that is not there, or
// that say what another record says already.
func (l *loading) check(ctx context.Context, dangling, doubled bool) error {
	lacking := absences{of: map[absenceKey]*absence{}}
	for _, ref := range l.refs {
		if !dangling {
			break
		}
		if err := l.taken(ctx, fmt.Sprintf(`
			WITH out AS (
				DELETE FROM %[1]s s WHERE NOT EXISTS (
					SELECT 1 FROM %[2]s r WHERE r.connection_id = $1 AND r.sourced_id = s.%[3]s AND r.gone_at IS NULL)
				RETURNING s.position, s.sourced_id, s.%[3]s AS other)
			SELECT o.position, o.sourced_id, o.other, '', '', EXISTS (SELECT 1 FROM %[2]s r WHERE r.connection_id = $1 AND r.sourced_id = o.other) FROM out o`,
			l.staged, ref.table, ref.column), func(m misplaced) {
			lacking.add(m, ref, m.Was || l.merged.deleted[ref.table][m.Other])
		}, l.connection); err != nil {
			return err
		}
	}
	for _, h := range lacking.list {
		l.dangles(h)
	}
	if err := l.unlisted(ctx); err != nil {
		return err
	}
	if len(l.same) == 0 || !doubled {
		return nil
	}
	var twice []string
	if err := l.taken(ctx, fmt.Sprintf(`
		WITH every AS (
			SELECT sourced_id, section, person, role, 0 AS position, false AS staged FROM enrolments m
			WHERE m.connection_id = $1 AND m.gone_at IS NULL AND NOT EXISTS (SELECT 1 FROM %[1]s s WHERE s.sourced_id = m.sourced_id)
				AND EXISTS (SELECT 1 FROM %[1]s s WHERE s.section = m.section AND s.person = m.person AND s.role = m.role)
			UNION ALL SELECT sourced_id, section, person, role, position, true FROM %[1]s WHERE standing = 'in'
		), ordered AS (
			SELECT *, first_value(sourced_id) OVER w AS kept, row_number() OVER w AS n FROM every
			WINDOW w AS (PARTITION BY section, person, role ORDER BY staged, position)
		)
		DELETE FROM %[1]s s USING ordered o WHERE o.staged AND o.n > 1 AND o.sourced_id = s.sourced_id
		RETURNING s.position, s.sourced_id, o.kept, s.person, s.section, false`, l.staged), func(m misplaced) {
		twice = append(twice, m.ID)
		l.merged.notice(finding.EnrolmentDuplicate, l.subject(m), fmt.Sprintf("%s is enrolled in %s by %s already", m.Person, m.Section, m.Other))
	}, l.connection); err != nil {
		return err
	}
	// What such a record said before is no longer so.
	n, err := l.count(ctx, `UPDATE enrolments SET gone_at = now(), changed_at = now(), standing = 'gone' WHERE connection_id = $1 AND gone_at IS NULL AND sourced_id = ANY ($2::text[])`, l.connection, twice)
	l.tally.Gone += n
	return err
}

// dangles notices records that name one which is not there: once, at the record that cannot
// be used where that is the cause.
func (l *loading) dangles(h *absence) {
	code, what := finding.ReferenceUnknown, fmt.Sprintf("%s %q is not in the register", h.ref.noun, h.first.Other)
	if h.deleted {
		code, what = finding.ReferenceDeleted, fmt.Sprintf("%s %q is marked as deleted in the register", h.ref.noun, h.first.Other)
	}
	if at, bad := l.merged.badAt[h.ref.table][h.first.Other]; bad {
		l.merged.notice(code, fmt.Sprintf("%s (%s)", l.in.Where(h.ref.table, at), h.first.Other), fmt.Sprintf("this %s cannot be used, so %s left out, the first at %s", h.ref.noun, namers(h.n, l.name), l.subject(h.first)))
		return
	}
	if h.n == 1 {
		l.merged.notice(code, l.subject(h.first), "its "+what)
		return
	}
	l.merged.notice(code, l.subject(h.first), fmt.Sprintf("the %s, so %s left out, of which this is the first", what, namers(h.n, l.name)))
}

// history keeps what an enrolment was before it came back, or became another's.
func (l *loading) history(ctx context.Context) error {
	if l.name != "enrolments" {
		return nil
	}
	_, err := l.tx.PGX.Exec(ctx, fmt.Sprintf(`
		INSERT INTO past_enrolments (connection_id, sourced_id, section, person, role, begin_date, joined_at, left_at)
		SELECT m.connection_id, m.sourced_id, m.section, m.person, m.role, m.begin_date, m.joined_at, coalesce(m.gone_at, now())
		FROM enrolments m JOIN %s s ON s.sourced_id = m.sourced_id
		WHERE m.connection_id = $1 AND m.joined_at IS NOT NULL
			AND (m.gone_at IS NOT NULL AND s.standing = 'in' OR (m.section, m.person, m.role) <> (s.section, s.person, s.role))`, l.staged), l.connection)
	return err
}

// write brings changed rows up to date and adds the new ones.
func (l *loading) write(ctx context.Context) (err error) {
	values := l.columns[1:]
	list := func(format, separator string) string {
		parts := make([]string, len(values))
		for i, c := range values {
			parts[i] = strings.ReplaceAll(format, "%", c)
		}
		return strings.Join(parts, separator)
	}
	since, starts, first := `gone_at = NULL`, "", ""
	if l.name == "enrolments" {
		// Coming back, or becoming another's, is joining anew. What is over when it is first
		// read was so before: nobody left just now.
		since = `gone_at = CASE WHEN s.standing = 'in' THEN NULL WHEN m.gone_at IS NULL OR (m.section, m.person, m.role) <> (s.section, s.person, s.role) THEN now() ELSE m.gone_at END,
			joined_at = CASE
				WHEN s.standing = 'in' AND m.gone_at IS NULL AND (m.section, m.person, m.role) = (s.section, s.person, s.role) THEN m.joined_at
				WHEN s.standing = 'in' THEN now()
				WHEN (m.section, m.person, m.role) = (s.section, s.person, s.role) THEN m.joined_at END`
		starts = `, gone_at, joined_at`
		first = `, CASE s.standing WHEN 'over' THEN s.end_date + 1 WHEN 'waiting' THEN now() END, CASE s.standing WHEN 'in' THEN now() WHEN 'over' THEN least(s.begin_date, s.end_date) END`
	}
	if err := l.differences(ctx); err != nil {
		return err
	}
	l.tally.Changed, err = l.count(ctx, fmt.Sprintf(`
		UPDATE %[1]s m SET %[2]s, row_hash = s.row_hash, changed_at = now(), %[3]s FROM %[4]s s
		WHERE m.connection_id = $1 AND m.sourced_id = s.sourced_id AND (NOT (%[7]s) OR (%[5]s) IS DISTINCT FROM (%[6]s))`,
		l.name, list("% = s.%", ", "), since, l.staged, list("m.%", ", "), list("s.%", ", "), l.listed()), l.connection)
	if err != nil {
		return err
	}
	if _, err = l.tx.PGX.Exec(ctx, fmt.Sprintf(`UPDATE %s m SET row_hash = s.row_hash FROM %s s
		WHERE m.connection_id = $1 AND m.sourced_id = s.sourced_id AND m.row_hash IS DISTINCT FROM s.row_hash`, l.name, l.staged), l.connection); err != nil {
		return err
	}
	l.tally.Added, err = l.count(ctx, fmt.Sprintf(`
		INSERT INTO %[1]s (connection_id, sourced_id, %[2]s, row_hash%[5]s)
		SELECT $1, s.sourced_id, %[3]s, s.row_hash%[6]s FROM %[4]s s
		WHERE NOT EXISTS (SELECT 1 FROM %[1]s m WHERE m.connection_id = $1 AND m.sourced_id = s.sourced_id)`,
		l.name, strings.Join(values, ", "), list("s.%", ", "), l.staged, starts, first), l.connection)
	return err
}

// orphans marks rows as gone whose reference went away although they were read:
// an enrolment in a section that the register no longer has.
func (l *loading) orphans(ctx context.Context) error {
	for _, ref := range l.refs {
		if l.merged.Tables[ref.table].Gone == 0 {
			continue
		}
		if err := l.taken(ctx, fmt.Sprintf(`
			UPDATE %[1]s m SET gone_at = coalesce(m.gone_at, now()), changed_at = now()%[5]s FROM %[2]s r
			WHERE m.connection_id = $1 AND %[4]s AND r.connection_id = $1 AND r.sourced_id = m.%[3]s AND r.gone_at = now()
			RETURNING 0, m.sourced_id, r.sourced_id, '', '', true`, l.name, ref.table, ref.column, l.counts(), l.standingGone()), func(m misplaced) {
			l.tally.Gone++
			l.merged.notice(finding.ReferenceDeleted, l.name+" "+m.ID, fmt.Sprintf("its %s %q is no longer in the register", ref.noun, m.Other))
		}, l.connection); err != nil {
			return err
		}
	}
	return nil
}
