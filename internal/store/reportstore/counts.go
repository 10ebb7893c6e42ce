package reportstore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// Period is from when to when something happened; nil is without an end.
type Period struct{ From, To *time.Time }

// Awarded is how often a badge was awarded, in a section and a quarter of an hour.
type Awarded struct {
	Badge     string
	BadgeID   string
	SectionID string    // "" when it was not for a section
	At        time.Time // a quarter of an hour
	Awards    int
	Valid     int
	Revoked   int
	Suspended int
	Shared    int
	Opened    int // so many were looked at by people
	ByPeople  int // so often
	Programs  int // so often by programs
}

// Awards counts awards by badge, section and quarter of an hour; of every section, and by hand too, when sections is
// nil.
func Awards(ctx context.Context, from db.From, sections []string, p Period) ([]Awarded, error) {
	return db.Rows[Awarded](ctx, from, "counting awards", `
		SELECT b.name AS badge, b.id::text AS badge_id, coalesce(a.section_id::text, '') AS section_id,
			`+db.Quarter(`a.awarded_at`)+` AS at, count(*)::int AS awards,
			count(*) FILTER (WHERE a.revoked_at IS NULL AND a.suspended_at IS NULL AND (a.valid_until IS NULL
				OR a.valid_until > now()))::int AS valid,
			count(*) FILTER (WHERE a.revoked_at IS NOT NULL)::int AS revoked,
			count(*) FILTER (WHERE a.revoked_at IS NULL AND a.suspended_at IS NOT NULL)::int AS suspended,
			count(*) FILTER (WHERE a.shared_at IS NOT NULL)::int AS shared,
			count(*) FILTER (WHERE l.people > 0)::int AS opened,
			coalesce(sum(l.people), 0)::int AS by_people, coalesce(sum(l.programs), 0)::int AS programs
		FROM awards a JOIN badges b ON b.id = a.badge_id
		LEFT JOIN LATERAL (SELECT sum(people) AS people, sum(programs) AS programs FROM award_looks
			WHERE award_id = a.id) l ON true
		WHERE NOT a.test AND ($1::text[] IS NULL OR a.section_id = ANY ($1::text[]::uuid[]))
			AND ($2::timestamptz IS NULL OR a.awarded_at >= $2) AND ($3::timestamptz IS NULL OR a.awarded_at < $3)
		GROUP BY 1, 2, 3, 4 ORDER BY 1, 2, 3, 4`, sections, p.From, p.To)
}

// Held is that somebody holds a badge.
type Held struct {
	PersonID, BadgeID string
	AwardedAt         time.Time
}

// HeldBy lists the valid awards of people.
func HeldBy(ctx context.Context, from db.From, people []string) ([]Held, error) {
	return db.Rows[Held](ctx, from, "listing what people hold", `SELECT person_id::text, badge_id::text, awarded_at
		FROM awards WHERE person_id = ANY ($1::text[]::uuid[]) AND revoked_at IS NULL AND renewed_at IS NULL
		AND suspended_at IS NULL AND (valid_until IS NULL OR valid_until > now()) ORDER BY awarded_at`, people)
}

// ActedRule is what a rule did.
type ActedRule struct {
	Name      string
	On        bool
	Trigger   string
	Fired     int
	People    int
	Delivered int
	Failed    int // they wait for a person
	Waiting   int // they are under way, or come later
	Calls     int // tries of all
	Most      int // of calls for each Per; 0 for no limit
	Per       string
}

// ActedRules counts by rule what it did.
func ActedRules(ctx context.Context, from db.From, p Period) ([]ActedRule, error) {
	return db.Rows[ActedRule](ctx, from, "counting what rules did", `
		SELECT r.name, r.on_since IS NOT NULL AS on, r.trigger, count(DISTINCT d.event_id) FILTER (WHERE d.undoes IS NULL)::int AS fired,
			count(DISTINCT d.person_id)::int AS people,
			count(*) FILTER (WHERE d.state = 'delivered')::int AS delivered,
			count(*) FILTER (WHERE d.state = 'waiting')::int AS failed,
			count(*) FILTER (WHERE d.state IN ('planned', 'queued', 'retrying'))::int AS waiting,
			coalesce(sum(d.attempts), 0)::int AS calls, coalesce((r.most->>'most')::int, 0) AS most,
			coalesce(r.most->>'per', '') AS per
		FROM rules r LEFT JOIN deliveries d ON d.rule_id = r.id
			AND ($1::timestamptz IS NULL OR d.created_at >= $1) AND ($2::timestamptz IS NULL OR d.created_at < $2)
			AND `+db.NoTest("d.person_id")+`
		GROUP BY r.id ORDER BY lower(r.name)`, p.From, p.To)
}

// Answered is how a service answered.
type Answered struct {
	Name      string
	Calls     int
	Taken     int
	Throttled int // 429
	Refused   int // any other 4xx
	Failed    int // 5xx, or no answer
	Median    *float64
	Slow      *float64 // 95 of 100 were faster
	Waiting   int
}

// Answers counts by interface how it answered what was sent to it.
func Answers(ctx context.Context, from db.From, p Period) ([]Answered, error) {
	return db.Rows[Answered](ctx, from, "counting how services answered", `
		SELECT i.name, count(a.delivery_id)::int AS calls,
			count(*) FILTER (WHERE a.error = '')::int AS taken,
			count(*) FILTER (WHERE a.error <> '' AND a.status = 429)::int AS throttled,
			count(*) FILTER (WHERE a.error <> '' AND a.status BETWEEN 400 AND 499 AND a.status <> 429)::int AS refused,
			count(*) FILTER (WHERE a.error <> '' AND a.status NOT BETWEEN 400 AND 499)::int AS failed,
			percentile_cont(0.5) WITHIN GROUP (ORDER BY a.millis) AS median,
			percentile_cont(0.95) WITHIN GROUP (ORDER BY a.millis) AS slow, max(w.n)::int AS waiting
		FROM interfaces i
		CROSS JOIN LATERAL (SELECT count(*) AS n FROM deliveries d WHERE d.interface_id = i.id AND d.finished_at IS NULL
			AND `+db.NoTest("d.person_id")+`) w
		JOIN deliveries d ON d.interface_id = i.id AND `+db.NoTest("d.person_id")+`
		LEFT JOIN attempts a ON a.delivery_id = d.id AND ($1::timestamptz IS NULL OR a.started_at >= $1)
			AND ($2::timestamptz IS NULL OR a.started_at < $2)
		WHERE i.removed_at IS NULL GROUP BY i.id ORDER BY lower(i.name)`, p.From, p.To)
}

// Calls is how all services answered in a quarter of an hour.
type Calls struct {
	At     time.Time
	Taken  int
	Failed int
}

// CallsOver counts by quarter of an hour how services answered.
func CallsOver(ctx context.Context, from db.From, p Period) ([]Calls, error) {
	return db.Rows[Calls](ctx, from, "counting calls by day", `
		SELECT `+db.Quarter(`started_at`)+` AS at,
			count(*) FILTER (WHERE error = '')::int AS taken, count(*) FILTER (WHERE error <> '')::int AS failed
		FROM attempts a WHERE EXISTS (SELECT 1 FROM deliveries d WHERE d.id = a.delivery_id AND d.interface_id IS NOT NULL
			AND `+db.NoTest("d.person_id")+`)
			AND ($1::timestamptz IS NULL OR started_at >= $1) AND ($2::timestamptz IS NULL OR started_at < $2)
		GROUP BY 1 ORDER BY 1`, p.From, p.To)
}
