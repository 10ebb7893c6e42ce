package api

import (
	"time"

	"kanban/internal/core/finding"
)

// Finding is one thing that was noticed.
type Finding struct {
	Key      string           `json:"key" doc:"Stands for exactly this finding; changes when the finding does"`
	Group    string           `json:"group" enum:"mend,waiting,left-out,remark" doc:"What attention it wants: somebody has to act, it passes by itself, it is on purpose, or it is a remark about the register"`
	Code     finding.Code     `json:"code"`
	Severity finding.Severity `json:"severity" enum:"note,warn,block"`
	Title    string           `json:"title"`
	Subject  string           `json:"subject" doc:"Who or what it is about"`
	Where    string           `json:"where" doc:"The section, interface or rule"`
	Detail   string           `json:"detail"`
	Remedy   string           `json:"remedy"`
	Owner    string           `json:"owner" doc:"Who can mend it"`
	Link     string           `json:"link" doc:"The console page on which to look at it"`
	PersonID string           `json:"personId,omitempty"`
	Count    int              `json:"count" doc:"How many things it stands for, such as deliveries that wait for the same reason"`
	Seen     *Seen            `json:"seen,omitempty" doc:"Who has acknowledged it"`
	People   []FindingAbout   `json:"people,omitempty" doc:"Whom it is about, where it stands for what has the same cause for many people"`
}

// FindingAbout is one of the people for whom one finding stands.
type FindingAbout struct {
	Key      string `json:"key"`
	PersonID string `json:"personId"`
	Person   string `json:"person"`
	Where    string `json:"where"`
	Detail   string `json:"detail,omitempty"`
	Link     string `json:"link"`
}

// Seen says that somebody has acknowledged a finding.
type Seen struct {
	Note string    `json:"note"`
	By   string    `json:"by"`
	At   time.Time `json:"at"`
}

// Acknowledgement keeps a finding quiet until it changes.
type Acknowledgement struct {
	Note string `json:"note" minLength:"1" doc:"Why it may stay as it is"`
}

// Step is one step of setting something up.
type Step struct {
	Title string `json:"title"`
	Done  bool   `json:"done"`
	Next  string `json:"next,omitempty" doc:"What to do, when it is not done"`
}

// Checklist says what of a set-up is done, and whether it is live.
type Checklist struct {
	Live  bool   `json:"live"`
	Steps []Step `json:"steps"`
}
