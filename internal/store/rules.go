package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kanban/internal/core/rule"
)

// Kinds of action.
const (
	ActionSend  = "send"  // a signed event to a connection
	ActionMail  = "mail"  // a mail through a connection
	ActionAward = "award" // a badge
)

// Action is one thing a rule does.
type Action struct {
	Kind string `json:"kind" enum:"send,mail,award"`
	// ConnectionID is where a send or mail goes.
	ConnectionID string `json:"connectionId,omitempty"`
	// Fields of a send: name → CEL expression.
	Fields map[string]string `json:"fields,omitempty" doc:"For send: the data of the event, each value a CEL expression over event, person, section, course, module and activity"`
	// To, Subject and Text of a mail. To is a CEL expression, person.email when empty.
	To      string `json:"to,omitempty" doc:"For mail: a CEL expression that gives the address; person.email when empty"`
	Subject string `json:"subject,omitempty" doc:"For mail: a template such as: Well done, {{.person.givenName}}"`
	Text    string `json:"text,omitempty" doc:"For mail: a template"`
	// BadgeID of an award.
	BadgeID string `json:"badgeId,omitempty"`
}

// Rule is a policy: when this happens, if, then.
type Rule struct {
	ID        string
	Name      string
	Trigger   string
	Scope     rule.Scope `gorm:"serializer:json"`
	Condition string
	Actions   []Action `gorm:"serializer:json"`
	Once      bool     // at most once per person
	OnSince   *time.Time
	Version   int
	CreatedAt time.Time
	UpdatedAt time.Time
}

// Rules lists all, ordered by name.
func (s *Store) Rules(ctx context.Context) (all []Rule, err error) {
	err = s.reader(ctx).Order("name").Find(&all).Error
	return all, known(err, "listing rules")
}

// RulesOn lists those that are on.
func (s *Store) RulesOn(ctx context.Context) (all []Rule, err error) {
	err = s.reader(ctx).Where("on_since IS NOT NULL").Find(&all).Error
	return all, known(err, "listing rules")
}

// Rule finds one by id.
func (s *Store) Rule(ctx context.Context, id string) (r Rule, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&r).Error
	return r, known(err, "finding the rule")
}

// UpdateRule writes an edited rule whose version must still be the one read.
func (tx *Tx) UpdateRule(r *Rule) error {
	read := r.Version
	r.Version++
	r.UpdatedAt = time.Now().UTC()
	done := tx.DB.Where("id = ? AND version = ?", r.ID, read).Select("name", "trigger", "scope", "condition", "actions", "once", "on_since", "version", "updated_at").Updates(r)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the rule: %w", ErrStale)
	}
	return known(done.Error, "changing the rule")
}

// RuleUsage is how often each rule fired and what became of it.
type RuleUsage struct {
	RuleID    string
	Fired     int
	Delivered int
	Waiting   int
}

// RuleUsage counts deliveries per rule.
func (s *Store) RuleUsage(ctx context.Context) ([]RuleUsage, error) {
	return many[RuleUsage](ctx, s, "counting deliveries", `
		SELECT rule_id::text, count(DISTINCT event_id)::int, count(*) FILTER (WHERE state = 'delivered')::int, count(*) FILTER (WHERE state = 'waiting')::int
		FROM deliveries GROUP BY rule_id`)
}

// States of a delivery.
const (
	DeliveryQueued    = "queued"
	DeliveryRetrying  = "retrying" // failed, will be tried again at NextAt
	DeliveryDelivered = "delivered"
	DeliveryWaiting   = "waiting" // failed for good, waits for a person
)

// Delivery is one action for one event.
type Delivery struct {
	ID           string
	EventID      string
	RuleID       string
	Position     int
	Action       Action `gorm:"serializer:json"`
	ConnectionID *string
	PersonID     *string
	OnceKey      *string
	State        string
	Attempts     int
	NextAt       *time.Time
	Code         string
	LastError    string
	Result       map[string]any `gorm:"serializer:json"`
	CreatedAt    time.Time
	FinishedAt   *time.Time
}

// AddDelivery writes a delivery unless the event has had it, or the person has
// had it once already; fresh is false then.
func (tx *Tx) AddDelivery(ctx context.Context, d Delivery) (fresh bool, err error) {
	action, err := json.Marshal(d.Action)
	if err != nil {
		return false, err
	}
	tag, err := tx.PGX.Exec(ctx, `INSERT INTO deliveries (id, event_id, rule_id, position, action, connection_id, person_id, once_key, state, code, last_error)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) ON CONFLICT DO NOTHING`,
		d.ID, d.EventID, d.RuleID, d.Position, string(action), d.ConnectionID, d.PersonID, d.OnceKey, d.State, d.Code, d.LastError)
	if err != nil {
		return false, known(err, "making a delivery")
	}
	return tag.RowsAffected() == 1, nil
}

// Delivery finds one by id.
func (s *Store) Delivery(ctx context.Context, id string) (d Delivery, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&d).Error
	return d, known(err, "finding the delivery")
}

// DeliveryFilter narrows a list of deliveries; empty fields do not.
type DeliveryFilter struct {
	EventID, RuleID, PersonID, State, Before string
	Limit                                    int
}

// ListedDelivery is a delivery with the names that a person reads.
type ListedDelivery struct {
	Delivery   `gorm:"embedded"`
	Rule       string
	Person     string
	Connection string
	EventType  string
}

// Deliveries lists the newest first.
func (s *Store) Deliveries(ctx context.Context, f DeliveryFilter) (all []ListedDelivery, err error) {
	q := s.reader(ctx).Table("deliveries d").Joins("JOIN rules r ON r.id = d.rule_id JOIN events e ON e.id = d.event_id").Select(`d.*, r.name AS rule, e.type AS event_type,
		coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p WHERE p.id = d.person_id), '') AS person,
		coalesce((SELECT c.name FROM connections c WHERE c.id = d.connection_id), '') AS connection`).Order("d.id DESC").Limit(f.Limit)
	for where, value := range map[string]string{"d.event_id = ?": f.EventID, "d.rule_id = ?": f.RuleID, "d.person_id = ?": f.PersonID, "d.state = ?": f.State, "d.id < ?": f.Before} {
		if value != "" {
			q = q.Where(where, value)
		}
	}
	err = q.Scan(&all).Error
	return all, known(err, "listing deliveries")
}

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
}

// Attempts lists the tries of a delivery, first to last.
func (s *Store) Attempts(ctx context.Context, deliveryID string) (all []Attempt, err error) {
	err = s.reader(ctx).Where("delivery_id = ?", deliveryID).Order("number").Find(&all).Error
	return all, known(err, "listing attempts")
}

// EndAttempt writes an attempt and what it means for its delivery.
func (tx *Tx) EndAttempt(ctx context.Context, d *Delivery, a Attempt) error {
	if err := tx.DB.Create(&a).Error; err != nil {
		return known(err, "writing an attempt")
	}
	if err := tx.DB.Where("id = ?", d.ID).Select("state", "attempts", "next_at", "code", "last_error", "result", "finished_at").Updates(d).Error; err != nil {
		return known(err, "writing a delivery")
	}
	return tx.Announce(ctx, "delivery", d.ID)
}

// Requeue puts a waiting or retrying delivery back into the queue.
func (tx *Tx) Requeue(ctx context.Context, id string) error {
	tag, err := tx.PGX.Exec(ctx, `UPDATE deliveries SET state = 'queued', next_at = NULL, finished_at = NULL WHERE id = $1 AND state IN ('waiting', 'retrying')`, id)
	if err == nil && tag.RowsAffected() == 0 {
		return fmt.Errorf("retrying the delivery: %w", ErrStale)
	}
	if err != nil {
		return known(err, "retrying the delivery")
	}
	if err := tx.Enqueue(ctx, Deliver{DeliveryID: id}); err != nil {
		return err
	}
	return tx.Announce(ctx, "delivery", id)
}
