// Package config is the whole set-up of an installation as files: readable YAML, in which everything
// is named and nothing has an id, so that it can be reviewed, versioned and moved.
//
//	items, faults := config.Read(map[string][]byte{"rules.yaml": text})
//	files, err := config.Files(setup)
//
// A file may hold any of the lists of Setup. Files writes each kind into one of its own.
package config

import (
	"kanban/internal/core/badge"
	"kanban/internal/core/grade"
	"kanban/internal/core/learning"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/core/schedule"
	"kanban/internal/core/stage"
	"kanban/internal/core/visibility"
)

// Setup is everything that can be set up. A list that is nil is not there.
type Setup struct {
	Connections    []Connection             `json:"connections,omitzero" doc:"Outside systems with their interfaces, without secrets"`
	Matching       []Matching               `json:"matching,omitzero" doc:"How people are recognised at the interfaces that take people"`
	Mappings       []Mapping                `json:"mappings,omitzero" doc:"What reported events mean"`
	Templates      []Template               `json:"templates,omitzero" doc:"How pairings are made, the usual way first"`
	ScoreTemplates []ScoreTemplate          `json:"scoreTemplates,omitzero" doc:"What score links begin with, and what is expected of gradebooks"`
	HiddenSections []visibility.SectionRule `json:"hiddenSections,omitzero" doc:"Rules for sections that lists leave out; the first that fits counts"`
	Issuers        []Issuer                 `json:"issuers,omitzero" doc:"Who gives out badges"`
	Badges         []Badge                  `json:"badges,omitzero"`
	Outlines       []Outline                `json:"outlines,omitzero" doc:"What courses consist of"`
	Offers         []Offer                  `json:"offers,omitzero" doc:"What services sell, as sections to be in"`
	Rules          []Rule                   `json:"rules,omitzero" doc:"When this happens, if, then"`
	StagePlans     []StagePlan              `json:"stagePlans,omitzero"`
	Settings       *Settings                `json:"settings,omitempty" doc:"What holds for the whole institution; what is absent stays as it is"`
}

// Connection is an outside system.
type Connection struct {
	Name       string      `json:"name" minLength:"1"`
	Owner      string      `json:"owner,omitempty" doc:"Who minds it"`
	Address    string      `json:"address,omitempty" doc:"Where people open the system"`
	Notes      string      `json:"notes,omitempty"`
	AtOnce     int         `json:"atOnce,omitempty" doc:"Calls at a time through all its interfaces; no limit of its own when absent"`
	PerMinute  int         `json:"perMinute,omitempty" doc:"The same in a minute"`
	RestAfter  int         `json:"restAfter,omitempty" doc:"Failures in a row until it rests; the usual number when absent"`
	Interfaces []Interface `json:"interfaces,omitempty"`
}

// Interface speaks one protocol with an outside system.
type Interface struct {
	Kind       string            `json:"kind" doc:"The protocol, such as scim; see which there are: kanban interfaces kinds"`
	Label      string            `json:"label,omitempty" doc:"What tells it from the others of its connection"`
	Values     map[string]string `json:"values,omitempty" doc:"By name, without secrets and without what Kanban makes; what is absent is as it is by default"`
	Operations []rule.Operation  `json:"operations,omitempty" doc:"Of an API of its own"`
}

// Matching is how people are recognised at an interface.
type Matching struct {
	Interface string              `json:"interface" doc:"Its name"`
	Keys      []roster.Key        `json:"keys" doc:"In the order in which they are tried"`
	Domains   []roster.DomainRule `json:"domains,omitempty" doc:"Domains that changed"`
	Exclude   []roster.Exclusion  `json:"exclude,omitempty" doc:"Who is left out on purpose"`
}

// Mapping is what the events mean that an interface reports. Each value is a CEL expression over event.
type Mapping struct {
	Interface string `json:"interface" doc:"Its name"`
	Person    string `json:"person,omitempty" doc:"Whom it is about: an address or the register's identifier"`
	Starts    string `json:"starts,omitempty" doc:"A condition: access begins"`
	Ends      string `json:"ends,omitempty" doc:"A condition: access ends"`
	Offer     string `json:"offer,omitempty" doc:"What was bought, as the service calls it"`
	Order     string `json:"order,omitempty" doc:"What tells one purchase from another"`
	BuyerName string `json:"buyerName,omitempty" doc:"For buyers who are not in the register yet"`
	Scores    string `json:"scores,omitempty" doc:"A condition: scores became final, so that the gradebooks of the connection are read"`
}

// Template is how pairings are made.
type Template struct {
	Name    string            `json:"name" minLength:"1"`
	Target  string            `json:"target" doc:"What the class is called, such as {course} · {teacher}"`
	Policy  roster.Policy     `json:"policy"`
	Details map[string]string `json:"details,omitempty" doc:"Templates for what services want to know of a class, by name: level, subject, starts, ends"`
}

// ScoreTemplate is what score links begin with, and what is expected of gradebooks.
type ScoreTemplate struct {
	Name            string               `json:"name" minLength:"1"`
	Organisation    string               `json:"organisation,omitempty" doc:"Name of the one whose score links begin with it, and those of all below; absent for one that is chosen by name"`
	Mode            string               `json:"mode,omitempty" enum:"fill-and-update,blanks-only,replace" doc:"What happens with values that differ; fill-and-update when absent"`
	Content         string               `json:"content,omitempty" enum:"scores,completions,nothing" doc:"What is carried; scores when absent"`
	Comments        bool                 `json:"comments,omitempty" doc:"Comments that learners see are carried too"`
	Flags           map[string]ScoreFlag `json:"flags,omitempty" doc:"By flag: exempt, missing, late, incomplete, not submitted; the usual ones when absent"`
	Category        string               `json:"category,omitempty" doc:"Title of the book's category for assignments that have none there"`
	Categories      map[string]string    `json:"categories,omitempty" doc:"Titles of the book's categories by those of the source's; matched by name when absent"`
	MakesCategories bool                 `json:"makesCategories,omitempty" doc:"Categories that the book lacks are made there, once"`
	PeriodKind      string               `json:"periodKind,omitempty" doc:"Which kind of session of the register counts; gradingPeriod when absent"`
	Basis           string               `json:"basis,omitempty" enum:"due,assigned" doc:"Which date says in which period an assignment is; due when absent"`
	WithoutPoints   bool                 `json:"withoutPoints,omitempty" doc:"Assignments that are worth no points are carried"`
	Schedule        schedule.Schedule    `json:"schedule,omitzero"`
	Expected        grade.Expectation    `json:"expected,omitzero" doc:"What is compared with both sides"`
}

// ScoreFlag says what becomes of a score with a flag.
type ScoreFlag struct {
	Value string `json:"value" enum:"keep,zero,blank"`
	Drop  bool   `json:"drop,omitempty" doc:"The flag itself stays behind"`
}

// Issuer gives out badges; its signing key is made where it comes in.
type Issuer struct {
	Name        string `json:"name" minLength:"1"`
	URL         string `json:"url,omitempty"`
	Email       string `json:"email,omitempty"`
	Description string `json:"description,omitempty"`
	Terms       string `json:"terms,omitempty" doc:"Of use, for whoever relies on its badges"`
}

// Badge is an achievement that can be awarded.
type Badge struct {
	Name        string `json:"name" minLength:"1"`
	Issuer      string `json:"issuer" doc:"Its name"`
	Description string `json:"description"`
	Criteria    string `json:"criteria"`

	// Asks is the same as programs read it.
	Asks       []Criterion      `json:"asks,omitempty" doc:"The same as programs read it: all of it; each criterion names its course"`
	Tags       []string         `json:"tags,omitempty"`
	Alignments []BadgeAlignment `json:"alignments,omitempty" doc:"Goals of frameworks to which it belongs"`
	ValidDays  int              `json:"validDays,omitempty" doc:"How many days an award holds; for good when absent"`
	LastDay    string           `json:"lastDay,omitempty" doc:"Such as 2027-07-31: every award ends then at the latest"`
	Renewable  bool             `json:"renewable,omitempty" doc:"Who holds it can be awarded it again from 60 days before its end"`
	Level      string           `json:"level,omitempty"`
	State      string           `json:"state,omitempty" enum:"draft,published,withdrawn" doc:"Only a published one is awarded; published when absent"`
	Design     *badge.Design    `json:"design,omitempty" doc:"How its picture is drawn, if it is drawn here"`
}

// BadgeAlignment says to which goal of a framework a badge belongs.
type BadgeAlignment struct {
	Name        string `json:"name"`
	Address     string `json:"address"`
	Description string `json:"description,omitempty"`
	Framework   string `json:"framework,omitempty"`
	Code        string `json:"code,omitempty"`
}

// Outline is what a course consists of.
type Outline struct {
	Course      string            `json:"course" doc:"Its code or title"`
	Percentages []int             `json:"percentages,omitempty" maxItems:"20" doc:"Of the course, 1 to 100, whose crossing is an event; 25, 50, 75 and 100 when absent"`
	Modules     []learning.Module `json:"modules"`
}

// Offer says to which sections something that is sold gives access.
type Offer struct {
	Name       string   `json:"name" minLength:"1"`
	Interface  string   `json:"interface" doc:"The interface through which purchases are reported"`
	Offer      string   `json:"offer" doc:"As the service calls it"`
	Sections   []string `json:"sections,omitempty" doc:"Their codes or titles"`
	Course     string   `json:"course,omitempty" doc:"Instead of sections: its code or title"`
	Term       string   `json:"term,omitempty" enum:"current,next" doc:"With a course: of which term the section is"`
	Platform   string   `json:"platform,omitempty" doc:"The interface at which people are enrolled; nobody is when absent"`
	GraceDays  int      `json:"graceDays,omitempty" doc:"How long access outlives its end"`
	AtEnd      string   `json:"atEnd" enum:"unenrol,mark" doc:"What happens when access ends"`
	OnlyBuyers bool     `json:"onlyBuyers,omitempty" doc:"Learners without access are shown as a disagreement"`
}

// Scope narrows a rule; what is absent means any.
type Scope struct {
	Course   string `json:"course,omitempty" doc:"Its code or title"`
	Section  string `json:"section,omitempty" doc:"Its code or title"`
	Module   string `json:"module,omitempty" doc:"Its id in the outline"`
	Activity string `json:"activity,omitempty" doc:"Its address in the outline"`
}

// Rule is a rule as it is written.
type Rule struct {
	Name          string          `json:"name" minLength:"1"`
	Trigger       string          `json:"trigger" doc:"What happens, such as module.completed"`
	Scope         Scope           `json:"scope,omitzero"`
	Condition     string          `json:"condition,omitempty" doc:"A CEL expression; always true when absent"`
	Stop          string          `json:"stop,omitempty" doc:"A CEL expression looked at before each action; true ends what is still to come"`
	Days          int             `json:"days,omitempty" doc:"For person.inactive and person.not-begun: after how many days without activity"`
	OncePerPerson *bool           `json:"oncePerPerson,omitempty" doc:"At most once per person and target; true when absent"`
	Counts        string          `json:"counts,omitempty" enum:"latest,best,first" doc:"Which result of an assessment counts"`
	UndoneBy      []string        `json:"undoneBy,omitempty" doc:"Triggers that revert what the rule did"`
	QuietHours    rule.QuietHours `json:"quietHours,omitzero" doc:"Hours in which the rule does nothing; what falls into them waits"`
	Limit         rule.Limit      `json:"limit,omitzero" doc:"How many calls the rule may make; what is above waits"`
	InOrder       bool            `json:"inOrder,omitempty" doc:"Deliveries to one person at one interface are made one after the other"`
	Actions       []Action        `json:"actions"`
}

// Action is one thing a rule does.
type Action struct {
	Kind       string            `json:"kind" enum:"send-event,mail,award,call-operation,enrol,unenrol,add-to-group,take-from-group,task,append-row"`
	After      string            `json:"after,omitempty" doc:"How long to wait beforehand: 90m, 2h or 3d"`
	If         string            `json:"if,omitempty" doc:"A condition in CEL, looked at when the action's time has come"`
	Interface  string            `json:"interface,omitempty" doc:"The name of the interface where it goes"`
	Operation  string            `json:"operation,omitempty" doc:"For call-operation: which one"`
	Section    string            `json:"section,omitempty" doc:"For enrol and unenrol: its code or title; the event's own when absent"`
	Group      string            `json:"group,omitempty" doc:"For group actions: the group's name at the service, a template"`
	Badge      string            `json:"badge,omitempty" doc:"For award: its name"`
	To         string            `json:"to,omitempty" doc:"For mail: a CEL expression that gives the address; person.email when absent"`
	Subject    string            `json:"subject,omitempty" doc:"For mail and task: a template"`
	Text       string            `json:"text,omitempty" doc:"For mail and task: a template"`
	Owner      string            `json:"owner,omitempty" doc:"For task: the address of whoever is to do it"`
	DueIn      string            `json:"dueIn,omitempty" doc:"For task: in how long it is due, such as 3d"`
	Sheet      string            `json:"sheet,omitempty" doc:"For append-row: the sheet's name"`
	Fields     map[string]string `json:"fields,omitempty" doc:"Values by name, each a CEL expression"`
	UndoFields map[string]string `json:"undoFields,omitempty" doc:"For send-event: what is sent to revert it"`
	Fallbacks  map[string]string `json:"fallbacks,omitempty" doc:"By name of a field: the text to use when its value is missing or empty"`
}

// StagePlan is a set of stages of a course, ordered unless it is in any order.
type StagePlan struct {
	Name     string  `json:"name" minLength:"1"`
	Course   string  `json:"course" doc:"Its code or title"`
	AnyOrder bool    `json:"anyOrder,omitempty" doc:"A stage is reached when its criteria are met, whatever stands before it"`
	Stages   []Stage `json:"stages" doc:"In their order"`
}

// Stage is a part of a plan.
type Stage struct {
	Title    string      `json:"title" doc:"Who reached it is kept by it: a stage that gets another title stays the same one only in the same place"`
	Optional bool        `json:"optional,omitempty" doc:"The stages after it can be reached without it"`
	Criteria []Criterion `json:"criteria"`
	Badge    string      `json:"badge,omitempty" doc:"The name of a badge that is awarded to whoever reaches the stage"`
}

// Criterion is one thing that a stage asks for.
type Criterion struct {
	Kind     stage.Kind  `json:"kind" enum:"module,course,badge,score,approval,all,any,some"`
	Course   string      `json:"course,omitempty" doc:"Its code or title; the plan's own when absent"`
	Module   string      `json:"module,omitempty" doc:"For module: its id in the outline"`
	Activity string      `json:"activity,omitempty" doc:"For score: its address in the outline"`
	AtLeast  float64     `json:"atLeast,omitempty" minimum:"-1" maximum:"1" doc:"For score: the least scaled score, so 80 % is 0.8"`
	Badge    string      `json:"badge,omitempty" doc:"For badge: its name"`
	What     string      `json:"what,omitempty" doc:"For approval: what somebody has to say; approvals are kept by it"`
	Of       []Criterion `json:"of,omitempty" doc:"For all, any and some: of what"`
	Need     int         `json:"need,omitempty" minimum:"0" doc:"For some: how many of them"`
}

// Settings hold for the whole institution.
type Settings struct {
	HistoryMonths  *int                `json:"historyMonths,omitempty" doc:"For how many months history is kept; 0 for ever"`
	FullComparison *schedule.Schedule  `json:"fullComparison,omitempty" doc:"When all pairings are compared, whatever reads found"`
	TestRecipient  *string             `json:"testRecipient,omitempty" doc:"The address that gets test sends"`
	ProgressAcross *bool               `json:"progressAcross,omitempty" doc:"Whether progress in a course counts across its sections"`
	Verbs          []learning.VerbRule `json:"verbs,omitzero" doc:"The institution's own meanings of platforms' verbs"`
}
