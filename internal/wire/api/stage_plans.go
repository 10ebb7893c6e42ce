package api

import (
	"time"

	"kanban/internal/core/stage"
)

// NewStagePlan is an ordered set of stages of a course.
type NewStagePlan struct {
	Name     string        `json:"name"`
	CourseID string        `json:"courseId" doc:"The plan is for whoever learns in it; it cannot be changed later"`
	AnyOrder bool          `json:"anyOrder,omitempty" doc:"A stage is reached when its criteria are met, whatever stands before it"`
	Stages   []stage.Stage `json:"stages" doc:"In their order; a stage is reached when all its criteria are met and every required stage before it is reached"`
}

// StagePlan is a stage plan with how far its people have come.
type StagePlan struct {
	NewStagePlan
	ID       string     `json:"id"`
	Course   string     `json:"course"`
	OnSince  *time.Time `json:"onSince,omitempty" doc:"Nothing is worked out or awarded while it is absent"`
	People   int        `json:"people" doc:"Who learns in the course now"`
	Finished int        `json:"finished" doc:"Of them, who has reached every required stage"`
	Version  int        `json:"version"`
}

// StagePlanDraft is a stage plan to look at before it is saved.
type StagePlanDraft struct {
	NewStagePlan
	ID string `json:"id,omitempty" doc:"The stage plan that it is to replace, if any"`
}

// StagePreview is what would become of one stage.
type StagePreview struct {
	StageID  string `json:"stageId"`
	Title    string `json:"title"`
	Reached  int    `json:"reached" doc:"People who would have reached it"`
	Newly    int    `json:"newly" doc:"Of them, those who have not now"`
	Reopened int    `json:"reopened" doc:"People for whom it would be open again"`
	// The first 20 of both.
	NewlyPeople    []string `json:"newlyPeople,omitempty" doc:"Names of the first 20 who have not reached it now"`
	ReopenedPeople []string `json:"reopenedPeople,omitempty" doc:"Names of the first 20 for whom it would be open again"`
}

// StagePlanPreview is what a stage plan would find were it on.
type StagePlanPreview struct {
	People   int            `json:"people"`
	Finished int            `json:"finished"`
	Stages   []StagePreview `json:"stages"`
	Badges   int            `json:"badges" doc:"Badges that would be awarded at once"`
}

// StageCount is how many people stand where with one stage.
type StageCount struct {
	StageID  string   `json:"stageId"`
	Title    string   `json:"title"`
	Optional bool     `json:"optional"`
	Takes    []string `json:"takes" doc:"Its criteria in words"`
	Badge    string   `json:"badge,omitempty" doc:"The badge that it gives"`
	Reached  int      `json:"reached"`
	At       int      `json:"at" doc:"People for whom it is the required stage that comes next; in a plan in any order, those who have not reached it"`
	// How long it takes.
	Took        int      `json:"took" doc:"People who reached it and of whom it is known how long it took"`
	MedianDays  *float64 `json:"medianDays,omitempty" doc:"How long it took in the middle; absent while nobody is counted"`
	Stuck       int      `json:"stuck" doc:"People who are at it for stuckDays or longer"`
	LongestDays *float64 `json:"longestDays,omitempty" doc:"How long the longest of them is; absent when nobody is stuck"`
}

// StagePlanGroup counts the people of a stage plan.
type StagePlanGroup struct {
	People    int          `json:"people"`
	NotOpened int          `json:"notOpened" doc:"Did nothing in the course yet"`
	Finished  int          `json:"finished"`
	Stages    []StageCount `json:"stages"`
}

// StagePlanPerson is one person of a stage plan.
type StagePlanPerson struct {
	PersonID string     `json:"personId"`
	Person   string     `json:"person"`
	Sections string     `json:"sections"`
	Reached  []string   `json:"reached" doc:"Titles of the stages, in their order"`
	Next     string     `json:"next" doc:"Title of the required stage that comes next; empty when there is none"`
	Percent  int        `json:"percent" doc:"Of the required stages"`
	LastAt   *time.Time `json:"lastAt,omitempty" doc:"Latest activity in the course; absent when they never opened it"`
	Since    *time.Time `json:"since,omitempty" doc:"Since when they are at what comes next; absent before anything was worked out"`
}

// Approving is what somebody says of people.
type Approving struct {
	ApprovalID string   `json:"approvalId" doc:"Of a criterion of the stage plan"`
	People     []string `json:"people" minItems:"1" maxItems:"1000"`
	Note       string   `json:"note,omitempty" maxLength:"1000"`
	Withdraw   bool     `json:"withdraw,omitempty" doc:"Withdraw what was approved before"`
}

// ApprovalProgress is something that somebody has to approve, and whether they have.
type ApprovalProgress struct {
	ID    string `json:"id"`
	What  string `json:"what"`
	Given bool   `json:"given"`
	// Who approved it, why and when.
	By   string     `json:"by,omitempty"`
	Note string     `json:"note,omitempty"`
	At   *time.Time `json:"at,omitempty"`
}

// CriterionProgress is a criterion in words, and whether it is met.
type CriterionProgress struct {
	Text string `json:"text"`
	Met  bool   `json:"met"`
	// Approvals are what somebody has to approve in it.
	Approvals []ApprovalProgress `json:"approvals,omitempty"`
}

// StageProgress is where one person stands with one stage.
type StageProgress struct {
	StageID   string              `json:"stageId"`
	Title     string              `json:"title"`
	Optional  bool                `json:"optional"`
	Reached   bool                `json:"reached"`
	ReachedAt *time.Time          `json:"reachedAt,omitempty"`
	Open      bool                `json:"open" doc:"Not reached, and nothing before it is in the way"`
	Badge     string              `json:"badge,omitempty" doc:"The badge that it gives"`
	BadgeID   string              `json:"badgeId,omitempty"`
	Holds     bool                `json:"holds" doc:"They hold that badge"`
	Criteria  []CriterionProgress `json:"criteria"`
}

// PersonStagePlan is where one person stands in a stage plan, what lies ahead included.
type PersonStagePlan struct {
	ID       string          `json:"id"`
	Name     string          `json:"name"`
	Course   string          `json:"course"`
	Percent  int             `json:"percent"`
	Finished bool            `json:"finished"`
	Stages   []StageProgress `json:"stages"`
}
