package mirror

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/core/finding"
	"kanban/internal/store/db"
)

// misplaced is a staged record that was taken out again.
type misplaced struct {
	Position int
	ID       string
	Other    string // the record or value that it is about
	Person   string
	Section  string
	Was      bool // the record that it refers to was there before
}

// absence is one record, named by others, which is not there.
type absence struct {
	first   misplaced
	n       int
	ref     mirrorRef
	deleted bool
}

type absenceKey struct {
	ref   mirrorRef
	other string
}

// absences are gathered by what is not there, in the order of the first that names it.
type absences struct {
	of   map[absenceKey]*absence
	list []*absence
}

func (h *absences) add(m misplaced, ref mirrorRef, deleted bool) {
	key := absenceKey{ref, m.Other}
	if h.of[key] == nil {
		h.of[key] = &absence{first: m, ref: ref, deleted: deleted}
		h.list = append(h.list, h.of[key])
	}
	h.of[key].n++
}

func namers(n int, table string) string {
	if n == 1 {
		return "1 of the " + table + ", which names it, is"
	}
	return fmt.Sprintf("%d %s, which name it, are", n, table)
}

func (l *loading) taken(ctx context.Context, sql string, each func(misplaced), args ...any) error {
	list, err := db.Rows[misplaced](ctx, l.tx, "finding records that are wrong with others", sql, args...)
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
		DELETE FROM %[1]s s USING (SELECT sourced_id, max(position) AS position FROM %[1]s
			GROUP BY sourced_id HAVING count(*) > 1) k
		WHERE s.sourced_id = k.sourced_id AND s.position < k.position
		RETURNING k.position, s.sourced_id AS id, '' AS other, '' AS person, '' AS section, false AS was`, l.staged), func(m misplaced) { l.twice(m.Position, m.ID) })
}

// superseded looks at staged records whose unchanged twin was read too: one
// sourced id with two contents. The later one counts.
func (l *loading) superseded(ctx context.Context) error {
	type known struct {
		Position  int
		SourcedID string
		RowHash   int64
	}
	var drop []string
	err := db.Each(ctx, l.tx, "finding records given twice", fmt.Sprintf(`
		SELECT s.position, s.sourced_id, m.row_hash FROM %s s
		JOIN %s m ON m.interface_id = $1 AND m.sourced_id = s.sourced_id AND %s AND m.row_hash IS NOT NULL`, l.staged, l.name, l.listed()), []any{l.interfaceID}, func(k known) error {
		at := int(l.known[uint64(k.RowHash)])
		if at == 0 {
			return nil
		}
		l.twice(max(at, k.Position), k.SourcedID)
		if at > k.Position {
			drop = append(drop, k.SourcedID)
		}
		return nil
	})
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, l.tx, fmt.Sprintf(`DELETE FROM %s WHERE sourced_id = ANY ($1::text[])`, l.staged), drop)
	return err
}

// keep takes staged records out that are not understood well enough to change what is there.
func (l *loading) keep(ctx context.Context) error {
	if len(l.unsure) == 0 {
		return nil
	}
	kept, err := l.names(ctx, fmt.Sprintf(`DELETE FROM %s s USING %s m
		WHERE s.sourced_id = ANY ($2::text[]) AND m.interface_id = $1 AND m.sourced_id = s.sourced_id AND %s
			RETURNING s.sourced_id`, l.staged, l.name, l.listed()), l.interfaceID, l.unsure)
	l.bad = append(l.bad, kept...)
	l.copied -= len(kept)
	return err
}

// identify finds out whether each damaged record is one that is known and was not read
// otherwise. If not, any record may be lost in it, and the table was not read whole.
func (l *loading) identify(ctx context.Context) error {
	if l.incomplete = l.in.Incomplete(l.name); l.incomplete == "" && len(l.damaged) > 0 {
		type damaged struct {
			ID      string
			RowHash int64
			Known   bool
		}
		err := db.Each(ctx, l.tx, "finding what damaged records were", fmt.Sprintf(`
			SELECT d.id, coalesce(m.row_hash, 0) AS row_hash, m.sourced_id IS NOT NULL AND NOT EXISTS (SELECT 1
				FROM %s s WHERE s.sourced_id = d.id) AND count(*) OVER (PARTITION BY d.id) = 1 AS known
			FROM unnest($2::text[]) d (id) LEFT JOIN %s m ON m.interface_id = $1 AND m.sourced_id = d.id AND %s`, l.staged, l.name, l.listed()), []any{l.interfaceID, l.damaged}, func(d damaged) error {
			if !d.Known || l.known[uint64(d.RowHash)] != 0 {
				l.incomplete = fmt.Sprintf("what is left of a damaged record looks like %s, and that is not a record that is known and missing", d.ID)
			}
			return nil
		})
		if err != nil {
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
		back, err := l.names(ctx, fmt.Sprintf(`UPDATE %[1]s r SET gone_at = NULL
			WHERE r.interface_id = $1 AND r.gone_at = now() AND r.sourced_id <> ALL ($2::text[]) AND (
				EXISTS (SELECT 1 FROM %[3]s m WHERE m.interface_id = $1 AND m.%[2]s %[5]s AND %[6]s)
				OR EXISTS (SELECT 1 FROM %[4]s m WHERE m.%[2]s %[5]s AND %[6]s))
			RETURNING r.sourced_id`, ref.table, ref.column, l.name, l.staged, to, l.counts()), l.interfaceID, deleted)
		if err != nil {
			return err
		}
		counts := l.merged.Tables[ref.table]
		counts.Gone -= len(back)
		l.merged.Tables[ref.table] = counts
		for _, id := range back {
			l.merged.notice(finding.StillReferred, fmt.Sprintf("%s (%s)", l.in.Where(ref.table, 0), id),
				fmt.Sprintf("it is not listed any more, but %s refers to it", l.in.Where(l.name, 0)))
		}
	}
	return nil
}

// inherit fills in what a list of changes does not say.
func (l *loading) inherit(ctx context.Context) error {
	if l.name != "people" {
		return nil
	}
	_, err := db.Exec(ctx, l.tx, fmt.Sprintf(`UPDATE %s s SET secondary = coalesce((SELECT m.secondary FROM people m
		WHERE m.interface_id = $1 AND m.sourced_id = s.sourced_id), false)
		WHERE secondary IS NULL`, l.staged), l.interfaceID)
	return err
}

// gone marks the rows that are no longer read, or that the register marks as
// deleted. A record that came but cannot be used takes nothing away: a slip in
// the register must not look like somebody leaving.
func (l *loading) gone(ctx context.Context) (err error) {
	mark := `UPDATE %[1]s m SET gone_at = coalesce(m.gone_at, now()), changed_at = now()` + l.standingGone() + ` WHERE m.interface_id = $1 AND ` + l.listed() + ` AND `
	if l.in.Partial(l.name) || l.incomplete != "" {
		ids := make([]string, 0, len(l.deleted))
		for id := range l.deleted {
			ids = append(ids, id)
		}
		l.counted.Gone, err = l.count(ctx, fmt.Sprintf(mark+`m.sourced_id = ANY ($2::text[])`, l.name), l.interfaceID,
			ids)
		return err
	}
	unseen := make([]int64, 0, 64)
	for hash, at := range l.known {
		if at == 0 {
			unseen = append(unseen, int64(hash))
		}
	}
	l.counted.Gone, err = l.count(ctx, fmt.Sprintf(mark+`(m.row_hash IS NULL
		OR m.row_hash IN (SELECT unnest($2::bigint[])))
		AND NOT EXISTS (SELECT 1 FROM %[2]s s WHERE s.sourced_id = m.sourced_id) AND m.sourced_id <> ALL ($3::text[])`, l.name, l.staged), l.interfaceID, unseen, append([]string{}, l.bad...))
	return err
}

// unlisted notices records that name something unknown among several: they go in, and what
// follows from the unknown one is not known.
func (l *loading) unlisted(ctx context.Context) error {
	for _, ref := range l.lists {
		unknown, err := l.names(ctx, fmt.Sprintf(`SELECT DISTINCT x.id FROM (SELECT DISTINCT %[2]s AS ids
			FROM %[1]s) l, unnest(l.ids) x (id)
			WHERE NOT EXISTS (SELECT 1 FROM %[3]s r WHERE r.interface_id = $1 AND r.sourced_id = x.id
				AND r.gone_at IS NULL)`, l.staged, ref.column, ref.table), l.interfaceID)
		if err != nil {
			return err
		}
		if len(unknown) == 0 { // looked for first, because few lists are shared by all
			continue
		}
		type unlisted struct {
			Position, N int
			ID, Other   string
		}
		err = db.Each(ctx, l.tx, "finding references to what is unknown", fmt.Sprintf(`SELECT min(s.position) AS
			position, (array_agg(s.sourced_id ORDER BY s.position))[1] AS id, x.id AS other, count(*) AS n
			FROM %[1]s s, unnest(s.%[2]s) x (id)
			WHERE x.id = ANY ($1::text[]) GROUP BY 3 ORDER BY 1, 3`, l.staged, ref.column), []any{unknown}, func(u unlisted) error {
			who := "it has"
			if u.N > 1 {
				who = fmt.Sprintf("it and %d more of its kind have", u.N-1)
			}
			l.merged.notice(finding.ReferenceUnknown, l.subject(misplaced{Position: u.Position, ID: u.ID}),
				fmt.Sprintf("its %s %q is not in the register, so %s no beginning and no end by it", ref.noun,
					u.Other, who))
			return nil
		})
		if err != nil {
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
	return db.Values[string](ctx, l.tx, "merging "+l.name, sql, args...)
}

// sharedIdentifiers notices people with an identifier that somebody else has: new ones, and
// those who have another identifier than before.
func (l *loading) sharedIdentifiers(ctx context.Context) error {
	sql := fmt.Sprintf(`WITH asked AS MATERIALIZED (
			SELECT s.position, s.sourced_id, s.identifier FROM %[1]s s LEFT
				JOIN people m ON m.interface_id = $1 AND m.sourced_id = s.sourced_id AND m.gone_at IS NULL
			WHERE m.identifier IS DISTINCT FROM s.identifier AND NOT coalesce(s.secondary, false))
		SELECT a.position, a.sourced_id AS id, min(o.sourced_id) AS other FROM asked a JOIN (
			SELECT sourced_id, identifier FROM people WHERE interface_id = $1 AND gone_at IS NULL AND NOT secondary
				AND identifier = ANY (ARRAY(SELECT identifier FROM asked))
			UNION ALL SELECT sourced_id, identifier FROM %[1]s WHERE NOT coalesce(secondary, false)
		) o ON o.identifier = a.identifier AND o.sourced_id <> a.sourced_id GROUP BY 1, 2 ORDER BY 1`, l.staged)
	args := []any{l.interfaceID}
	if l.known == nil { // a first read
		sql, args = fmt.Sprintf(`SELECT s.position, s.sourced_id AS id, (SELECT min(o.sourced_id) FROM %[1]s o
			WHERE o.identifier = s.identifier AND o.sourced_id <> s.sourced_id) AS other
			FROM %[1]s s WHERE s.identifier IN (SELECT identifier FROM %[1]s WHERE NOT coalesce(secondary, false)
				GROUP BY identifier HAVING count(*) > 1) AND NOT coalesce(s.secondary, false) ORDER BY 1 LIMIT 1000`, l.staged), nil
	}
	type shared struct {
		Position  int
		ID, Other string
	}
	return db.Each(ctx, l.tx, "finding shared identifiers", sql, args, func(x shared) error {
		l.merged.notice(finding.IdentifierShared, l.subject(misplaced{Position: x.Position, ID: x.ID}),
			fmt.Sprintf("%s has the same identifier", x.Other))
		return nil
	})
}

// standingGone is what else a row gets that is no longer listed.
func (l *loading) standingGone() string {
	if l.name == "enrolments" {
		return `, state = 'gone'`
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
					SELECT 1 FROM %[2]s r WHERE r.interface_id = $1 AND r.sourced_id = s.%[3]s AND r.gone_at IS NULL)
				RETURNING s.position, s.sourced_id, s.%[3]s AS other)
			SELECT o.position, o.sourced_id AS id, o.other, '' AS person, '' AS section, EXISTS (SELECT 1 FROM %[2]s r
				WHERE r.interface_id = $1 AND r.sourced_id = o.other) AS was FROM out o`,
			l.staged, ref.table, ref.column), func(m misplaced) {
			lacking.add(m, ref, m.Was || l.merged.deleted[ref.table][m.Other])
		}, l.interfaceID); err != nil {
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
			WHERE m.interface_id = $1 AND m.gone_at IS NULL AND NOT EXISTS (SELECT 1 FROM %[1]s s
				WHERE s.sourced_id = m.sourced_id)
				AND EXISTS (SELECT 1 FROM %[1]s s WHERE s.section = m.section AND s.person = m.person
					AND s.role = m.role)
			UNION ALL SELECT sourced_id, section, person, role, position, true FROM %[1]s WHERE state = 'in'
		), ordered AS (
			SELECT *, first_value(sourced_id) OVER w AS kept, row_number() OVER w AS n FROM every
			WINDOW w AS (PARTITION BY section, person, role ORDER BY staged, position)
		)
		DELETE FROM %[1]s s USING ordered o WHERE o.staged AND o.n > 1 AND o.sourced_id = s.sourced_id
		RETURNING s.position, s.sourced_id AS id, o.kept AS other, s.person, s.section, false AS was`, l.staged), func(m misplaced) {
		twice = append(twice, m.ID)
		l.merged.notice(finding.EnrolmentDuplicate, l.subject(m),
			fmt.Sprintf("%s is enrolled in %s by %s already", m.Person, m.Section, m.Other))
	}, l.interfaceID); err != nil {
		return err
	}
	// What such a record said before is no longer so.
	n, err := l.count(ctx, `UPDATE enrolments SET gone_at = now(), changed_at = now(), state = 'gone'
		WHERE interface_id = $1 AND gone_at IS NULL AND sourced_id = ANY ($2::text[])`, l.interfaceID, twice)
	l.counted.Gone += n
	return err
}

// dangles notices records that name one which is not there: once, at the record that cannot
// be used where that is the cause.
func (l *loading) dangles(h *absence) {
	code, what := finding.ReferenceUnknown, fmt.Sprintf("%s %q is not in the register", h.ref.noun, h.first.Other)
	if h.deleted {
		code, what = finding.ReferenceDeleted, fmt.Sprintf("%s %q is marked as deleted in the register", h.ref.noun,
			h.first.Other)
	}
	if at, bad := l.merged.badAt[h.ref.table][h.first.Other]; bad {
		l.merged.notice(code, fmt.Sprintf("%s (%s)", l.in.Where(h.ref.table, at), h.first.Other),
			fmt.Sprintf("this %s cannot be used, so %s left out, the first at %s", h.ref.noun, namers(h.n, l.name),
				l.subject(h.first)))
		return
	}
	if h.n == 1 {
		l.merged.notice(code, l.subject(h.first), "its "+what)
		return
	}
	l.merged.notice(code, l.subject(h.first), fmt.Sprintf("the %s, so %s left out, of which this is the first", what,
		namers(h.n, l.name)))
}

// history keeps what an enrolment was before it came back, or became another's.
func (l *loading) history(ctx context.Context) error {
	if l.name != "enrolments" {
		return nil
	}
	_, err := db.Exec(ctx, l.tx, fmt.Sprintf(`
		INSERT INTO past_enrolments (interface_id, sourced_id, section, person, role, begin_date, joined_at, left_at)
		SELECT m.interface_id, m.sourced_id, m.section, m.person, m.role, m.begin_date, m.joined_at,
			coalesce(m.gone_at, now())
		FROM enrolments m JOIN %s s ON s.sourced_id = m.sourced_id
		WHERE m.interface_id = $1 AND m.joined_at IS NOT NULL
			AND (m.gone_at IS NOT NULL AND s.state = 'in' OR (m.section, m.person, m.role) <> (s.section, s.person,
				s.role))`, l.staged), l.interfaceID)
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
		since = `gone_at = CASE WHEN s.state = 'in' THEN NULL WHEN m.gone_at IS NULL OR (m.section, m.person, m.role) <> (s.section, s.person, s.role) THEN now() ELSE m.gone_at END,
			joined_at = CASE
				WHEN s.state = 'in' AND m.gone_at IS NULL AND (m.section, m.person, m.role) = (s.section, s.person, s.role) THEN m.joined_at
				WHEN s.state = 'in' THEN now()
				WHEN (m.section, m.person, m.role) = (s.section, s.person, s.role) THEN m.joined_at END`
		starts = `, gone_at, joined_at`
		first = `, CASE s.state WHEN 'over' THEN s.end_date + 1 WHEN 'waiting' THEN now() END, CASE s.state WHEN 'in' THEN now() WHEN 'over' THEN least(s.begin_date, s.end_date) END`
	}
	if err := l.differences(ctx); err != nil {
		return err
	}
	l.counted.Changed, err = l.count(ctx, fmt.Sprintf(`
		UPDATE %[1]s m SET %[2]s, row_hash = s.row_hash, changed_at = now(), %[3]s FROM %[4]s s
		WHERE m.interface_id = $1 AND m.sourced_id = s.sourced_id AND (NOT (%[7]s) OR (%[5]s) IS DISTINCT
			FROM (%[6]s))`,
		l.name, list("% = s.%", ", "), since, l.staged, list("m.%", ", "), list("s.%",
			", "), l.listed()), l.interfaceID)
	if err != nil {
		return err
	}
	if _, err = db.Exec(ctx, l.tx, fmt.Sprintf(`UPDATE %s m SET row_hash = s.row_hash FROM %s s
		WHERE m.interface_id = $1 AND m.sourced_id = s.sourced_id AND m.row_hash IS DISTINCT FROM s.row_hash`, l.name, l.staged), l.interfaceID); err != nil {
		return err
	}
	l.counted.Added, err = l.count(ctx, fmt.Sprintf(`
		INSERT INTO %[1]s (interface_id, sourced_id, %[2]s, row_hash%[5]s)
		SELECT $1, s.sourced_id, %[3]s, s.row_hash%[6]s FROM %[4]s s
		WHERE NOT EXISTS (SELECT 1 FROM %[1]s m WHERE m.interface_id = $1 AND m.sourced_id = s.sourced_id)`,
		l.name, strings.Join(values, ", "), list("s.%", ", "), l.staged, starts, first), l.interfaceID)
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
			WHERE m.interface_id = $1 AND %[4]s AND r.interface_id = $1 AND r.sourced_id = m.%[3]s
				AND r.gone_at = now()
			RETURNING 0 AS position, m.sourced_id AS id, r.sourced_id AS other, '' AS person, '' AS section,
				true AS was`, l.name, ref.table, ref.column, l.counts(), l.standingGone()), func(m misplaced) {
			l.counted.Gone++
			l.merged.notice(finding.ReferenceDeleted, l.name+" "+m.ID,
				fmt.Sprintf("its %s %q is no longer in the register", ref.noun, m.Other))
		}, l.interfaceID); err != nil {
			return err
		}
	}
	return nil
}
