// Package rulestore keeps rules with their versions, how often they fired, and who is unsubscribed from them.
package rulestore

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kanban/internal/core/rule"
	"kanban/internal/store/db"
)

// Rule is a policy: when this happens, if, then.
type Rule struct {
	ID            string
	Name          string
	Trigger       string
	Scope         rule.Scope `gorm:"serializer:json"`
	Condition     string
	Stop          string
	Actions       []rule.Action `gorm:"serializer:json"`
	OncePerPerson bool          // at most once per person
	UndoneBy      []string      `gorm:"serializer:json"`
	Counts        rule.Counts
	Days          int
	QuietHours    rule.QuietHours `gorm:"serializer:json"`
	Most          rule.Limit      `gorm:"serializer:json"`
	InOrder       bool
	OnSince       *time.Time
	FirstOnAt     *time.Time // nil for a draft, which was never on
	TriedAt       *time.Time // when this version was tried out
	// TriedEvent is the event on which that was passed, nil for a made-up one.
	TriedEvent *string
	// Missing is what it needs at services and was not there when they were asked last, at
	// AskedAt; nil when they were not since it was written.
	Missing   []string `gorm:"serializer:json"`
	AskedAt   *time.Time
	Version   int
	CreatedAt time.Time
	UpdatedAt time.Time
}

// Draft is the rule as it was written.
func (r Rule) Draft() rule.Draft {
	return rule.Draft{
		Name: r.Name, Trigger: r.Trigger, Scope: r.Scope, Condition: r.Condition, Stop: r.Stop, Actions: r.Actions,
		OncePerPerson: r.OncePerPerson,
		UndoneBy:      r.UndoneBy, Counts: r.Counts, Days: r.Days, QuietHours: r.QuietHours, Limit: r.Most,
		InOrder: r.InOrder,
	}
}

// Write puts a draft into the rule, of which nothing is known yet.
func (r *Rule) Write(d rule.Draft) {
	r.TriedAt, r.TriedEvent, r.Missing, r.AskedAt = nil, nil, nil, nil
	r.Name, r.Trigger, r.Scope, r.Condition, r.Stop, r.Actions, r.OncePerPerson = d.Name, d.Trigger, d.Scope,
		d.Condition, d.Stop, d.Actions, d.OncePerPerson
	r.Counts = d.Counts
	r.UndoneBy, r.Days, r.QuietHours, r.Most, r.InOrder = d.UndoneBy, d.Days, d.QuietHours, d.Limit, d.InOrder
}

// Rules lists all, ordered by name.
func Rules(ctx context.Context, from db.From) (all []Rule, err error) {
	err = from.Records(ctx).Order("name").Find(&all).Error
	return all, db.Known(err, "listing rules")
}

// RulesOn lists those that are on.
func RulesOn(ctx context.Context, from db.From) (all []Rule, err error) {
	err = from.Records(ctx).Where("on_since IS NOT NULL").Find(&all).Error
	return all, db.Known(err, "listing rules")
}

// FindRule finds one by id.
func FindRule(ctx context.Context, from db.From, id string) (r Rule, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&r).Error
	return r, db.Known(err, "finding the rule")
}

// UpdateRule writes an edited rule whose version must still be the one read.
func UpdateRule(tx *db.Tx, r *Rule) error {
	read := r.Version
	r.Version++
	r.UpdatedAt = time.Now().UTC()
	done := tx.DB.Where("id = ? AND version = ?", r.ID, read).Select("name", "trigger", "scope", "condition", "stop",
		"actions", "once_per_person", "undone_by", "counts", "days", "quiet_hours", "most", "in_order", "on_since",
		"first_on_at", "tried_at", "tried_event", "missing", "asked_at", "version", "updated_at").Updates(r)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the rule: %w", db.ErrStale)
	}
	return db.Known(done.Error, "changing the rule")
}

// RemoveRule removes a rule with its versions.
func RemoveRule(ctx context.Context, tx *db.Tx, id string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM rules WHERE id = $1`, id)
	return db.Known(err, "removing the rule")
}

// KeepVersion keeps what a rule is like from now on.
func KeepVersion(ctx context.Context, tx *db.Tx, r Rule, who string) error {
	draft, err := json.Marshal(r.Draft())
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `INSERT INTO rule_versions (rule_id, version, draft, who) VALUES ($1, $2, $3, $4)
		ON CONFLICT DO NOTHING`, r.ID, r.Version, string(draft), who)
	return db.Known(err, "keeping the rule's version")
}

// RuleVersion is what a rule was like.
type RuleVersion struct {
	Version int
	Draft   rule.Draft
	Who     string
	At      time.Time
}

// RuleVersions lists the versions of a rule, the newest first.
func RuleVersions(ctx context.Context, from db.From, id string) ([]RuleVersion, error) {
	return db.Rows[RuleVersion](ctx, from, "listing the rule's versions", `SELECT version, draft, who, at
		FROM rule_versions WHERE rule_id = $1 ORDER BY version DESC`, id)
}

// KeepTrial notes that a rule was tried out as it is, on an event, or on a made-up one when
// that is empty.
func KeepTrial(ctx context.Context, from db.From, id string, version int, eventID string) error {
	_, err := db.Exec(ctx, from, `UPDATE rules SET tried_at = now(), tried_event = nullif($3, '')::uuid
		WHERE id = $1 AND version = $2`, id, version, eventID)
	return db.Known(err, "noting the trial")
}

// KeepMissing notes what a rule needs at services and is not there, nil when it needs nothing
// there, unless the rule was changed meanwhile.
func KeepMissing(ctx context.Context, tx *db.Tx, r Rule, missing []string) error {
	text, err := json.Marshal(missing)
	if err == nil {
		_, err = db.Exec(ctx, tx, `UPDATE rules SET missing = $2, asked_at = CASE WHEN $2::jsonb = 'null' THEN NULL
			ELSE now() END WHERE id = $1 AND version = $3`, r.ID, string(text), r.Version)
	}
	return db.Known(err, "noting what a rule needs")
}

// RulesLacking lists the rules that are on and need something that is not there.
func RulesLacking(ctx context.Context, from db.From) (all []Rule, err error) {
	err = from.Records(ctx).Where("on_since IS NOT NULL AND jsonb_typeof(missing) = 'array' AND missing <> '[]'").Order("name").Find(&all).Error
	return all, db.Known(err, "listing rules that need something")
}

// RulesMarkSQL asks for the mark that changes whenever any rule does.
const RulesMarkSQL = `SELECT n FROM rules_mark`

// RulesMark changes whenever any rule does.
func RulesMark(ctx context.Context, from db.From) (mark int64, err error) {
	err = db.Into(ctx, from, &mark, RulesMarkSQL)
	return mark, db.Known(err, "looking at the rules")
}

// RuleUsage is how often each rule fired, what became of it, and what it cost.
type RuleUsage struct {
	RuleID       string
	Fired        int
	Delivered    int
	Waiting      int
	Calls        int // attempts within the window of its limit
	Unsubscribed int // addresses that want no more mails of it
}

// UsageOfRules gives what each rule has done so far, and the calls that count against its
// limit.
func UsageOfRules(ctx context.Context, from db.From, now time.Time) ([]RuleUsage, error) {
	return db.Rows[RuleUsage](ctx, from, "counting deliveries", `
		SELECT r.id::text AS rule_id, coalesce(t.fired, 0)::int AS fired, coalesce(t.delivered, 0)::int AS delivered,
			coalesce(w.waiting, 0)::int AS waiting, CASE WHEN r.most->>'most' IS NULL THEN 0 ELSE
		       (SELECT count(*)::int FROM rule_calls c WHERE c.rule_id = r.id
			AND c.at > $1::timestamptz - CASE r.most->>'per' WHEN 'day' THEN interval '1 day' ELSE interval '1 hour'
			END) END AS calls, (SELECT count(*)::int FROM unsubscribes u WHERE u.rule_id = r.id) AS unsubscribed
		FROM rules r
		LEFT JOIN (SELECT rule_id, sum(fired) AS fired, sum(delivered) AS delivered FROM rule_counts
			GROUP BY rule_id) t ON t.rule_id = r.id
		LEFT JOIN (SELECT rule_id, count(*) AS waiting FROM deliveries WHERE state = 'waiting'
			AND `+db.NoTest("person_id")+` GROUP BY rule_id) w ON w.rule_id = r.id`, now)
}
