// Package stagestore keeps stage plans and everybody's progress in them.
package stagestore

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm/clause"

	"kanban/internal/core/learning"
	"kanban/internal/core/stage"
	"kanban/internal/store/db"
)

// StagePlan is a set of stages of a course, ordered unless it is in any order.
type StagePlan struct {
	ID        string
	Name      string
	CourseID  string
	AnyOrder  bool
	Stages    []stage.Stage `gorm:"serializer:json"`
	Version   int
	OnSince   *time.Time // nil while it is off
	RemovedAt *time.Time
	CreatedAt time.Time
	UpdatedAt time.Time
}

// Plan is what the core needs to know about it.
func (p StagePlan) Plan() stage.Plan {
	return stage.Plan{CourseID: p.CourseID, AnyOrder: p.AnyOrder, Stages: p.Stages}
}

// StagePlans lists all, ordered by name.
func StagePlans(ctx context.Context, from db.From) (all []StagePlan, err error) {
	err = from.Records(ctx).Where("removed_at IS NULL").Order("name").Find(&all).Error
	return all, db.Known(err, "listing stage plans")
}

// StagePlansOn lists those that are on.
func StagePlansOn(ctx context.Context, from db.From) (all []StagePlan, err error) {
	err = from.Records(ctx).Where("removed_at IS NULL AND on_since IS NOT NULL").Order("id").Find(&all).Error
	return all, db.Known(err, "listing stage plans")
}

// FindStagePlan finds one by id.
func FindStagePlan(ctx context.Context, from db.From, id string) (p StagePlan, err error) {
	err = from.Records(ctx).Where("id = ? AND removed_at IS NULL", id).First(&p).Error
	return p, db.Known(err, "finding the stage plan")
}

// HoldStagePlan reads a stage plan and keeps others from changing it until the
// transaction ends; ok is false when it is off, or not there any more.
func HoldStagePlan(ctx context.Context, tx *db.Tx, id string) (p StagePlan, ok bool, err error) {
	var all []StagePlan
	err = tx.DB.Raw(`SELECT * FROM stage_plans WHERE id = ? AND removed_at IS NULL AND on_since IS NOT NULL FOR SHARE`, id).Scan(&all).Error
	if err != nil || len(all) == 0 {
		return p, false, db.Known(err, "finding the stage plan")
	}
	return all[0], true, nil
}

// UpdateStagePlan writes an edited stage plan whose version must still be the one
// read.
func UpdateStagePlan(tx *db.Tx, p *StagePlan) error {
	read := p.Version
	p.Version++
	p.UpdatedAt = time.Now().UTC()
	done := tx.DB.Where("id = ? AND version = ?", p.ID, read).Select("name", "course_id", "any_order", "stages", "version",
		"on_since", "removed_at", "updated_at").Updates(p)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the stage plan: %w", db.ErrStale)
	}
	return db.Known(done.Error, "changing the stage plan")
}

// StageProgress is how far one person has come in a stage plan, as it was worked out last.
type StageProgress struct {
	PersonID string
	Reached  map[string]time.Time // by stage
	Next     string               // the first required stage that is not reached, empty when there is none
	Percent  int
	Round    int // counts the changes
	// CreatedAt is when they came into the plan, FoundAt when stages were found that they had reached before; nil for
	// never.
	CreatedAt time.Time
	FoundAt   *time.Time
}

// PeopleOfStagePlan lists in order, from an id on, the people whom a stage plan is about: who
// learns in its course now, and who has come somewhere in it before.
func PeopleOfStagePlan(ctx context.Context, from db.From, planID, courseID, after string, limit int) ([]string,
	error,
) {
	return db.Values[string](ctx, from, "listing a stage plan's people", `SELECT w.person_id::text FROM (
			SELECT person_id FROM course_learners WHERE course_id = $2 UNION SELECT person_id FROM stage_plan_people
				WHERE stage_plan_id = nullif($1, '')::uuid) w
		WHERE $3 = '' OR w.person_id > nullif($3, '')::uuid ORDER BY w.person_id LIMIT $4`, planID, courseID, after, limit)
}

// LockStageProgress reads and locks, in one order, how far people have come; rows are made for
// those who learn in the course now and have none. Others are left out.
func LockStageProgress(ctx context.Context, tx *db.Tx, p StagePlan, people []string) ([]StageProgress, error) {
	const lock = "FOR NO KEY UPDATE"
	list, err := progress(ctx, tx, p.ID, people, lock)
	if err != nil || len(list) == len(people) {
		return list, err
	}
	made, err := db.Exec(ctx, tx, learnersAmong+`INSERT INTO stage_plan_people (stage_plan_id, person_id)
		SELECT DISTINCT $3::uuid, person_id FROM learners ORDER BY person_id ON CONFLICT DO NOTHING`, people, []string{p.CourseID}, p.ID)
	if err != nil || made == 0 {
		return list, db.Known(err, "making a stage plan's people")
	}
	return progress(ctx, tx, p.ID, people, lock)
}

// learnersAmong finds where some people learn in some courses now, as course_learners
// does. They are looked up by the keys, one after the other: joined as a whole, everybody
// in the courses would be read.
const learnersAmong = `WITH learners AS (
	SELECT DISTINCT w.id AS person_id, x.id AS section_id, x.course_id
	FROM unnest($1::text[]::uuid[]) AS w (id)
	CROSS JOIN LATERAL (SELECT p.interface_id, p.sourced_id FROM people p WHERE p.id = w.id AND p.gone_at IS NULL
		OFFSET 0) p
	CROSS JOIN LATERAL (SELECT e.section FROM enrolments e WHERE e.interface_id = p.interface_id
		AND e.person = p.sourced_id AND e.gone_at IS NULL AND e.role = 'student' OFFSET 0) e
	CROSS JOIN LATERAL (SELECT s.id, md5(s.interface_id::text || '/course/' || s.course)::uuid AS course_id
		FROM sections s
		WHERE s.interface_id = p.interface_id AND s.sourced_id = e.section AND s.gone_at IS NULL OFFSET 0) x
	CROSS JOIN LATERAL (SELECT FROM section_facts f WHERE f.section_id = x.id AND (f.ends_on IS NULL
		OR f.ends_on >= current_date) OFFSET 0) f
	WHERE x.course_id = ANY ($2::text[]::uuid[])) `

// StageProgressOf reads how far people have come.
func StageProgressOf(ctx context.Context, from db.From, planID string, people []string) ([]StageProgress, error) {
	return progress(ctx, from, planID, people, "")
}

func progress(ctx context.Context, from db.From, planID string, people []string, lock string) ([]StageProgress,
	error,
) {
	return db.Rows[StageProgress](ctx, from, "reading a stage plan's people", `SELECT person_id::text, reached,
		next, percent, round, created_at, found_at FROM stage_plan_people
		WHERE stage_plan_id = $1 AND person_id = ANY ($2::text[]::uuid[]) ORDER BY person_id `+lock, planID, people)
}

// KeepStageProgress writes how far people have come.
func KeepStageProgress(ctx context.Context, tx *db.Tx, planID string, all []StageProgress) error {
	n := len(all)
	if n == 0 {
		return nil
	}
	people, reached, next, percent, round := make([]string, n), make([]string, n), make([]string, n), make([]int32,
		n), make([]int32, n)
	found := make([]*time.Time, n)
	for i, c := range all {
		text, err := json.Marshal(c.Reached)
		if err != nil {
			return err
		}
		people[i], reached[i], next[i], percent[i], round[i] = c.PersonID, string(text), c.Next, int32(c.Percent),
			int32(c.Round)
		found[i] = c.FoundAt
	}
	_, err := db.Exec(ctx, tx, `UPDATE stage_plan_people c SET reached = w.reached::jsonb, next = w.next,
		percent = w.percent, round = w.round, found_at = w.found, updated_at = now()
		FROM unnest($2::text[]::uuid[], $3::text[], $4::text[], $5::int[], $6::int[], $7::timestamptz[]) AS w (person,
			reached, next, percent, round, found)
		WHERE c.stage_plan_id = $1 AND c.person_id = w.person`, planID, people, reached, next, percent, round, found)
	return db.Known(err, "keeping a stage plan's people")
}

// Studied is a section of a course in which somebody has progress, or learns now.
type Studied struct {
	PersonID, SectionID, CourseID string
	Now                           bool              // they are in it now
	DoneBits                      learning.DoneBits // nil when there is none, or it has to be worked out
	Version                       int               // of the outline by which it was worked out
}

// FindStudied lists where people have progress in courses, or learn now: the present ones
// first, and the section of the latest activity.
func FindStudied(ctx context.Context, from db.From, people, courses []string) ([]Studied, error) {
	return db.Rows[Studied](ctx, from, "finding where people learn", learnersAmong+`, places AS (
			SELECT person_id, section_id, course_id, true AS now FROM learners
			UNION ALL
			SELECT w.id, x.id, x.course_id, false FROM unnest($1::text[]::uuid[]) AS w (id)
			CROSS JOIN LATERAL (SELECT section_id FROM progress WHERE person_id = w.id OFFSET 0) g
			CROSS JOIN LATERAL (SELECT s.id, md5(s.interface_id::text || '/course/' || s.course)::uuid AS course_id
				FROM sections s WHERE s.id = g.section_id OFFSET 0) x
			WHERE x.course_id = ANY ($2::text[]::uuid[])),
		once AS (SELECT person_id, section_id, course_id, bool_or(now) AS now FROM places GROUP BY 1, 2, 3)
		SELECT a.person_id::text, a.section_id::text, a.course_id::text, a.now, g.done_bits,
			coalesce(g.outline_version, 0) AS version
		FROM once a LEFT JOIN progress g ON g.person_id = a.person_id AND g.section_id = a.section_id
		ORDER BY a.person_id, a.now DESC, g.last_at DESC NULLS LAST, a.section_id`, people, courses)
}

// Best is the best score of a person in an activity.
type Best struct {
	PersonID, SectionID, ActivityID string
	Best                            float64 // scaled
}

// Bests gives the best scores of people in activities.
func Bests(ctx context.Context, from db.From, people, activities []string) ([]Best, error) {
	return db.Rows[Best](ctx, from, "finding scores", `SELECT a.person_id::text, a.section_id::text,
		a.activity_id, a.best
		FROM progress g JOIN activity_progress a ON a.person_id = g.person_id AND a.section_id = g.section_id
			AND a.activity_id = ANY ($2)
		WHERE g.person_id = ANY ($1::text[]::uuid[]) AND a.best IS NOT NULL`, people, activities)
}

// BadgesHeld gives the badges that people hold at a time, by person.
func BadgesHeld(ctx context.Context, from db.From, people []string, at time.Time) (map[string]map[string]bool, error) {
	type held struct{ PersonID, BadgeID string }
	out := map[string]map[string]bool{}
	err := db.Each(ctx, from, "finding badges", `SELECT person_id::text, badge_id::text FROM awards
		WHERE person_id = ANY ($1::text[]::uuid[]) AND revoked_at IS NULL
			AND (valid_until IS NULL OR valid_until > $2)`, []any{people, at}, func(h held) error {
		if out[h.PersonID] == nil {
			out[h.PersonID] = map[string]bool{}
		}
		out[h.PersonID][h.BadgeID] = true
		return nil
	})
	return out, err
}

// Group counts the people of a stage plan: those who learn in its course now.
type Group struct {
	People    int
	NotOpened int // did nothing in the course yet
	Finished  int
	Reached   map[string]int // by stage
	At        map[string]int // by the required stage that comes next, or in any order by each that is not reached
}

// group is who learns in a course, or in one of its sections, and how far each has come.
const group = `WITH members AS (
		SELECT w.person_id, string_agg(x.title, ', ' ORDER BY x.title) AS sections, max(g.last_at) AS last_at
		FROM course_learners w JOIN sections x ON x.id = w.section_id LEFT
			JOIN progress g ON g.person_id = w.person_id AND g.section_id = w.section_id
		WHERE w.course_id = $2 AND ($3 = '' OR w.section_id = nullif($3, '')::uuid) GROUP BY w.person_id),
	standing AS (
		SELECT m.*, coalesce(c.reached, '{}') AS reached, CASE WHEN c.person_id IS NULL THEN $4 ELSE c.next END AS
			next, coalesce(c.percent, 0) AS percent, c.created_at
		FROM members m LEFT JOIN stage_plan_people c ON c.stage_plan_id = $1 AND c.person_id = m.person_id) `

// steps are the stages that one after the other lead on; none in a plan in any order.
func (p StagePlan) steps() []string {
	all := []string{}
	for _, s := range p.Stages {
		if !s.Optional && !p.AnyOrder {
			all = append(all, s.ID)
		}
	}
	return all
}

// first is the stage at which everybody begins.
func (p StagePlan) first() string {
	next, _ := p.Plan().Next(p.Plan().ProgressOf(stage.Evidence{}))
	return next.ID
}

// GroupOf counts the people of a stage plan, in one section if given.
func GroupOf(ctx context.Context, from db.From, p StagePlan, sectionID string) (Group, error) {
	type count struct {
		What, Stage string
		N           int
	}
	out := Group{Reached: map[string]int{}, At: map[string]int{}}
	err := db.Each(ctx, from, "counting a stage plan's people", group+`SELECT '' AS what, '' AS stage,
		count(*)::int AS n FROM standing
		UNION ALL SELECT 'not opened', '', count(*) FROM standing WHERE last_at IS NULL AND reached = '{}'
		UNION ALL SELECT 'at', next, count(*) FROM standing GROUP BY next
		UNION ALL SELECT 'reached', k, count(*) FROM standing, jsonb_object_keys(reached) AS k GROUP BY k`, []any{p.ID, p.CourseID, sectionID, p.first()}, func(c count) error {
		switch {
		case c.What == "":
			out.People = c.N
		case c.What == "not opened":
			out.NotOpened = c.N
		case c.What == "reached":
			out.Reached[c.Stage] = c.N
		case c.Stage == "":
			out.Finished = c.N
		default:
			out.At[c.Stage] = c.N
		}
		return nil
	})
	if p.AnyOrder { // whoever has not reached a stage is at it
		for _, s := range p.Stages {
			out.At[s.ID] = out.People - out.Reached[s.ID]
		}
	}
	return out, err
}

// StagePlanPerson is one person of a stage plan.
type StagePlanPerson struct {
	PersonID, Person, Sections string
	Reached                    map[string]time.Time
	Next                       string
	Percent                    int
	LastAt                     *time.Time // the latest activity in the course, nil when they never opened it
	// since when they are at the stage that comes next; nil before anything was worked out
	Since *time.Time
}

// StagePlanFilter narrows a list; empty fields do not.
type StagePlanFilter struct {
	SectionID string
	Reached   string // a stage that they have reached
	Missing   string // a stage that they have not
	At        string // the required stage that comes next
	State     string // "not-opened", "finished" or "on-the-way"
	// Before narrows to those who have been at their stage since then or longer; zero for everybody.
	Before time.Time
	After  string // the last person of the page before
	Limit  int
}

// Reachings gives how those who learn in a plan's course now, or in one of its sections, have come along it.
func Reachings(ctx context.Context, from db.From, p StagePlan, sectionID string) ([]stage.Reaching, error) {
	return db.Rows[stage.Reaching](ctx, from, "reading when stages were reached", `SELECT c.created_at AS since,
		coalesce(c.found_at, '0001-01-01T00:00:00Z') AS found, c.reached FROM stage_plan_people c
		WHERE c.stage_plan_id = $1 AND c.person_id IN (SELECT person_id FROM course_learners w WHERE w.course_id = $2
			AND ($3 = '' OR w.section_id = nullif($3, '')::uuid))`, p.ID, p.CourseID, sectionID)
}

// Approval is what somebody has said of a person.
type Approval struct {
	ApprovalID string `gorm:"primaryKey"`
	PersonID   string `gorm:"primaryKey"`
	ByName     string
	Note       string
	GivenAt    time.Time
}

func (Approval) TableName() string { return "stage_approvals" }

// Approve keeps approvals; one that was given before stays as it was.
func Approve(ctx context.Context, tx *db.Tx, all []Approval) error {
	if len(all) == 0 {
		return nil
	}
	err := tx.DB.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&all).Error
	return db.Known(err, "keeping approvals")
}

// Unapprove withdraws approvals of people.
func Unapprove(ctx context.Context, tx *db.Tx, approvalID string, people []string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM stage_approvals WHERE approval_id = $1
		AND person_id = ANY ($2::text[]::uuid[])`, approvalID, people)
	return db.Known(err, "withdrawing approvals")
}

// ApprovalsOf gives what was approved for people, of what is asked for.
func ApprovalsOf(ctx context.Context, from db.From, people, approvalIDs []string) (all []Approval, err error) {
	err = from.Records(ctx).Where("person_id::text IN ? AND approval_id IN ?", people, approvalIDs).Find(&all).Error
	return all, db.Known(err, "reading approvals")
}

// StagePlanPeople lists the people of a stage plan by name.
func StagePlanPeople(ctx context.Context, from db.From, p StagePlan, f StagePlanFilter) ([]StagePlanPerson, error) {
	var before *time.Time
	if !f.Before.IsZero() {
		before = &f.Before
	}
	if p.AnyOrder && f.At != "" { // whoever has not reached it is at it
		f.Missing, f.At = f.At, ""
	}
	return db.Rows[StagePlanPerson](ctx, from, "listing a stage plan's people", group+`SELECT t.person_id::text,
		trim(h.given_name || ' ' || h.family_name) AS person, t.sections, t.reached, t.next, t.percent, t.last_at, a.since
		FROM standing t JOIN people h ON h.id = t.person_id AND h.leads
		CROSS JOIN LATERAL (SELECT coalesce((SELECT max(r.value::timestamptz) FROM jsonb_each_text(t.reached) r
			WHERE r.key = ANY ($5::text[])), t.created_at) AS since) a
		WHERE ($6 = '' OR t.reached ? $6) AND ($7 = '' OR NOT t.reached ? $7) AND ($8 = '' OR t.next = $8)
		AND ($12::timestamptz IS NULL OR t.next <> '' AND a.since <= $12::timestamptz) AND CASE $9 WHEN 'not-opened' THEN t.last_at IS NULL AND t.reached = '{}' WHEN 'finished' THEN t.next = ''
			WHEN 'on-the-way' THEN t.next <> '' AND NOT (t.last_at IS NULL AND t.reached = '{}') ELSE true END
		AND ($10 = '' OR (h.family_name, h.given_name, h.id) > (SELECT b.family_name, b.given_name, b.id FROM people b
			WHERE b.id = nullif($10, '')::uuid AND b.leads))
		ORDER BY h.family_name, h.given_name, h.id LIMIT $11`, p.ID, p.CourseID, f.SectionID, p.first(), p.steps(),
		f.Reached, f.Missing, f.At, f.State, f.After, f.Limit, before)
}
