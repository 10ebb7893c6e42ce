// Package proofstore keeps the ways of test learners through sections.
package proofstore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// Where a proof stands.
const (
	Running   = "running" // the test learner is on the way
	Done      = "done"    // every step was tried
	Reverting = "reverting"
	Reverted  = "reverted"
)

// Proof is a test learner's way through a section.
type Proof struct {
	ID        string
	SectionID string
	PersonID  string
	Made      bool // Kanban made the test learner
	Name      string
	Address   string
	ModuleID  string
	State     string
	Seats     []Seat    `gorm:"serializer:json"`
	Accounts  []Account `gorm:"serializer:json"`
	Facts     []Fact    `gorm:"serializer:json"`
	Scores    []Score   `gorm:"serializer:json"`
	Steps     []Step    `gorm:"serializer:json"` // what there was to see before it was reverted
	Remains   []string  `gorm:"serializer:json"` // what could not be reverted
	StartedBy string
	StartedAt time.Time
	DoneAt    *time.Time
	EndedAt   *time.Time
}

// Seat is what became of a test learner in the class of a pairing.
type Seat struct {
	PairingID   string     `json:"pairingId"`
	Target      string     `json:"target"`
	Service     string     `json:"service"`
	InterfaceID string     `json:"interfaceId"`
	Tried       bool       `json:"tried,omitempty"` // putting them into it was begun: they were not in it
	State       string     `json:"state"`
	Detail      string     `json:"detail,omitempty"`
	At          *time.Time `json:"at,omitempty"`
}

// Account is whether a test learner of the register had an account at an interface beforehand.
type Account struct {
	InterfaceID string `json:"interfaceId"`
	Had         bool   `json:"had,omitempty"`
	Unknown     string `json:"unknown,omitempty"` // why it is not known
}

// Fact is something that was recorded of a test learner.
type Fact struct {
	Kind   string     `json:"kind"` // join or module
	Title  string     `json:"title"`
	State  string     `json:"state"`
	Detail string     `json:"detail,omitempty"`
	At     *time.Time `json:"at,omitempty"`
}

// Score is what became of a test learner's scores in a score link.
type Score struct {
	LinkID string     `json:"linkId"`
	Source string     `json:"source"`
	Book   string     `json:"book"`
	RunID  string     `json:"runId,omitempty"`
	State  string     `json:"state"`
	Detail string     `json:"detail,omitempty"`
	At     *time.Time `json:"at,omitempty"`
}

// Kinds and states of a step.
const (
	Join, Class, Module, Rule, Badge, Message, Scored = "join", "class", "module", "rule", "badge", "message", "score"

	Arrived  = "arrived"
	Waits    = "waits"
	NotSetUp = "not-set-up" // nothing of the kind is
	Skipped  = "skipped"    // a condition or a stop kept it from being done
	Failed   = "failed"
)

// Step is one thing that was to happen to a test learner.
type Step struct {
	Kind   string     `json:"kind"`
	Title  string     `json:"title"`
	Where  string     `json:"where,omitempty"`
	State  string     `json:"state"`
	Detail string     `json:"detail,omitempty"`
	Link   string     `json:"link,omitempty"`
	At     *time.Time `json:"at,omitempty"`
}

// Proofs lists them, those under way first, then the latest.
func Proofs(ctx context.Context, from db.From, limit int) (all []Proof, err error) {
	err = from.Records(ctx).Order("ended_at IS NOT NULL, started_at DESC, id").Limit(limit).Find(&all).Error
	return all, db.Known(err, "listing proofs")
}

// FindProof finds one.
func FindProof(ctx context.Context, from db.From, id string) (p Proof, err error) {
	err = from.Records(ctx).Where("id::text = ?", id).First(&p).Error
	return p, db.Known(err, "finding the proof")
}

// BeginProof keeps a new one, which begins now by the clock of the database: what follows from it is younger.
func BeginProof(ctx context.Context, tx *db.Tx, p *Proof) error {
	if err := db.Into(ctx, tx, &p.StartedAt, `SELECT now()`); err != nil {
		return db.Known(err, "starting the proof")
	}
	return db.Create(tx, p, "starting the proof")
}

// UnderWay finds the proof of a section that has not ended.
func UnderWay(ctx context.Context, from db.From, sectionID string) (p Proof, err error) {
	err = from.Records(ctx).Where("section_id::text = ? AND ended_at IS NULL", sectionID).First(&p).Error
	return p, db.Known(err, "finding the section's proof")
}

// KeepSteps keeps what there was to see of one before it is reverted.
func KeepSteps(ctx context.Context, tx *db.Tx, id string, steps []Step) error {
	done := tx.Records(ctx).Where("id = ?", id).Select("steps").Updates(&Proof{Steps: steps})
	return db.Known(done.Error, "keeping the proof's steps")
}

// KeepProof keeps what has become of one, but neither its steps nor where it stands: see KeepSteps and MoveProof.
func KeepProof(ctx context.Context, to db.From, p Proof) error {
	done := to.Records(ctx).Where("id = ?", p.ID).Select("seats", "accounts", "facts", "scores", "remains").
		Updates(&p)
	return db.Known(done.Error, "keeping the proof")
}

// MoveProof lets a proof stand elsewhere, at a time, if it stands where it is thought to; else it gives ErrStale.
func MoveProof(ctx context.Context, tx *db.Tx, id, from, to string, at time.Time) error {
	n, err := db.Exec(ctx, tx, `UPDATE proofs SET state = $3,
		done_at = CASE WHEN $3 = 'done' THEN $4 ELSE done_at END,
		ended_at = CASE WHEN $3 = 'reverted' THEN $4 ELSE ended_at END WHERE id = $1 AND state = $2`, id, from, to, at)
	if err == nil && n == 0 {
		err = db.ErrStale
	}
	return db.Known(err, "moving the proof")
}

// Candidate is a test learner of a section.
type Candidate struct {
	PersonID, Name, Email, Identifier string
}

// Candidates lists the test learners whom the register has in a section: it lists them as such, or somebody said so.
func Candidates(ctx context.Context, from db.From, sectionID string) ([]Candidate, error) {
	return db.Rows[Candidate](ctx, from, "looking for test learners", `SELECT DISTINCT p.id::text AS person_id,
		trim(p.given_name || ' ' || p.family_name) AS name, p.email, p.identifier
		FROM sections s JOIN enrolments e ON e.interface_id = s.interface_id AND e.section = s.sourced_id
			AND e.gone_at IS NULL AND NOT e.test
		JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person AND p.gone_at IS NULL
		LEFT JOIN person_marks k ON k.interface_id = p.interface_id AND k.sourced_id = p.sourced_id
		WHERE s.id::text = $1 AND (k.kind = 'test' OR k.kind IS NULL AND e.role = 'ext:preview') ORDER BY 2, 1`, sectionID)
}

// MakeLearner makes a test learner in a section and gives their id; no register lists them, and no read ends them.
func MakeLearner(ctx context.Context, tx *db.Tx, sectionID, sourcedID string, given, family, email, key string,
) (id string, err error) {
	err = db.Into(ctx, tx, &id, `WITH s AS (SELECT interface_id, sourced_id FROM sections WHERE id = $1),
		p AS (INSERT INTO people (interface_id, sourced_id, given_name, family_name, email, email_key, user_name,
			identifier, master, secondary, enabled, test)
			SELECT interface_id, $2, $3, $4, $5, $6, $2, $2, '', false, true, true FROM s RETURNING id, interface_id),
		e AS (INSERT INTO enrolments (interface_id, sourced_id, section, person, role, test)
			SELECT s.interface_id, $2, s.sourced_id, $2, 'ext:preview', true FROM s)
		SELECT id::text FROM p`, sectionID, sourcedID, given, family, email, key)
	return id, db.Known(err, "making the test learner")
}

// forgottenSince are what is dropped of a test learner, $1, since their proof began, $2.
var forgottenSince = []string{
	`DELETE FROM sheet_rows r USING deliveries d WHERE d.id = r.delivery_id AND d.person_id = $1 AND d.created_at >= $2`,
	`DELETE FROM tasks WHERE person_id = $1 AND created_at >= $2`,
	`DELETE FROM deliveries WHERE person_id = $1 AND created_at >= $2`,
	`DELETE FROM event_keys k USING events e WHERE e.person_id = $1 AND e.recorded_at >= $2
		AND k.key = key_of(e.natural_key)`,
	`DELETE FROM events WHERE person_id = $1 AND recorded_at >= $2`,
	`DELETE FROM holders WHERE person_id = $1 AND accepted_at >= $2`,
}

// forgottenIn are what is dropped of a test learner, $1, in the section of their proof, $2: there was nothing before.
var forgottenIn = []string{
	`DELETE FROM activity_progress WHERE person_id = $1 AND section_id = $2`,
	`DELETE FROM progress WHERE person_id = $1 AND section_id = $2`,
}

// forgottenMade are what is dropped besides of one whom Kanban made.
var forgottenMade = []string{
	`DELETE FROM statements WHERE person_id = $1`,
	`DELETE FROM stage_approvals WHERE person_id = $1`,
	`DELETE FROM stage_plan_people WHERE person_id = $1`,
	`DELETE FROM wallet_tokens WHERE person_id = $1`,
	`DELETE FROM wallet_grants WHERE person_id = $1`,
	`DELETE FROM brought_credentials WHERE person_id = $1`,
	`DELETE FROM placements WHERE person_id = $1`,
	`DELETE FROM accounts WHERE person_id = $1`,
	`DELETE FROM not_accounts WHERE person_id = $1`,
	`DELETE FROM enrolments e USING people p WHERE p.id = $1 AND e.interface_id = p.interface_id
		AND e.person = p.sourced_id AND e.test`,
	`DELETE FROM people WHERE id = $1 AND test`,
}

// ForgetLearner drops all that is kept of a test learner since their proof began; of one whom Kanban made the person
// too. Their awards stay, revoked, and count nowhere.
func ForgetLearner(ctx context.Context, tx *db.Tx, p Proof) error {
	for _, sql := range forgottenSince {
		if _, err := db.Exec(ctx, tx, sql, p.PersonID, p.StartedAt); err != nil {
			return db.Known(err, "forgetting the test learner")
		}
	}
	for _, sql := range forgottenIn {
		if _, err := db.Exec(ctx, tx, sql, p.PersonID, p.SectionID); err != nil {
			return db.Known(err, "forgetting the test learner")
		}
	}
	if !p.Made {
		return nil
	}
	for _, sql := range forgottenMade {
		if _, err := db.Exec(ctx, tx, sql, p.PersonID); err != nil {
			return db.Known(err, "forgetting the test learner")
		}
	}
	return nil
}

// RevokeAwards revokes the awards of a test learner that hold; nobody is told by an event.
func RevokeAwards(ctx context.Context, tx *db.Tx, personID, who, reason string) error {
	_, err := db.Exec(ctx, tx, `UPDATE awards SET revoked_at = now(), revoked_by = $2, reason = $3, shared_at = NULL
		WHERE person_id = $1 AND test AND revoked_at IS NULL`, personID, who, reason)
	return db.Known(err, "revoking a test learner's awards")
}

// ForgetRuns drops runs that carried a test learner's scores, those that reverted them, and their previews.
func ForgetRuns(ctx context.Context, tx *db.Tx, ids []string) error {
	_, err := db.Exec(ctx, tx, `WITH gone AS (DELETE FROM runs WHERE id = ANY ($1::text[]::uuid[])
		OR reverts = ANY ($1::text[]::uuid[]) RETURNING preview_id)
		DELETE FROM score_previews WHERE id IN (SELECT preview_id FROM gone)`, ids)
	return db.Known(err, "forgetting the test learner's runs")
}

// Progressed counts the activities that a person has done in a section.
func Progressed(ctx context.Context, from db.From, personID, sectionID string) (n int, err error) {
	err = db.Into(ctx, from, &n, `SELECT count(*)::int FROM activity_progress WHERE person_id = $1 AND section_id = $2`,
		personID, sectionID)
	return n, db.Known(err, "looking what the person has done")
}

// LearnerNow is the person of the proof under way to which some of these people belong, "" for none.
func LearnerNow(ctx context.Context, from db.From, people []string) (id string, err error) {
	err = db.Into(ctx, from, &id, `SELECT coalesce((SELECT person_id::text FROM proofs WHERE ended_at IS NULL
		AND person_id = ANY ($1::text[]::uuid[]) LIMIT 1), '')`, people)
	return id, db.Known(err, "looking for a test learner")
}
