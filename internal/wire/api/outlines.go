package api

import "kanban/internal/core/learning"

// OutlineSource is where an outline is read from.
type OutlineSource struct {
	Kind    string `json:"kind" enum:"manifest,address,table" doc:"A Common Cartridge manifest, its address, or a CSV table"`
	Text    string `json:"text,omitempty" doc:"The manifest or the table"`
	Address string `json:"address,omitempty"`
	Prefix  string `json:"prefix,omitempty" doc:"For manifests: with an item's identifier it gives the IRI under which the activity's statements come"`
}

// OutlinePreview says whom another outline would complete or reopen.
type OutlinePreview struct {
	People    int            `json:"people" doc:"With progress in the course"`
	Completes int            `json:"completes" doc:"For whom the course would become done"`
	Reopens   int            `json:"reopens" doc:"For whom it would be open again"`
	Touched   []OutlineTouch `json:"touched" doc:"At most 500 people for whom anything changes"`
	Misses    []string       `json:"misses" doc:"Stages and rules that are about something which would not be in the outline any more"`
}

// OutlineTouch is what would change for one person in one section.
type OutlineTouch struct {
	PersonID  string   `json:"personId"`
	Person    string   `json:"person"`
	Section   string   `json:"section"`
	Before    int      `json:"before" doc:"Per cent"`
	After     int      `json:"after" doc:"Per cent"`
	Completed []string `json:"completed"`
	Reopened  []string `json:"reopened"`
}

// Verbs are what platforms' verbs mean.
type Verbs struct {
	Own     []learning.VerbRule `json:"own" doc:"The institution's own, which win"`
	Default []learning.VerbRule `json:"default"`
}

// OwnVerbs are the institution's own.
type OwnVerbs struct {
	Own []learning.VerbRule `json:"own"`
}
