package reportstore

import (
	"context"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"kanban/internal/core/learning"
	"kanban/internal/core/report"
	"kanban/internal/store/db"
)

// learnersIn finds who learns in the sections $1 now, and since when.
var learnersIn = `learners AS (
	SELECT p.id AS person_id, x.id AS section_id, min(e.joined_at) AS joined_at
	FROM sections x
	JOIN enrolments e ON e.interface_id = x.interface_id AND e.section = x.sourced_id AND e.gone_at IS NULL
		AND e.role = 'student'
	JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person AND p.gone_at IS NULL
	WHERE x.id = ANY ($1::text[]::uuid[]) AND ` + db.NoTest("p.id") + ` GROUP BY 1, 2)`

// alone is up to how many sections are counted with one query: more are counted by two at once.
const alone = 250

// Standings counts how far the learners of sections have come, and who began and left; each section is counted
// as the one that stands at its place in as. Whoever has done nothing since a time, and has not finished, has stopped.
func Standings(ctx context.Context, from *db.Database, sections, as []string, since time.Time) ([]report.Standing,
	error,
) {
	size := max(alone, (len(sections)+1)/2)
	var parts [2][]report.Standing
	group, ctx := errgroup.WithContext(ctx)
	for i := 0; i*size < len(sections); i++ {
		begin, to := i*size, min((i+1)*size, len(sections))
		group.Go(func() (err error) {
			parts[i], err = standings(ctx, from, sections[begin:to], as[begin:to], since)
			return err
		})
	}
	err := group.Wait()
	return slices.Concat(parts[0], parts[1]), err
}

func standings(ctx context.Context, from *db.Database, sections, as []string, since time.Time) (all []report.Standing,
	err error,
) {
	type row struct {
		SectionID          string
		Version            int
		DoneBits           learning.DoneBits
		Begun, Done, Still bool
		People             int
	}
	type begun struct {
		SectionID string
		People    int
	}
	left := map[string]int{}
	err = from.InTx(ctx, func(tx *db.Tx) error {
		// Tens of thousands are grouped in memory, not on disk.
		if _, err := db.Exec(ctx, tx, `SET LOCAL work_mem = '32MB'`); err != nil {
			return err
		}
		err := db.EachFast(ctx, tx, "counting who began", `SELECT w.counted::text AS section_id, sum(people)::int AS people
			FROM (SELECT section_id, count(*) AS people FROM progress WHERE section_id = ANY ($1::text[]::uuid[])
				AND first_at IS NOT NULL AND `+db.NoTest("person_id")+` GROUP BY 1) x
			JOIN unnest($1::text[]::uuid[], $2::text[]::uuid[]) AS w (id, counted) ON w.id = x.section_id
			GROUP BY 1`, []any{sections, as}, func(x begun) error {
			left[x.SectionID] = x.People
			return nil
		})
		if err != nil {
			return err
		}
		return db.EachFast(ctx, tx, "counting how far learners have come", `WITH `+learnersIn+`
			SELECT counted::text AS section_id, version, done_bits, begun, done, still, people FROM (
				SELECT w.counted, coalesce(g.outline_version, 0) AS version, coalesce(g.done_bits, '') AS done_bits,
					g.first_at IS NOT NULL AS begun, coalesce(g.done, false) AS done,
					NOT coalesce(g.done, false) AND coalesce(g.last_at, l.joined_at) < $2 AS still, count(*)::int AS people
				FROM learners l LEFT JOIN progress g ON g.person_id = l.person_id AND g.section_id = l.section_id
				JOIN unnest($1::text[]::uuid[], $3::text[]::uuid[]) AS w (id, counted) ON w.id = l.section_id
				GROUP BY 1, 2, 3, 4, 5, 6) x`, []any{sections, since, as}, func(x row) error {
			all = append(all, report.Standing{
				Group: x.SectionID, Version: x.Version, Bits: x.DoneBits, Begun: x.Begun, Done: x.Done, Still: x.Still,
				Count: x.People,
			})
			if x.Begun {
				left[x.SectionID] -= x.People
			}
			return nil
		})
	})
	for _, id := range slices.Compact(slices.Sorted(slices.Values(as))) {
		if left[id] > 0 {
			all = append(all, report.Standing{Group: id, Left: true, Count: left[id]})
		}
	}
	return all, err
}

// Finished is how long it took somebody from their first activity in a section to its end.
type Finished struct {
	SectionID string
	Days      float64
}

// Spans lists how long it took those who finished and are in the sections now.
func Spans(ctx context.Context, from *db.Database, sections []string) (all []Finished, err error) {
	err = db.EachFast(ctx, from, "reading how long it took", `
		SELECT g.section_id::text, greatest(extract(epoch FROM g.done_at - g.first_at), 0)::float8 / 86400 AS days
		FROM progress g JOIN sections x ON x.id = g.section_id
		WHERE g.section_id = ANY ($1::text[]::uuid[]) AND `+db.NoTest("g.person_id")+` AND g.done AND g.done_at IS NOT NULL AND g.first_at IS NOT NULL
			AND EXISTS (SELECT 1 FROM people p JOIN enrolments e ON e.interface_id = p.interface_id
				AND e.person = p.sourced_id AND e.section = x.sourced_id AND e.interface_id = x.interface_id
				AND e.gone_at IS NULL AND e.role = 'student' WHERE p.id = g.person_id AND p.gone_at IS NULL)`,
		[]any{sections}, func(x Finished) error {
			all = append(all, x)
			return nil
		})
	return all, err
}

// Learner is where somebody stands in a section.
type Learner struct {
	PersonID  string
	Name      string
	SectionID string
	Percent   int
	LastAt    *time.Time // nil when they have not begun
	JoinedAt  time.Time
	Score     *float64 // mean of the best scores, each of 1
	NudgedAt  *time.Time
	NudgedBy  string // name of the rule
}

// stoppedSQL finds who has stopped: $2 is since when, $3 are the rules that nudge.
var stoppedSQL = `WITH ` + learnersIn + `, stopped AS (
	SELECT l.person_id, l.section_id, coalesce(g.percent, 0) AS percent, g.last_at, l.joined_at
	FROM learners l LEFT JOIN progress g ON g.person_id = l.person_id AND g.section_id = l.section_id
	WHERE NOT coalesce(g.done, false) AND coalesce(g.last_at, l.joined_at) < $2) `

// CountStopped counts them.
func CountStopped(ctx context.Context, from db.From, sections []string, since time.Time) (n int, err error) {
	err = db.Into(ctx, from, &n, stoppedSQL+`SELECT count(*)::int FROM stopped`, sections, since)
	return n, db.Known(err, "counting who has stopped")
}

// EachStopped hands out those who have done nothing since a time and have not finished, the longest first.
func EachStopped(ctx context.Context, from *db.Database, sections []string, since time.Time, nudges []string,
	do func(Learner) error,
) error {
	return db.EachFast(ctx, from, "listing who has stopped", stoppedSQL+`
		SELECT s.person_id::text, p.name, s.section_id::text, s.percent, s.last_at, s.joined_at, NULL::float8 AS score,
			d.finished_at AS nudged_at, coalesce(d.name, '') AS nudged_by
		FROM stopped s
		CROSS JOIN LATERAL (SELECT trim(given_name || ' ' || family_name) AS name FROM people WHERE id = s.person_id
			AND leads) p
		LEFT JOIN LATERAL (SELECT d.finished_at, r.name FROM rules r JOIN deliveries d ON d.rule_id = r.id
			AND d.person_id = s.person_id AND d.section_id = s.section_id AND d.state = 'delivered'
			WHERE r.id = ANY ($3::text[]::uuid[]) ORDER BY d.id DESC LIMIT 1) d ON true
		ORDER BY coalesce(s.last_at, s.joined_at), p.name, s.section_id`, []any{sections, since, nudges}, do)
}

// Nudge is what came of the deliveries of a rule that nudges.
type Nudge struct {
	Rule     string
	People   int // that were nudged
	Back     int // of them, so many did something after it
	Finished int // of them, so many have finished the course
}

// Nudges says for each of some rules whether those came back whom it nudged; once per person and section.
func Nudges(ctx context.Context, from db.From, rules, sections []string, after, before *time.Time) ([]Nudge, error) {
	return db.Rows[Nudge](ctx, from, "looking whether nudges helped", `
		SELECT r.name AS rule, count(x.person_id)::int AS people,
			count(*) FILTER (WHERE g.last_at > x.at)::int AS back, count(*) FILTER (WHERE g.done_at > x.at)::int AS finished
		FROM rules r
		LEFT JOIN LATERAL (SELECT d.person_id, d.section_id, min(d.finished_at) AS at FROM deliveries d
			WHERE d.rule_id = r.id AND d.state = 'delivered' AND d.section_id = ANY ($2::text[]::uuid[])
			AND ($3::timestamptz IS NULL OR d.finished_at >= $3) AND ($4::timestamptz IS NULL OR d.finished_at < $4)
			GROUP BY 1, 2) x ON true
		LEFT JOIN progress g ON g.person_id = x.person_id AND g.section_id = x.section_id
		WHERE r.id = ANY ($1::text[]::uuid[]) GROUP BY r.id, r.name ORDER BY lower(r.name)`, rules, sections, after, before)
}

// behindSQL finds who has not begun, or has scores whose mean lies below the mark $2.
var behindSQL = `WITH ` + learnersIn + `, behind AS (
	SELECT l.person_id, l.section_id, coalesce(g.percent, 0) AS percent, g.last_at, l.joined_at, a.score
	FROM learners l LEFT JOIN progress g ON g.person_id = l.person_id AND g.section_id = l.section_id
	LEFT JOIN LATERAL (SELECT avg(a.best) AS score FROM activity_progress a WHERE a.person_id = l.person_id
		AND a.section_id = l.section_id AND a.best IS NOT NULL) a ON g.first_at IS NOT NULL
	WHERE g.first_at IS NULL OR a.score < $2) `

// Behind counts of a section who has not begun, and who is below a mark.
type Behind struct {
	SectionID string
	NotBegun  int
	Below     int
}

// CountBehind counts by section who has not begun, or is below a mark, a share of 1.
func CountBehind(ctx context.Context, from db.From, sections []string, mark float64) ([]Behind, error) {
	return db.Rows[Behind](ctx, from, "counting who is behind", behindSQL+`SELECT section_id::text,
		count(*) FILTER (WHERE last_at IS NULL)::int AS not_begun, count(*) FILTER (WHERE score < $2)::int AS below
		FROM behind GROUP BY 1`, sections, mark)
}

// EachBehind hands them out, by section and the lowest score first.
func EachBehind(ctx context.Context, from *db.Database, sections []string, mark float64,
	do func(Learner) error,
) error {
	return db.EachFast(ctx, from, "listing who is behind", behindSQL+`
		SELECT b.person_id::text, p.name, b.section_id::text, b.percent, b.last_at, b.joined_at, b.score,
			NULL::timestamptz AS nudged_at, '' AS nudged_by
		FROM behind b
		CROSS JOIN LATERAL (SELECT trim(given_name || ' ' || family_name) AS name FROM people WHERE id = b.person_id
			AND leads) p
		JOIN section_facts f ON f.section_id = b.section_id
		ORDER BY f.title, b.section_id, b.score NULLS FIRST, p.name`, []any{sections, mark}, do)
}

// LearnersOf lists the learners of a section by name.
func LearnersOf(ctx context.Context, from db.From, section string) ([]Learner, error) {
	return db.Rows[Learner](ctx, from, "listing the section's learners", `WITH `+learnersIn+`
		SELECT l.person_id::text, p.name, l.section_id::text, coalesce(g.percent, 0) AS percent, g.last_at, l.joined_at,
			NULL::float8 AS score, NULL::timestamptz AS nudged_at, '' AS nudged_by
		FROM learners l LEFT JOIN progress g ON g.person_id = l.person_id AND g.section_id = l.section_id
		CROSS JOIN LATERAL (SELECT trim(given_name || ' ' || family_name) AS name FROM people WHERE id = l.person_id
			AND leads) p ORDER BY p.name, 1`, []string{section})
}
