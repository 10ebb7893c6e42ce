package api

import "time"

// Progress is where a person stands in a section's course.
type Progress struct {
	Percent   int              `json:"percent"`
	Done      bool             `json:"done"`
	FirstAt   *time.Time       `json:"firstAt,omitempty" doc:"The first activity; absent when nothing was done"`
	LastAt    *time.Time       `json:"lastAt,omitempty" doc:"The latest activity"`
	Modules   []ProgressModule `json:"modules"`
	Elsewhere int              `json:"elsewhere" doc:"Activities that were reported and stand in no module of the outline"`
}

// ProgressModule is where a person stands in a module.
type ProgressModule struct {
	ID         string             `json:"id"`
	Title      string             `json:"title"`
	Done       bool               `json:"done"`
	Optional   bool               `json:"optional" doc:"It does not count towards the course"`
	Activities []ProgressActivity `json:"activities" doc:"As they stand in the outline, what is nested after what holds it"`
}

// ProgressActivity is where a person stands with an activity.
type ProgressActivity struct {
	ID      string     `json:"id"`
	Title   string     `json:"title"`
	Kind    string     `json:"kind" enum:"lesson,assessment,assignment"`
	Depth   int        `json:"depth" doc:"How deep it is nested"`
	Counts  bool       `json:"counts" doc:"It is required, and so is all that holds it"`
	Done    bool       `json:"done" doc:"With what is required of what is nested in it"`
	Word    string     `json:"word" enum:"done,passed,failed,begun,not begun" doc:"Where the person stands, in a word"`
	Best    *float64   `json:"best,omitempty" doc:"Best scaled score, -1 to 1"`
	FirstAt *time.Time `json:"firstAt,omitempty"`
	LastAt  *time.Time `json:"lastAt,omitempty"`
}
