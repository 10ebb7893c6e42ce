package api

import (
	"time"

	"kanban/internal/core/stage"
)

// NewProgression is an ordered set of stages of a course.
type NewProgression struct {
	Name     string        `json:"name"`
	CourseID string        `json:"courseId" doc:"Who learns in it is subscribed; it cannot be changed later"`
	Stages   []stage.Stage `json:"stages" doc:"In their order; a stage is reached when all its criteria are met and every required stage before it is reached"`
}

// Progression is a progression with how far its people have come.
type Progression struct {
	NewProgression
	ID       string     `json:"id"`
	Course   string     `json:"course"`
	OnSince  *time.Time `json:"onSince,omitempty" doc:"Nothing is worked out or awarded while it is absent"`
	People   int        `json:"people" doc:"Who learns in the course now"`
	Finished int        `json:"finished" doc:"Of them, who has reached every required stage"`
	Version  int        `json:"version"`
}

// ProgressionDraft is a progression to look at before it is saved.
type ProgressionDraft struct {
	NewProgression
	ID string `json:"id,omitempty" doc:"The progression that it is to replace, if any"`
}

// StagePreview is what would become of one stage.
type StagePreview struct {
	StageID  string `json:"stageId"`
	Title    string `json:"title"`
	Reached  int    `json:"reached" doc:"People who would have reached it"`
	Newly    int    `json:"newly" doc:"Of them, those who have not now"`
	Reopened int    `json:"reopened" doc:"People for whom it would be open again"`
}

// ProgressionPreview is what a progression would find were it on.
type ProgressionPreview struct {
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
	At       int      `json:"at" doc:"People for whom it is the required stage that comes next"`
}

// ProgressionGroup counts the people of a progression.
type ProgressionGroup struct {
	People    int          `json:"people"`
	NotOpened int          `json:"notOpened" doc:"Did nothing in the course yet"`
	Finished  int          `json:"finished"`
	Stages    []StageCount `json:"stages"`
}

// Climber is one person of a progression.
type Climber struct {
	PersonID string     `json:"personId"`
	Person   string     `json:"person"`
	Sections string     `json:"sections"`
	Reached  []string   `json:"reached" doc:"Titles of the stages, in their order"`
	Next     string     `json:"next" doc:"Title of the required stage that comes next; empty when there is none"`
	Percent  int        `json:"percent" doc:"Of the required stages"`
	LastAt   *time.Time `json:"lastAt,omitempty" doc:"Latest activity in the course; absent when they never opened it"`
}

// CriterionLook is a criterion in words, and whether it is met.
type CriterionLook struct {
	Text string `json:"text"`
	Met  bool   `json:"met"`
}

// StageLook is where one person stands with one stage.
type StageLook struct {
	StageID   string          `json:"stageId"`
	Title     string          `json:"title"`
	Optional  bool            `json:"optional"`
	Reached   bool            `json:"reached"`
	ReachedAt *time.Time      `json:"reachedAt,omitempty"`
	Open      bool            `json:"open" doc:"Not reached, and nothing before it is in the way"`
	Badge     string          `json:"badge,omitempty" doc:"The badge that it gives"`
	BadgeID   string          `json:"badgeId,omitempty"`
	Holds     bool            `json:"holds" doc:"They hold that badge"`
	Criteria  []CriterionLook `json:"criteria"`
}

// PersonProgression is where one person stands in a progression, what lies ahead included.
type PersonProgression struct {
	ID       string      `json:"id"`
	Name     string      `json:"name"`
	Course   string      `json:"course"`
	Percent  int         `json:"percent"`
	Finished bool        `json:"finished"`
	Stages   []StageLook `json:"stages"`
}
