package deliverystore

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/leases"
)

// Attempt is one try of a delivery. Request and Answer are excerpts with
// personal data masked.
type Attempt struct {
	DeliveryID string    `json:"-"`
	Number     int       `json:"number"`
	StartedAt  time.Time `json:"startedAt"`
	Millis     int       `json:"millis" doc:"How long it took, in milliseconds"`
	Status     int       `json:"status" doc:"HTTP status or SMTP code, 0 without an answer"`
	Request    string    `json:"request"`
	Answer     string    `json:"answer"`
	Error      string    `json:"error"`
	UnderWay   bool      `json:"underWay,omitempty" gorm:"-" doc:"It has begun and its answer has not come yet"`
}

// Attempts lists the tries of a delivery, first to last, the one under way among them.
func Attempts(ctx context.Context, from db.From, deliveryID string) (all []Attempt, err error) {
	if err = from.Records(ctx).Where("delivery_id = ?", deliveryID).Order("number").Find(&all).Error; err != nil {
		return nil, db.Known(err, "listing attempts")
	}
	d, err := FindDelivery(ctx, from, deliveryID)
	if err != nil || d.BegunAt == nil {
		return all, err
	}
	last := Attempt{DeliveryID: d.ID, Number: d.Attempts, StartedAt: *d.BegunAt}
	if err = db.Into(ctx, from, &last.UnderWay, `SELECT `+leases.Alive("$1"), d.ClaimedBy); err == nil &&
		!last.UnderWay {
		last.Error = CutOff
	}
	return append(all, last), db.Known(err, "listing attempts")
}

// deliveryColumns are those of deliveries d, in the order of Delivery's fields.
const deliveryColumns = `d.id::text, d.event_id::text, d.rule_id::text, d.offer_id::text, d.stage_plan_id::text, d.rule_version, d.position, d.action, d.interface_id::text, d.person_id::text, d.section_id::text, d.once_key,
	d.undoes::text, d.state, d.attempts, d.due_at, d.next_at, d.held, d.held_for, d.claimed_by, d.begun_at, d.code, d.last_error, d.result, d.created_at, d.finished_at`

// isReady is a condition over deliveries d: its time has come at $1, and nobody is at it.
// It reads as the index deliveries_ready does.
var isReady = `d.state IN ('queued', 'retrying') AND coalesce(greatest(d.due_at, d.next_at), '-infinity'::timestamptz) <= $1 AND (d.claimed_by IS NULL OR NOT ` + leases.Alive("d.claimed_by") + `)`

// Lane is where deliveries go: an interface, or nowhere outside.
type Lane struct {
	InterfaceID *string // nil for what reaches no service
}

// ReadyLanes lists those with deliveries that could be made now: their interface is not
// paused and does not rest.
func ReadyLanes(ctx context.Context, from *db.Database, now time.Time) ([]Lane, error) {
	return db.Rows[Lane](ctx, from.Quickly(), "looking for deliveries", `SELECT NULL::text AS interface_id
		WHERE EXISTS (SELECT 1 FROM deliveries d WHERE d.interface_id IS NULL AND `+isReady+`)
		UNION ALL SELECT c.id::text FROM interfaces c WHERE NOT `+connectionstore.Paused("c")+` AND c.removed_at IS NULL
			AND NOT EXISTS (SELECT 1 FROM rests r WHERE r.interface_id = c.id AND r.operation = ''
			AND r.rests_until > $1)
			AND EXISTS (SELECT 1 FROM deliveries d WHERE d.interface_id = c.id AND `+isReady+`)`, now)
}

// ReadyAfter is a place in a lane's order of what is ready; the zero value is before its
// first.
type ReadyAfter struct {
	at pgtype.Timestamptz
	id string
}

// After is the place of a delivery in its lane's order, as it was read.
func After(d Delivery) ReadyAfter {
	at := d.DueAt
	if at == nil || d.NextAt != nil && d.NextAt.After(*at) {
		at = d.NextAt
	}
	if at == nil {
		return ReadyAfter{pgtype.Timestamptz{InfinityModifier: pgtype.NegativeInfinity, Valid: true}, d.ID}
	}
	return ReadyAfter{pgtype.Timestamptz{Time: *at, Valid: true}, d.ID}
}

// ReadyDeliveries lists up to so many deliveries of a lane whose time has come and at which nobody
// is, other than some, those that have waited longest first, from a place on.
func ReadyDeliveries(ctx context.Context, from *db.Database, l Lane, now time.Time, most int, except []string,
	after ReadyAfter,
) ([]Delivery, error) {
	const place = `coalesce(greatest(d.due_at, d.next_at), '-infinity'::timestamptz), d.id`
	where, args := `d.interface_id IS NULL`, []any{now, most, append([]string{}, except...)}
	if l.InterfaceID != nil {
		where, args = `d.interface_id = $4::text::uuid`, append(args, *l.InterfaceID)
	}
	if after.id != "" {
		where += fmt.Sprintf(` AND (%s) > ($%d::timestamptz, $%d::text::uuid)`, place, len(args)+1, len(args)+2)
		args = append(args, after.at, after.id)
	}
	return db.Rows[Delivery](ctx, from.Quickly(), "looking for deliveries",
		`SELECT `+deliveryColumns+` FROM deliveries d WHERE `+where+` AND `+isReady+` AND d.id NOT IN (SELECT unnest($3::text[])::uuid)
		ORDER BY `+place+` LIMIT $2`, args...)
}

// CutOff is what is known of an attempt whose process ended before its answer came.
const CutOff = "the process ended before the answer came: it is not known whether it arrived"

// Unclaim lets others make deliveries of which a worker does not know what became.
func Unclaim(ctx context.Context, from *db.Database, worker string, ids ...string) error {
	_, err := db.Exec(ctx, from.Quickly(), `UPDATE deliveries SET claimed_by = NULL
		WHERE id = ANY ($1::text[]::uuid[]) AND claimed_by = $2`, ids, worker)
	return db.Known(err, "giving deliveries back")
}

// HeldDelivery is one that waits without having failed.
type HeldDelivery struct {
	ID    string
	For   string // the operation that rests, if that is what it waits for
	Why   string
	Until time.Time
}

// HoldUntil notes until when, and for what, deliveries wait without having failed, if nobody is
// at them.
func HoldUntil(ctx context.Context, from *db.Database, held ...HeldDelivery) error {
	ids, reasons, operations, until := make([]string, len(held)), make([]string, len(held)), make([]string,
		len(held)), make([]time.Time, len(held))
	for i, h := range held {
		ids[i], reasons[i], operations[i], until[i] = h.ID, h.Why, h.For, h.Until
	}
	_, err := db.Exec(ctx, from.Quickly(), `UPDATE deliveries d SET held = w.why, held_for = w.operation,
		next_at = w.until
		FROM unnest($1::text[]::uuid[], $2::text[], $3::text[], $4::timestamptz[]) AS w (id, why, operation, until)
		WHERE d.id = w.id AND d.state IN ('queued', 'retrying') AND (d.claimed_by IS NULL OR NOT `+leases.Alive("d.claimed_by")+`)`, ids, reasons, operations, until)
	return db.Known(err, "holding deliveries")
}

// BeginAttempts claims deliveries for a worker and puts attempts at them on record, before
// their calls are made; it gives the attempts' numbers by delivery. What is not due any
// more by a time, is over, or is somebody else's, is not among them and must not be begun.
// Nobody else makes a claimed delivery until its attempt is ended or the worker's lease is
// over. Attempts that a worker left behind when it died get their end: nobody knows what
// became of them.
func BeginAttempts(ctx context.Context, from *db.Database, worker string, due, started time.Time,
	ids ...string,
) (map[string]int, error) {
	// The second condition holds when nobody has changed the row since it was picked; it is
	// written so that it cannot be looked up in the index of what is ready.
	return db.Map[string, int](ctx, from.Quickly(), "beginning attempts", `WITH picked AS (SELECT p.*
		FROM unnest($4::text[]::uuid[]) AS w (id) CROSS JOIN LATERAL (SELECT d.id, d.attempts, d.begun_at,
		d.claimed_by, d.state, d.next_at FROM deliveries d WHERE d.id = w.id AND `+isReady+` OFFSET 0) p),
		begun AS (UPDATE deliveries d SET attempts = d.attempts + 1, claimed_by = $2, begun_at = $3 FROM picked p
			WHERE d.id = p.id
			AND (d.attempts, d.state) = (p.attempts, p.state) AND (d.begun_at, d.claimed_by,
				d.next_at) IS NOT DISTINCT FROM (p.begun_at, p.claimed_by, p.next_at)
			RETURNING d.id, d.attempts, p.begun_at AS left_behind),
		ended AS (INSERT INTO attempts (delivery_id, number, started_at, error) SELECT id, attempts - 1, left_behind,
			'`+CutOff+`' FROM begun WHERE left_behind IS NOT NULL ON CONFLICT DO NOTHING)
		SELECT id::text AS key, attempts AS value FROM begun`, due, worker, started, ids)
}

// EventsOf gives the events that deliveries are for, by id.
func EventsOf(ctx context.Context, from *db.Database, deliveries []Delivery) (map[string]eventstore.Event, error) {
	ids := make([]string, len(deliveries))
	for i, d := range deliveries {
		ids[i] = d.EventID
	}
	list, err := db.Rows[eventstore.Event](ctx, from.Quickly(), "finding events",
		`SELECT `+eventstore.EventColumns+` FROM events WHERE id = ANY ($1::text[]::uuid[])`, ids)
	events := make(map[string]eventstore.Event, len(list))
	for _, e := range list {
		events[e.ID] = e
	}
	return events, err
}

// EndAttempts writes what became of attempts that a worker has begun, and what they mean
// for their deliveries, which nobody holds any more then. It gives those that were stopped
// while the attempt was under way. What somebody else has taken over is theirs. What is
// repeatable does not wait for the disk: should the database's machine fail in that
// moment, the attempts are made once more, under the same ids.
func EndAttempts(ctx context.Context, tx *db.Tx, worker string, deliveries []*Delivery, attempts []Attempt,
	repeatable bool,
) (stopped map[string]bool, err error) {
	if len(deliveries) == 0 {
		return nil, nil
	}
	var batch pgx.Batch
	if repeatable {
		batch.Queue(`SET LOCAL synchronous_commit = off`)
	}
	if err := endAttempts(&batch, worker, deliveries, attempts, false, &stopped); err != nil {
		return nil, err
	}
	if err := tx.PGX.SendBatch(ctx, &batch).Close(); err != nil {
		return nil, db.Known(err, "writing attempts")
	}
	return stopped, tx.Announce(ctx, "delivery", "")
}

// EndPlain does the same, with less ado, for attempts from which nothing else follows and
// that are repeatable. It gives the deliveries that it has written; the others were stopped
// while their attempt was under way, or are somebody else's.
func EndPlain(ctx context.Context, from *db.Database, worker string, deliveries []*Delivery,
	attempts []Attempt,
) (written map[string]bool, err error) {
	var batch pgx.Batch
	if err := endAttempts(&batch, worker, deliveries, attempts, true, &written); err != nil {
		return nil, err
	}
	if err := db.Again(func() error { return from.Quick.SendBatch(ctx, &batch).Close() }); err != nil {
		return nil, db.Known(err, "writing attempts")
	}
	for id := range written {
		written[id] = true
	}
	from.AnnounceSoon(map[string]bool{"delivery": true})
	return written, nil
}

// endAttempts adds to a batch what EndAttempts writes; ended gets whether each delivery was
// stopped. When plain, deliveries that were stopped are left out, and rows are not locked
// beforehand, which costs as much as writing them.
func endAttempts(batch *pgx.Batch, worker string, deliveries []*Delivery, attempts []Attempt, plain bool,
	ended *map[string]bool,
) error {
	if n := len(attempts); n > 0 {
		of, number, started, millis, status := make([]string, n), make([]int32, n), make([]time.Time,
			n), make([]int32, n), make([]int32, n)
		requests, answers, failures := make([]string, n), make([]string, n), make([]string, n)
		for i, a := range attempts {
			of[i], number[i], started[i], millis[i], status[i] = a.DeliveryID, int32(a.Number), a.StartedAt,
				int32(a.Millis), int32(a.Status)
			requests[i], answers[i], failures[i] = storable(a.Request), storable(a.Answer), storable(a.Error)
		}
		batch.Queue(`INSERT INTO attempts (delivery_id, number, started_at, millis, status, request, answer, error)
			SELECT * FROM unnest($1::text[]::uuid[], $2::int[], $3::timestamptz[], $4::int[], $5::int[], $6::text[],
				$7::text[], $8::text[]) ON CONFLICT (delivery_id, number) DO UPDATE
			SET millis = excluded.millis, status = excluded.status, request = excluded.request,
				answer = excluded.answer, error = excluded.error`,
			of, number, started, millis, status, requests, answers, failures)
	}
	n := len(deliveries)
	ids, states, codes, errs, helds := make([]string, n), make([]string, n), make([]string, n), make([]string,
		n), make([]string, n)
	next, finished, results := make([]*time.Time, n), make([]*time.Time, n), make([]string, n)
	for i, d := range deliveries {
		ids[i], states[i], codes[i], errs[i], helds[i] = d.ID, d.State, d.Code, storable(d.LastError), d.Held
		next[i], finished[i] = d.NextAt, d.FinishedAt
		result, err := json.Marshal(d.Result)
		if err != nil {
			return fmt.Errorf("writing deliveries: %w", err)
		}
		if results[i] = string(result); d.Result == nil {
			results[i] = "{}"
		}
	}
	was, from, before, which := `was AS (SELECT id, state FROM deliveries
		WHERE id = ANY ($1::text[]::uuid[]) AND (claimed_by IS NULL OR claimed_by = $9) ORDER BY id FOR UPDATE),`, ` JOIN was ON was.id = w.id`, `was.state`, ``
	if plain {
		was, from, before, which = ``, ``, `'queued'`,
			` AND d.state NOT IN ('stopped', 'delivered') AND (d.claimed_by IS NULL OR d.claimed_by = $9)`
	}
	batch.Queue(`WITH `+was+`
		ended AS (UPDATE deliveries d SET state = CASE WHEN `+before+` = 'stopped' AND w.state <> 'delivered' THEN d.state ELSE w.state END, next_at = w.next_at,
			held = w.held, held_for = '', code = w.code, last_error = w.error, result = w.result::jsonb, finished_at = w.finished_at, claimed_by = NULL, begun_at = NULL
		FROM unnest($1::text[]::uuid[], $2::text[], $3::timestamptz[], $4::text[], $5::text[], $6::text[], $7::text[], $8::timestamptz[])
			AS w (id, state, next_at, held, code, error, result, finished_at)`+from+`
		WHERE d.id = w.id AND d.id = ANY ($1::text[]::uuid[])`+which+` RETURNING d.id, d.rule_id, d.person_id, d.state, `+before+` AS was),
		counted AS (INSERT INTO rule_counts (rule_id, fired, delivered) SELECT rule_id, 0, count(*) FROM ended
			WHERE rule_id IS NOT NULL AND state = 'delivered' AND was <> 'delivered' AND `+db.NoTest("person_id")+` GROUP BY rule_id)
		SELECT id::text, was FROM ended`, ids, states, next, helds, codes, errs, results, finished, worker).Query(func(rows pgx.Rows) error {
		out := map[string]bool{}
		*ended = out
		var id, was string
		_, err := pgx.ForEachRow(rows, []any{&id, &was},
			func() error { out[id] = was == DeliveryStopped; return nil })
		return err
	})
	return nil
}

// storable takes out of a text what the database cannot hold.
func storable(text string) string {
	return strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", ""), "�")
}
