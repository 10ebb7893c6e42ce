package api

import "time"

// OwnPage is what somebody sees of themselves.
type OwnPage struct {
	Name     string            `json:"name"`
	Sections []OwnSection      `json:"sections" doc:"Those that they are in now first; of those that they left, what was reached stays"`
	Awards   []Award           `json:"awards" doc:"The newest 200"`
	Plans    []PersonStagePlan `json:"plans" doc:"Stage plans that they are on"`
}

// OwnSection is a section that somebody is in, or was.
type OwnSection struct {
	ID       string     `json:"id"`
	Section  string     `json:"section"`
	Course   string     `json:"course"`
	Role     string     `json:"role"`
	JoinedAt time.Time  `json:"joinedAt"`
	LeftAt   *time.Time `json:"leftAt,omitempty"`
	BeginsOn *time.Time `json:"beginsOn,omitempty" doc:"The first day of an enrolment that has not begun"`
	Progress *Progress  `json:"progress,omitempty" doc:"Of a learner whose course has an outline"`
}
