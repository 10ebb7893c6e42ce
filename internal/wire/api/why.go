package api

import (
	"time"

	"kanban/internal/core/finding"
)

// Thing is something that can have happened to somebody.
type Thing struct {
	Kind  string `json:"kind" enum:"section,badge,stage,rule,score,event" doc:"They are in the section and its class; hold the badge; have reached the stage; the rule has done what it does; the score is in the book; it was recorded of them, such as that they finished a module"`
	ID    string `json:"id"`
	Title string `json:"title"`
	Apart string `json:"apart,omitempty" doc:"What tells it from others of its title"`
}

// Why says why a thing has happened to somebody, or has not.
type Why struct {
	Thing    Thing      `json:"thing"`
	Person   string     `json:"person"`
	Happened bool       `json:"happened"`
	At       *time.Time `json:"at,omitempty"`
	Steps    []WhyStep  `json:"steps" doc:"Those that lead to it, up to the first that is not met"`
	Again    string     `json:"again,omitempty" doc:"When it is looked at again; absent once it has happened"`
	AgainAt  *time.Time `json:"againAt,omitempty"`
}

// WhyStep is one step that leads to a thing.
type WhyStep struct {
	Needed string       `json:"needed"`
	Met    bool         `json:"met"`
	Found  string       `json:"found,omitempty" doc:"What is there"`
	At     *time.Time   `json:"at,omitempty"`
	Code   finding.Code `json:"code,omitempty" doc:"A kind of finding that explains more"`
	Remedy string       `json:"remedy,omitempty"`
	Owner  string       `json:"owner,omitempty" doc:"Who can do it"`
}
