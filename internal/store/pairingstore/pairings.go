// Package pairingstore keeps pairings: their policy, their status, whom they have put where, previews, and the
// comparisons that were asked for.
package pairingstore

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/naming"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
)

// MaxTargetName is the longest name of a target, in characters.
const MaxTargetName = naming.Longest

// Pairing joins a section with a target at a service.
type Pairing struct {
	ID          string
	SectionID   string  // the lead section, when it is about a linked set
	SetID       *string // the linked set, if it is about one
	InterfaceID string
	TargetName  string
	TargetSeen  string            // the target's name at the service, by the latest comparison
	TargetLost  bool              // the target is no longer at the service
	TargetRef   string            // the service's id of the target, empty until it is made
	Details     map[string]string `gorm:"serializer:json"` // what a new class is made with, see workspaces.Details
	Policy      roster.Policy     `gorm:"serializer:json"`
	Counts      roster.Counts     `gorm:"serializer:json"` // of the latest comparison
	Mend        []Mend            `gorm:"serializer:json"` // who needs a person, by the latest comparison
	// who waits or is left out on purpose, by the latest comparison
	LeftAsIs      []Mend `gorm:"serializer:json"`
	LastRunID     *string
	LastFailed    bool
	RanAt         *time.Time
	ComparedAt    *time.Time
	GuardNotified int        // removals that were announced by mail
	GuardMailed   GuardMails `gorm:"serializer:json"` // who has had that mail while others have not
	Guarded       int        // removals that wait for approval, by the latest comparison
	TakeOver      string     // whether members whom somebody else put in are taken over, see Takes…
	Unminded      int        // how many of them the latest comparison found
	NextAt        *time.Time // when it runs next by itself
	OpensAt       *time.Time // when its class opens by itself
	PausedAt      *time.Time
	EndedAt       *time.Time
	AskedAt       *time.Time // a comparison that is still to come was asked for
	AskedBy       string
	AskedRun      bool // with a run of what it finds
	Version       int
	CreatedAt     time.Time
	UpdatedAt     time.Time

	// Sections are those of a linked set as it is to become; those that it has when nil.
	Sections []string `gorm:"-"`
}

// GuardMails are the administrators who have had a mail about so many removals.
type GuardMails struct {
	For int
	To  []string // ids
}

// KeepGuardMails keeps who has had a mail about removals above the guard.
func KeepGuardMails(ctx context.Context, tx *db.Tx, pairingID string, m GuardMails) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `UPDATE pairings SET guard_mailed = $2 WHERE id = $1`, pairingID, string(text))
	return db.Known(err, "keeping who was told")
}

// Whether a pairing minds the places of the section's people who were in its class already.
const (
	TakesOverNext    = "next"    // the next run takes them over
	TakesOverIfAsked = "offered" // somebody has to say so
)

// Mend is somebody who needs a person, or who waits or is left out, and why.
type Mend struct {
	PersonID string         `json:"personId,omitempty"`
	Name     string         `json:"name"`
	Role     string         `json:"role,omitempty"`
	Outcome  roster.Outcome `json:"outcome,omitempty"`
	Code     finding.Code   `json:"code"`
	Detail   string         `json:"detail"`
	Since    *time.Time     `json:"since,omitempty"` // when a comparison found it first; nil of what was kept before
}

// Aged gives people since when a comparison has found the same of them, by what it found the last time.
func Aged(list, had []Mend, now time.Time) []Mend {
	type same struct {
		who  string
		code finding.Code
	}
	since := make(map[same]*time.Time, len(had))
	for _, m := range had {
		since[same{m.PersonID + m.Name, m.Code}] = m.Since
	}
	for i := range list {
		m := &list[i]
		at, there := since[same{m.PersonID + m.Name, m.Code}]
		if m.Since = at; !there {
			m.Since = &now
		}
	}
	return list
}

// Status is what the state of a pairing's section is computed from; p is nil
// for a section that is not paired. paused tells whether the pairing's interface,
// or everything, is paused.
func (p *Pairing) Status(x rosterstore.Section, paused bool, at time.Time) roster.SectionStatus {
	s := roster.SectionStatus{Ended: x.Ended(at), Gone: x.Gone}
	if p != nil && p.EndedAt == nil {
		s.Paired, s.Paused, s.Ran, s.Failed = true, p.PausedAt != nil || paused, p.RanAt != nil, p.LastFailed
		s.Hold, s.Guarded, s.Latest = p.Policy.Hold, p.Guarded > 0, p.Counts
	}
	return s
}

// DuePairings lists pairings that are to run or to open by themselves by a time, except those that
// are paused, for which it happens once they go on; and keeps other processes from taking them
// until the transaction ends.
func DuePairings(ctx context.Context, tx *db.Tx, by time.Time, limit int) (all []Pairing, err error) {
	err = tx.DB.Raw(`SELECT * FROM pairings WHERE ended_at IS NULL AND paused_at IS NULL
		AND interface_id NOT IN (SELECT n.id FROM interfaces n WHERE `+connectionstore.Paused("n")+`) AND (next_at <= @by
		OR opens_at <= @by) AND id NOT IN (SELECT id FROM hidden_pairings)
		ORDER BY least(next_at, opens_at) LIMIT @limit FOR UPDATE SKIP LOCKED`, map[string]any{"by": by, "limit": limit}).Find(&all).Error
	return all, db.Known(err, "finding the pairings that are due")
}

// Reschedule keeps when pairings run and open next by themselves.
func Reschedule(ctx context.Context, tx *db.Tx, all []Pairing) error {
	var ids []string
	var next, opens []*time.Time
	for _, p := range all {
		ids, next, opens = append(ids, p.ID), append(next, p.NextAt), append(opens, p.OpensAt)
	}
	_, err := db.Exec(ctx, tx, `UPDATE pairings p SET next_at = w.next_at, opens_at = w.opens_at
		FROM unnest($1::text[]::uuid[], $2::timestamptz[], $3::timestamptz[]) AS w (id, next_at, opens_at)
			WHERE p.id = w.id`, ids, next, opens)
	return db.Known(err, "rescheduling pairings")
}

// KeepTargetLost notes that a pairing's target is no longer at the service.
func KeepTargetLost(ctx context.Context, tx *db.Tx, pairingID string) error {
	_, err := db.Exec(ctx, tx, `UPDATE pairings SET target_lost = true, last_failed = true, asked_at = NULL
		WHERE id = $1`, pairingID)
	if err == nil {
		err = tx.Announce(ctx, "pairing", pairingID)
	}
	return db.Known(err, "noting that the target is gone")
}

// PairingsIn lists the pairings that have run and fit: of a course, of a
// interface, or with one of the ids; empty values do not narrow.
func PairingsIn(ctx context.Context, from db.From, courseID, interfaceID string, ids []string) (all []Pairing,
	err error,
) {
	q := from.Records(ctx).Where("ended_at IS NULL AND ran_at IS NOT NULL")
	if courseID != "" {
		q = q.Where("section_id IN (SELECT section_id FROM section_facts WHERE course_id = ?)", courseID)
	}
	if interfaceID != "" {
		q = q.Where("interface_id = ?", interfaceID)
	}
	if len(ids) > 0 {
		q = q.Where("id = ANY (?::uuid[])", db.TextArray(ids))
	}
	err = q.Order("id").Find(&all).Error
	return all, db.Known(err, "listing pairings")
}

// CountPairings counts those with an interface that have not ended.
func CountPairings(ctx context.Context, from db.From, interfaceID string) (n int, err error) {
	err = db.Into(ctx, from, &n, `SELECT count(*) FROM pairings WHERE interface_id = $1 AND ended_at IS NULL`,
		interfaceID)
	return n, db.Known(err, "counting pairings")
}

// FindPairing finds one by id.
func FindPairing(ctx context.Context, from db.From, id string) (p Pairing, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&p).Error
	return p, db.Known(err, "finding the pairing")
}

// PairingsByID finds some.
func PairingsByID(ctx context.Context, from db.From, ids []string) (map[string]Pairing, error) {
	var all []Pairing
	err := from.Records(ctx).Omit("mend", "left_as_is").Where("id = ANY (?::uuid[])",
		db.TextArray(ids)).Find(&all).Error
	out := make(map[string]Pairing, len(all))
	for _, p := range all {
		out[p.ID] = p
	}
	return out, db.Known(err, "finding pairings")
}

// PairingsOf lists the pairings of sections of a register, and of its people lists, that have
// run at least once.
func PairingsOf(ctx context.Context, from db.From, interfaceID string, sectionIDs []string) (all []Pairing,
	err error,
) {
	err = from.Records(ctx).Where("ran_at IS NOT NULL AND ended_at IS NULL AND (id IN (SELECT pairing_id FROM paired_sections WHERE section_id = ANY (?::uuid[])) OR section_id IN (SELECT id FROM people_lists WHERE interface_id = ?))", db.TextArray(sectionIDs), interfaceID).Find(&all).Error
	return all, db.Known(err, "listing the sections' pairings")
}

// UpdatePairing writes an edited pairing whose version must still be the one read.
func UpdatePairing(tx *db.Tx, p *Pairing) error {
	read := p.Version
	p.Version++
	p.UpdatedAt = time.Now().UTC()
	done := tx.DB.Where("id = ? AND version = ?", p.ID, read).Select("section_id", "set_id", "target_name", "policy",
		"next_at", "opens_at", "paused_at", "ended_at", "version", "updated_at").Updates(p)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the pairing: %w", db.ErrStale)
	}
	return db.Known(done.Error, "changing the pairing")
}

// SetTarget keeps the service's id of a pairing's target.
func SetTarget(ctx context.Context, tx *db.Tx, pairingID, ref string) error {
	_, err := db.Exec(ctx, tx, `UPDATE pairings SET target_ref = $2, updated_at = now() WHERE id = $1`, pairingID,
		ref)
	return db.Known(err, "keeping the target")
}

// PausePairing keeps a pairing from running until somebody resumes it.
func PausePairing(ctx context.Context, tx *db.Tx, pairingID string) error {
	_, err := db.Exec(ctx, tx, `UPDATE pairings SET paused_at = coalesce(paused_at, now()), version = version + 1,
		updated_at = now() WHERE id = $1`, pairingID)
	return db.Known(err, "pausing the pairing")
}

// EndPairing ends a pairing.
func EndPairing(ctx context.Context, tx *db.Tx, pairingID string) error {
	_, err := db.Exec(ctx, tx, `UPDATE pairings SET ended_at = coalesce(ended_at, now()), version = version + 1,
		updated_at = now() WHERE id = $1`, pairingID)
	return db.Known(err, "ending the pairing")
}

// KeepStatus keeps what the latest comparison of a pairing gave.
func KeepStatus(ctx context.Context, tx *db.Tx, pairingID, seen string, counts roster.Counts, mend, quiet []Mend,
	guarded, unminded int,
) error {
	countsText, err := json.Marshal(counts)
	if err != nil {
		return err
	}
	mendText, err := json.Marshal(mend)
	if err != nil {
		return err
	}
	quietText, err := json.Marshal(quiet)
	if err != nil {
		return err
	}
	_, err = db.Exec(ctx, tx, `UPDATE pairings SET counts = $2, mend = $3, left_as_is = $4, guarded = $5,
		target_seen = $6, target_lost = false, compared_at = now(),
		guard_notified = CASE WHEN $5 = 0 THEN 0 ELSE guard_notified END,
			guard_mailed = CASE WHEN $5 = 0 THEN '{}' ELSE guard_mailed END, unminded = $7,
			take_over = CASE WHEN take_over = 'offered' AND $7 = 0 THEN '' ELSE take_over END
		WHERE id = $1`, pairingID, string(countsText), string(mendText), string(quietText), guarded, seen, unminded)
	return db.Known(err, "keeping the pairing's status")
}

// Preview is a plan shown to a person, kept so that a run can do exactly it.
type Preview struct {
	ID          string
	PairingID   string
	Plan        roster.Plan `gorm:"serializer:json"`
	Fingerprint string
	Reverts     *string // the run whose effect it undoes
	Ends        bool    // takes everybody out and ends the pairing
	CreatedAt   time.Time
}

// FindPreview finds one by id.
func FindPreview(ctx context.Context, from db.From, id string) (p Preview, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&p).Error
	return p, db.Known(err, "finding the preview")
}

// ForgetPreviews removes the previews made before a time by which no run goes. What
// they came to is in the runs.
func ForgetPreviews(ctx context.Context, from db.From, before time.Time) error {
	for {
		changed, err := db.Exec(ctx, from, `DELETE FROM previews WHERE id IN (SELECT p.id FROM previews p
			WHERE p.created_at < $1
			AND NOT EXISTS (SELECT 1 FROM runs r WHERE r.preview_id = p.id AND r.finished_at IS NULL) LIMIT $2)`, before, db.DeletedAtOnce)
		if err != nil || changed < db.DeletedAtOnce {
			return db.Known(err, "removing old previews")
		}
	}
}

// KeepPlacement notes that Kanban put a person into the pairing's target.
func KeepPlacement(ctx context.Context, tx *db.Tx, pairingID, remoteID, personID, name string) error {
	_, err := db.Exec(ctx, tx,
		`INSERT INTO placements (pairing_id, remote_id, person_id, name) VALUES ($1, $2, $3, $4)
		ON CONFLICT (pairing_id, remote_id) DO UPDATE SET person_id = excluded.person_id, name = excluded.name`, pairingID, remoteID, personID, name)
	return db.Known(err, "noting a placement")
}

// DropPlacement notes that Kanban took a person out again.
func DropPlacement(ctx context.Context, tx *db.Tx, pairingID, remoteID string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM placements WHERE pairing_id = $1 AND remote_id = $2`, pairingID, remoteID)
	return db.Known(err, "noting a removal")
}

// InheritPlacements gives a new pairing whom earlier pairings, ended now, have put into its class.
func InheritPlacements(ctx context.Context, tx *db.Tx, p Pairing) error {
	_, err := db.Exec(ctx, tx, `WITH earlier AS (DELETE FROM placements x USING pairings q
		WHERE q.id = x.pairing_id AND q.ended_at IS NOT NULL AND q.interface_id = $2 AND q.target_ref = $3
			RETURNING x.remote_id, x.person_id, x.name, x.placed_at)
		INSERT INTO placements (pairing_id, remote_id, person_id, name,
			placed_at) SELECT DISTINCT ON (remote_id) $1::text::uuid, remote_id, person_id, name, placed_at
			FROM earlier ORDER BY remote_id, placed_at DESC`,
		p.ID, p.InterfaceID, p.TargetRef)
	return db.Known(err, "remembering whom earlier pairings put in")
}

// TakeOver keeps that Kanban minds people's places from a run on, and that nobody has to
// decide about it any more.
func TakeOver(ctx context.Context, tx *db.Tx, pairingID, runID string, entries []roster.Entry) error {
	var accounts, people, names []string
	for _, e := range entries {
		accounts, people, names = append(accounts, e.AccountID), append(people, e.PersonID), append(names, e.Name)
	}
	_, err := db.Exec(ctx, tx, `WITH ours AS (INSERT INTO placements (pairing_id, remote_id, person_id, name,
		taken_over_by)
			SELECT $1::text::uuid, remote, person::uuid, name, $2::text::uuid
				FROM unnest($3::text[], $4::text[], $5::text[]) AS w (remote, person, name) ON CONFLICT DO NOTHING)
		UPDATE pairings SET take_over = '', unminded = 0, version = version + 1 WHERE id = $1::text::uuid`, pairingID, runID, accounts, people, names)
	return db.Known(err, "taking people over")
}

// GiveOver reverts what TakeOver did for a run.
func GiveOver(ctx context.Context, tx *db.Tx, pairingID, runID string) error {
	_, err := db.Exec(ctx, tx, `WITH back AS (DELETE FROM placements WHERE pairing_id = $1::text::uuid
		AND taken_over_by = $2::text::uuid RETURNING 1)
		UPDATE pairings SET take_over = 'next', version = version + 1 WHERE id = $1::text::uuid AND EXISTS (SELECT 1
			FROM back)`, pairingID, runID)
	return db.Known(err, "leaving people to whoever put them in")
}

// DecideTakeOver keeps what somebody has said about taking a class's people over.
func DecideTakeOver(ctx context.Context, tx *db.Tx, pairingID string, yes bool) error {
	decided := ""
	if yes {
		decided = TakesOverNext
	}
	_, err := db.Exec(ctx, tx, `UPDATE pairings SET take_over = $2, unminded = 0, version = version + 1,
		updated_at = now() WHERE id = $1`, pairingID, decided)
	return db.Known(err, "keeping who minds the places")
}

// Held is a target at a service with which something is paired.
type Held struct {
	Ref, Name, PairingID string
}

// TargetsAt lists the targets at a service that are paired now, and the groups
// inside them.
func TargetsAt(ctx context.Context, from db.From, interfaceID string) ([]Held, error) {
	return db.Rows[Held](ctx, from, "listing the service's classes", `
		SELECT target_ref AS ref, target_name AS name, id::text AS pairing_id FROM pairings
			WHERE interface_id = $1 AND ended_at IS NULL
		UNION ALL SELECT g.ref, p.target_name, p.id::text FROM pairing_groups g JOIN pairings p ON p.id = g.pairing_id
			WHERE p.interface_id = $1 AND p.ended_at IS NULL`, interfaceID)
}

// SectionsOfTarget lists the sections with which a target was paired before.
func SectionsOfTarget(ctx context.Context, from db.From, interfaceID, ref string) ([]string, error) {
	return db.Values[string](ctx, from, "finding what the class was paired with", `SELECT DISTINCT section_id::text
		FROM pairings WHERE interface_id = $1 AND target_ref = $2 AND ended_at IS NOT NULL`, interfaceID, ref)
}

// OnRemovedInterface reports whether a pairing hangs on an interface that was removed.
func OnRemovedInterface(ctx context.Context, from db.From, pairingID string) (yes bool, err error) {
	err = db.Into(ctx, from, &yes, `SELECT EXISTS (SELECT 1 FROM hidden_pairings WHERE id = $1)`, pairingID)
	return yes, db.Known(err, "looking whether a pairing is hidden")
}

// TargetRefs gives the services' ids of pairings' targets, by the pairing's id, "" for those that are
// not made yet.
func TargetRefs(ctx context.Context, from db.From, ids []string) (map[string]string, error) {
	if len(ids) == 0 {
		return map[string]string{}, nil
	}
	return db.Map[string, string](ctx, from, "finding classes", `SELECT id::text AS key, target_ref AS value
		FROM pairings WHERE id = ANY ($1::text[]::uuid[])`, ids)
}
