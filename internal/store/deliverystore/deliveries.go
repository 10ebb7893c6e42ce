// Package deliverystore keeps deliveries with their attempts, what rests after failures, and what deliveries leave
// behind: sheets and pickups.
package deliverystore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm/clause"

	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
)

// States of a delivery.
const (
	DeliveryPlanned   = "planned" // to come, after the one before it or at DueAt
	DeliveryQueued    = "queued"
	DeliveryRetrying  = "retrying" // failed, will be tried again at NextAt
	DeliveryDelivered = "delivered"
	DeliveryWaiting   = "waiting" // failed for good, waits for a person
	DeliverySkipped   = "skipped" // its own condition did not hold when its time came
	DeliveryStopped   = "stopped" // the rule's stop condition held, or it was undone
)

// Delivery is one action for one event.
type Delivery struct {
	ID          string
	EventID     string
	RuleID      *string
	OfferID     *string // instead of a rule
	StagePlanID *string // instead of both
	RuleVersion int
	Position    int
	Action      rule.Action `gorm:"serializer:json"`
	InterfaceID *string
	PersonID    *string
	SectionID   *string
	OnceKey     *string
	Undoes      *string // the delivery that this one reverts
	State       string
	Attempts    int
	DueAt       *time.Time // not before then
	NextAt      *time.Time
	Held        string     // what it waits for, when it is no failure
	HeldFor     string     // the operation that rests, when it waits for that
	ClaimedBy   *string    // the worker that makes an attempt
	BegunAt     *time.Time // when that attempt began
	Code        string
	LastError   string
	Result      map[string]any `gorm:"serializer:json"`
	CreatedAt   time.Time
	FinishedAt  *time.Time
}

// Origin is the rule, the offer or the stage plan that made the delivery.
func (d Delivery) Origin() string {
	for _, id := range []*string{d.RuleID, d.OfferID, d.StagePlanID} {
		if id != nil {
			return *id
		}
	}
	return ""
}

// AddDeliveries writes deliveries except those that their event has had, or their
// person has had once already, and gives the ids of the new ones. Everybody writes them
// in one order, so that nobody waits for each other.
func AddDeliveries(ctx context.Context, tx *db.Tx, all []Delivery) (map[string]bool, error) {
	fresh := map[string]bool{}
	if len(all) == 0 {
		return fresh, nil
	}
	text, err := json.Marshal(all)
	if err != nil {
		return nil, err
	}
	ids, err := db.Values[string](ctx, tx, "making deliveries", `WITH fresh AS (INSERT INTO deliveries (id, event_id,
		rule_id, offer_id, stage_plan_id, rule_version, position, action, interface_id, person_id, section_id,
		once_key, undoes, state, due_at, code, last_error, finished_at)
		SELECT w."ID", w."EventID", w."RuleID", w."OfferID", w."StagePlanID", w."RuleVersion", w."Position",
			w."Action", w."InterfaceID", w."PersonID", w."SectionID", w."OnceKey", w."Undoes", w."State", w."DueAt",
			w."Code", w."LastError", w."FinishedAt"
		FROM jsonb_to_recordset($1::jsonb) AS w ("ID" uuid, "EventID" uuid, "RuleID" uuid, "OfferID" uuid,
			"StagePlanID" uuid, "RuleVersion" int, "Position" int, "Action" jsonb, "InterfaceID" uuid,
			"PersonID" uuid, "SectionID" uuid,
			"OnceKey" text, "Undoes" uuid, "State" text, "DueAt" timestamptz, "Code" text, "LastError" text,
				"FinishedAt" timestamptz)
		WHERE w."OnceKey" IS NULL OR NOT EXISTS (SELECT 1 FROM spent_keys k WHERE k.key = key_of(w."OnceKey"))
			AND NOT EXISTS (SELECT 1 FROM former_ids(w."PersonID") f JOIN spent_keys k
				ON k.key = key_of(replace(w."OnceKey", w."PersonID"::text, f::text)))
		ORDER BY w."OnceKey", w."EventID", w."RuleID", w."Position", w."ID" ON CONFLICT DO NOTHING
			RETURNING id, rule_id, position, undoes, state, person_id),
		counted AS (INSERT INTO rule_counts (rule_id, fired, delivered) SELECT rule_id, count(*), 0 FROM fresh
			WHERE rule_id IS NOT NULL AND position = 0 AND undoes IS NULL AND state <> 'skipped'
				AND `+db.NoTest("person_id")+` GROUP BY rule_id)
		SELECT id::text FROM fresh`, string(text))
	for _, id := range ids {
		fresh[id] = true
	}
	return fresh, err
}

// FindDelivery finds one by id.
func FindDelivery(ctx context.Context, from db.From, id string) (d Delivery, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&d).Error
	return d, db.Known(err, "finding the delivery")
}

// DeliveryFilter narrows a list of deliveries; empty fields do not.
type DeliveryFilter struct {
	ID, EventID, RuleID, OfferID, StagePlanID, PersonID, SectionID, InterfaceID, State, Before string
	// made at or after, made before
	Since, Until time.Time
	Limit        int
	Within       *permission.Reach // only those of these sections; all when nil
}

// where gives the conditions of the filter over deliveries d.
func (f DeliveryFilter) where() (conditions []string, args []any) {
	for _, c := range []struct{ condition, value string }{
		{"d.id = ?", f.ID},
		{"d.event_id = ?", f.EventID},
		{"d.rule_id = ?", f.RuleID},
		{"d.offer_id = ?", f.OfferID},
		{"d.stage_plan_id = ?", f.StagePlanID},
		{"d.person_id = ?", f.PersonID},
		{"d.section_id = ?", f.SectionID},
		{"d.interface_id = ?", f.InterfaceID},
		{"d.state = ?", f.State},
		{"d.id < ?", f.Before},
	} {
		if c.value != "" {
			conditions, args = append(conditions, c.condition), append(args, c.value)
		}
	}
	if !f.Since.IsZero() {
		conditions, args = append(conditions, "d.created_at >= ?"), append(args, f.Since)
	}
	if !f.Until.IsZero() {
		conditions, args = append(conditions, "d.created_at < ?"), append(args, f.Until)
	}
	if f.Within != nil {
		conditions = append(conditions, "d.section_id = ANY (?::uuid[])")
		args = append(args, db.TextArray(f.Within.IDs()))
	}
	return conditions, args
}

// ListedDelivery is a delivery with the names that a person reads.
type ListedDelivery struct {
	Delivery  `gorm:"embedded"`
	Rule      string // or offer
	Person    string
	Section   string
	Interface string
	EventType string
	HeldNow   string // for what it waits because of its interface
	Reverted  bool   // another delivery has undone it
}

// Deliveries lists the newest first.
func Deliveries(ctx context.Context, from db.From, f DeliveryFilter) (all []ListedDelivery, err error) {
	q := from.Records(ctx).Table("deliveries d").Select(`d.*,
		coalesce((SELECT r.name FROM rules r WHERE r.id = d.rule_id), (SELECT o.name FROM offers o
			WHERE o.id = d.offer_id), (SELECT g.name FROM stage_plans g WHERE g.id = d.stage_plan_id), '') AS rule,
		EXISTS (SELECT 1 FROM deliveries u WHERE u.undoes = d.id AND u.state = 'delivered') AS reverted,
		coalesce((SELECT e.type FROM events e WHERE e.id = d.event_id), '') AS event_type,
		coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p WHERE p.id = d.person_id AND p.leads), '') AS person,
		coalesce((SELECT x.title FROM sections x WHERE x.id = d.section_id), '') AS section,
		coalesce((SELECT c.name FROM interfaces c WHERE c.id = d.interface_id), '') AS interface,
		CASE WHEN d.state NOT IN ('queued', 'retrying') OR d.claimed_by IS NOT NULL THEN '' ELSE coalesce((SELECT CASE
			WHEN c.removed_at IS NOT NULL THEN 'the interface was removed' WHEN ` + connectionstore.Paused("c") + ` THEN '` + HeldPaused + `' END FROM interfaces c WHERE c.id = d.interface_id),
			(SELECT '` + HeldResting + `' FROM rests r WHERE r.interface_id = d.interface_id AND r.operation = '' AND r.rests_until > now()), '') END AS held_now`).Order("d.id DESC").Limit(f.Limit)
	conditions, args := f.where()
	for i, c := range conditions {
		q = q.Where(c, args[i])
	}
	if f.PersonID == "" && f.EventID == "" && f.ID == "" {
		q = q.Where(db.NoTest("d.person_id"))
	}
	err = q.Scan(&all).Error
	return all, db.Known(err, "listing deliveries")
}

// queuedAnew is what a delivery becomes that is tried again.
const queuedAnew = `state = 'queued', next_at = NULL, finished_at = NULL, held = '', held_for = '' `

// requeue puts back into the queue what of the deliveries d that wait fits, and gives how many
// there were.
func requeue(ctx context.Context, tx *db.Tx, fits string, args ...any) (int, error) {
	changed, err := db.Exec(ctx, tx, `UPDATE deliveries d SET `+queuedAnew+`WHERE d.state = 'waiting' AND `+fits,
		args...)
	n := int(changed)
	return n, Requeued(ctx, tx, n, err)
}

// RequeueAnswered puts back into the queue what waits because a service refused the
// credential or the right, now that it works.
func RequeueAnswered(ctx context.Context, tx *db.Tx, interfaceID string) (int, error) {
	return requeue(ctx, tx, `d.interface_id = $1 AND d.code = ANY ($2)`, interfaceID,
		[]finding.Code{finding.WrongCredential, finding.NotAllowed})
}

// RequeueFound does the same with what waits because something that a rule needs was not
// there.
func RequeueFound(ctx context.Context, tx *db.Tx, ruleID string) (int, error) {
	return requeue(ctx, tx, `d.rule_id = $1 AND d.code = $2`, ruleID, finding.GroupMissing)
}

// RequeueMatched does the same with what waits because somebody had no account at a
// service, for whom one was chosen by hand.
func RequeueMatched(ctx context.Context, tx *db.Tx, interfaceID, personID string) (int, error) {
	return requeue(ctx, tx, `d.interface_id = $1 AND d.person_id = $2 AND d.code = ANY ($3)`, interfaceID, personID,
		[]finding.Code{finding.AccountMissing, finding.AddressMissing})
}

// RequeueMended does the same with what waited only because people of a register had no
// address or no account, and who have an address now.
func RequeueMended(ctx context.Context, tx *db.Tx, interfaceID string) (int, error) {
	return requeue(ctx, tx, `(d.action->>'kind' <> 'mail' OR coalesce(nullif(d.action->>'to', ''),
		'person.email') LIKE '%person.email%')
		AND EXISTS (SELECT 1 FROM people p WHERE p.id = d.person_id AND p.interface_id = $1 AND p.gone_at IS NULL
			AND p.email_key <> ''
			AND (d.code = $2 OR d.code = $3 AND d.finished_at < p.changed_at))`, interfaceID, finding.AddressMissing, finding.AccountMissing)
}

// WaitingGroup are the deliveries that wait for a person for one reason.
type WaitingGroup struct {
	Origin      string // the id of the rule, offer or stage plan
	RuleID      string // "" when it is no rule's
	InterfaceID string // "" when it goes to no service
	Rule        string // the name of what they come from
	Code        string
	LastError   string
	Count       int
	EventID     string // of one of them
	Person      string // of one of them, by name
	PersonID    string
	Own         bool // they are all about this person, with whom the reason lies
	Origins     int  // from how many rules, offers and stage plans they come
}

// WaitingGroups gathers all deliveries that wait for a person by what they come from, where
// they go and why they wait, the largest first. What lies with the person they are about is
// gathered by person.
func WaitingGroups(ctx context.Context, from db.From) ([]WaitingGroup, error) {
	return db.Rows[WaitingGroup](ctx, from, "grouping the deliveries that wait", `
		WITH groups AS (
			SELECT d.rule_id, d.offer_id, d.stage_plan_id, d.interface_id, d.code, d.last_error, count(*)::int AS n,
				max(d.id::text)::uuid AS one, false AS own, 1 AS origins
			FROM deliveries d WHERE d.state = 'waiting' AND `+db.NoTest("d.person_id")+` AND NOT (d.person_id IS NOT NULL AND d.code = ANY ($1))
				GROUP BY 1, 2, 3, 4, 5, 6
			UNION ALL
			SELECT (min(d.rule_id::text))::uuid, (min(d.offer_id::text))::uuid, (min(d.stage_plan_id::text))::uuid,
				NULL, d.code, min(d.last_error), count(*)::int, max(d.id::text)::uuid, true,
				count(DISTINCT coalesce(d.rule_id, d.offer_id, d.stage_plan_id))
			FROM deliveries d WHERE d.state = 'waiting' AND `+db.NoTest("d.person_id")+` AND d.person_id IS NOT NULL AND d.code = ANY ($1)
				GROUP BY d.person_id, d.code)
		SELECT coalesce(g.rule_id, g.offer_id, g.stage_plan_id)::text AS origin, coalesce(g.rule_id::text,
			'') AS rule_id, coalesce(g.interface_id::text, '') AS interface_id,
			coalesce((SELECT r.name FROM rules r WHERE r.id = g.rule_id), (SELECT o.name FROM offers o
				WHERE o.id = g.offer_id), (SELECT p.name FROM stage_plans p
				WHERE p.id = g.stage_plan_id), '') AS rule,
			g.code, g.last_error, g.n AS count, d.event_id::text, coalesce((SELECT p.given_name || ' ' ||
				p.family_name FROM people p WHERE p.id = d.person_id AND p.leads), '') AS person, coalesce(d.person_id::text,
				'') AS person_id, g.own, g.origins
		FROM groups g JOIN deliveries d ON d.id = g.one ORDER BY g.n DESC, 1, 5, 6`, []finding.Code{finding.AddressMissing, finding.AccountMissing})
}

// Following lists the deliveries of the same event and origin, by position.
func Following(ctx context.Context, from db.From, d Delivery) (all []Delivery, err error) {
	err = from.Records(ctx).Where("event_id = ? AND coalesce(rule_id, offer_id, stage_plan_id) = ? AND undoes IS NULL", d.EventID, d.Origin()).Order("position").Find(&all).Error
	return all, db.Known(err, "listing a rule's deliveries")
}

// QueuePlanned queues planned deliveries, to be made when they are due; nothing happens to
// those that are not planned any more.
func QueuePlanned(ctx context.Context, tx *db.Tx, due time.Time, ids ...string) error {
	if len(ids) == 0 {
		return nil
	}
	_, err := db.Exec(ctx, tx, `UPDATE deliveries SET state = 'queued', due_at = coalesce(due_at, $2)
		WHERE id = ANY ($1::text[]::uuid[]) AND state = 'planned'`, ids, due)
	tx.Due = true
	return db.Known(err, "queueing deliveries")
}

// Queued says that deliveries were written whose time has come.
func Queued(tx *db.Tx) { tx.Due = true }

// Requeue puts deliveries that wait, or would be tried later, back into the queue,
// and gives how many there were.
func Requeue(ctx context.Context, tx *db.Tx, f DeliveryFilter) (ids []string, err error) {
	conditions, args := f.where()
	sql := numbered(append(conditions, "(d.state IN ('waiting', 'retrying') OR d.state = 'queued' AND d.held <> '')"))
	ids, err = db.Values[string](ctx, tx, "retrying deliveries",
		`UPDATE deliveries d SET `+queuedAnew+`WHERE `+sql+` RETURNING d.id::text`, args...)
	return ids, Requeued(ctx, tx, len(ids), err)
}

// RequeueOne does the same with one; ErrStale means that it neither waits nor would
// be tried later.
func RequeueOne(ctx context.Context, tx *db.Tx, id string) error {
	changed, err := db.Exec(ctx, tx,
		`UPDATE deliveries SET `+queuedAnew+`WHERE id = $1 AND (state IN ('waiting', 'retrying') OR state = 'queued' AND held <> '')`, id)
	if err == nil && changed == 0 {
		return fmt.Errorf("retrying the delivery: %w", db.ErrStale)
	}
	return Requeued(ctx, tx, 1, err)
}

// Requeued says that n deliveries were put back into the queue, unless err says why not.
func Requeued(ctx context.Context, tx *db.Tx, n int, err error) error {
	if err != nil || n == 0 {
		return db.Known(err, "retrying deliveries")
	}
	tx.Due = true
	return tx.Announce(ctx, "delivery", "")
}

// StillToCome counts what is still to come of deliveries that fit the filter, by state.
func StillToCome(ctx context.Context, from db.From, f DeliveryFilter) (map[string]int, error) {
	conditions, args := f.where()
	sql := numbered(append(conditions, "d.state IN ('planned', 'queued', 'retrying', 'waiting')"))
	return db.Map[string, int](ctx, from, "counting what is still to come", `SELECT d.state AS key,
		count(*)::int AS value FROM deliveries d WHERE `+sql+` GROUP BY 1`, args...)
}

// GiveUp stops what is still to come of deliveries that fit the filter, with a reason, and what
// comes after each of them for the same event. Calls that are being made now end by
// themselves; underWay counts them.
func GiveUp(ctx context.Context, tx *db.Tx, f DeliveryFilter, why string) (stopped, underWay int, err error) {
	conditions, args := f.where()
	sql := numbered(append(conditions, "d.undoes IS NULL"))
	type counts struct{ Stopped, UnderWay int }
	n, err := db.Row[counts](ctx, tx, "giving deliveries up", fmt.Sprintf(`
		WITH asked AS MATERIALIZED (SELECT d.event_id, coalesce(d.rule_id, d.offer_id, d.stage_plan_id) AS origin,
			min(d.position) AS first FROM deliveries d
			WHERE %s AND d.state IN ('planned', 'queued', 'retrying', 'waiting') GROUP BY 1, 2),
		every AS MATERIALIZED (SELECT d.id, d.claimed_by IS NOT NULL AS under_way FROM deliveries d
			JOIN asked a ON a.event_id = d.event_id AND a.origin = coalesce(d.rule_id, d.offer_id, d.stage_plan_id)
			WHERE d.position >= a.first AND d.undoes IS NULL AND d.state IN ('planned', 'queued', 'retrying',
				'waiting')),
		done AS (UPDATE deliveries d SET state = 'stopped', held = $%d, next_at = NULL, finished_at = now()
			FROM every e WHERE e.id = d.id AND NOT e.under_way AND d.claimed_by IS NULL RETURNING d.id)
		SELECT (SELECT count(*)::int FROM done) AS stopped, (SELECT count(*)::int FROM every
			WHERE under_way) AS under_way`, sql, len(args)+1), append(args, why)...)
	if err != nil || n.Stopped == 0 {
		return n.Stopped, n.UnderWay, err
	}
	return n.Stopped, n.UnderWay, tx.Announce(ctx, "delivery", "")
}

// numbered joins conditions whose parameters are written ?, and numbers these.
func numbered(conditions []string) string {
	sql := strings.Join(conditions, " AND ")
	for n := 1; strings.Contains(sql, "?"); n++ {
		sql = strings.Replace(sql, "?", fmt.Sprintf("$%d", n), 1)
	}
	return sql
}

// StopFollowing ends what is still to come of one event and origin, from a position on.
func StopFollowing(ctx context.Context, tx *db.Tx, d Delivery, why string) error {
	_, err := db.Exec(ctx, tx, `UPDATE deliveries SET state = 'stopped', held = $4, next_at = NULL,
		finished_at = now()
		WHERE event_id = $1 AND coalesce(rule_id, offer_id, stage_plan_id) = $2 AND position >= $3 AND undoes IS NULL
			AND state IN ('planned', 'queued', 'retrying')`, d.EventID, d.Origin(), d.Position, why)
	return db.Known(err, "stopping deliveries")
}

// FindUndoable lists what a rule did, or is about to do, for a person in a place, and
// that has not been reverted, and locks it: the place is a section, and a module or activity
// where the event that reverts it names one.
func FindUndoable(ctx context.Context, tx *db.Tx, ruleID string, e eventstore.Event) (all []Delivery, err error) {
	q := tx.DB.Table("deliveries d").Select("d.*").Joins("JOIN events x ON x.id = d.event_id").
		Where("d.rule_id = ? AND d.person_id = ? AND d.undoes IS NULL AND d.event_id <> ?", ruleID, e.PersonID, e.ID).
		Where("NOT EXISTS (SELECT 1 FROM deliveries u WHERE u.undoes = d.id)").Where("d.state NOT IN ('stopped', 'skipped')")
	if e.SectionID != nil {
		q = q.Where("x.section_id = ?", *e.SectionID)
	}
	if e.ModuleID != "" {
		q = q.Where("x.module_id IN ('', ?)", e.ModuleID)
	}
	if e.ActivityID != "" {
		q = q.Where("x.activity_id IN ('', ?)", e.ActivityID)
	}
	if field, id := e.Thing(); id != "" {
		q = q.Where("coalesce(x.data->>?, ?) = ?", field, id, id)
	}
	// One that is being made may end at this moment: what is found stays so until the end of
	// the transaction.
	err = q.Order("d.id").Clauses(clause.Locking{Strength: "UPDATE", Table: clause.Table{Name: "d"}}).Find(&all).Error
	return all, db.Known(err, "finding what to revert")
}

// UndoableOf lists what came to be for a person since a time, was done or is about to be, and was not reverted, the
// last first, and locks it.
func UndoableOf(ctx context.Context, tx *db.Tx, personID string, since time.Time) (all []Delivery, err error) {
	err = tx.DB.Table("deliveries d").Select("d.*").Where("d.person_id = ? AND d.undoes IS NULL AND d.created_at >= ?", personID, since).
		Where("NOT EXISTS (SELECT 1 FROM deliveries u WHERE u.undoes = d.id)").
		Where("d.state NOT IN ('stopped', 'skipped')").Order("d.id DESC").
		Clauses(clause.Locking{Strength: "UPDATE", Table: clause.Table{Name: "d"}}).Find(&all).Error
	return all, db.Known(err, "finding what to revert")
}

// AllowAgain lets a rule fire again for the person of a delivery that was reverted.
func AllowAgain(ctx context.Context, tx *db.Tx, id, state string) error {
	_, err := db.Exec(ctx, tx, `UPDATE deliveries SET once_key = NULL, state = CASE WHEN $2 = '' THEN state ELSE $2
		END,
		held = CASE WHEN $2 = '' THEN held ELSE 'undone' END, finished_at = coalesce(finished_at, now()) WHERE id = $1`, id, state)
	return db.Known(err, "taking a delivery back")
}

// HasEarlier reports whether an earlier delivery to the same person and interface is
// still to be made.
func HasEarlier(ctx context.Context, from db.From, d Delivery) (yes bool, err error) {
	err = db.Into(ctx, from, &yes, `SELECT EXISTS (SELECT 1 FROM deliveries o
		WHERE o.interface_id = $1 AND o.person_id = $2 AND o.id < $3
		AND o.state IN ('queued', 'retrying', 'waiting') AND (o.due_at IS NULL OR o.due_at <= now()))`, d.InterfaceID, d.PersonID, d.ID)
	return yes, db.Known(err, "looking for earlier deliveries")
}

// ClaimCall takes one of the calls that a rule may make within a window. It gives nil,
// or until when the rule has to wait because it has made them all.
func ClaimCall(ctx context.Context, from *db.Database, ruleID string, now time.Time, window time.Duration,
	most int,
) (until *time.Time, err error) {
	err = from.InTx(ctx, func(tx *db.Tx) error {
		if _, err := db.Exec(ctx, tx, `SELECT pg_advisory_xact_lock(hashtextextended('calls/' || $1, 0))`,
			ruleID); err != nil {
			return err
		}
		if _, err := db.Exec(ctx, tx, `DELETE FROM rule_calls WHERE rule_id = $1 AND at <= $2`, ruleID,
			now.Add(-window)); err != nil {
			return err
		}
		var first time.Time // of as many of the latest as may be made
		err := db.Into(ctx, tx, &first, `SELECT at FROM rule_calls WHERE rule_id = $1 ORDER BY at DESC OFFSET $2
			LIMIT 1`, ruleID, most-1)
		if err == nil {
			next := first.Add(window)
			until = &next
			return nil
		}
		if errors.Is(err, db.ErrNotFound) {
			_, err = db.Exec(ctx, tx, `INSERT INTO rule_calls (rule_id, at) VALUES ($1, $2)`, ruleID, now)
		}
		return err
	})
	return until, db.Known(err, "counting calls")
}
