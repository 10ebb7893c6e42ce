package api

import (
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
)

// SectionPage is a list of sections, with what its rules left aside.
type SectionPage struct {
	Items   []Section   `json:"items"`
	Next    string      `json:"next,omitempty" doc:"Give it as cursor for the next page; absent at the end"`
	Total   int         `json:"total" doc:"How many fit, on all pages"`
	Aside   []LeftAside `json:"aside" doc:"What each rule left out of this list"`
	Choices Choices     `json:"choices" doc:"The values by which lists can be narrowed"`
}

// LeftAside counts what one rule left out of a list.
type LeftAside struct {
	Name  string `json:"name"`
	Count int    `json:"count"`
}

// Section is a section with its state.
type Section struct {
	ID           string       `json:"id"`
	Title        string       `json:"title"`
	Code         string       `json:"code"`
	Course       string       `json:"course"`
	CourseID     string       `json:"courseId"`
	Terms        []string     `json:"terms"`
	Teachers     []string     `json:"teachers"`
	Learners     int          `json:"learners"`
	State        roster.State `json:"state" enum:"not-paired,never-run,held,in-step,out-of-step,needs-person,paused,ended"`
	PairingID    string       `json:"pairingId,omitempty"`
	Target       string       `json:"target,omitempty"`
	Next         string       `json:"next,omitempty" doc:"What to do next, in words"`
	Organisation string       `json:"organisation,omitempty"`
	Roles        []string     `json:"roles" doc:"Of the people in it"`
	EndsOn       *time.Time   `json:"endsOn,omitempty" doc:"Last day of its terms"`
	Gone         bool         `json:"gone,omitempty" doc:"No longer in the register"`
	Set          *SetRef      `json:"set,omitempty" doc:"The linked set that this is about; the section is its lead"`
	NextRun      *time.Time   `json:"nextRun,omitempty" doc:"When it runs next by itself"`
	OpensAt      *time.Time   `json:"opensAt,omitempty" doc:"When its class opens by itself"`
	Connection   string       `json:"connection,omitempty" doc:"The service's name"`
	// Counts of the latest comparison, people per outcome.
	Counts map[roster.Outcome]int `json:"counts,omitempty"`
	RanAt  *time.Time             `json:"ranAt,omitempty"`
}

// Column is one state on the board.
type Column struct {
	State roster.State `json:"state"`
	Count int          `json:"count"`
	Cards []Section    `json:"cards" doc:"At most 60; the sections list has all"`
}

// Board is every section by state, the ones that need somebody first.
type Board struct {
	Columns []Column `json:"columns"`
}

// RosterLine is one person of a section's roster on a day.
type RosterLine struct {
	PersonID   string     `json:"personId"`
	Name       string     `json:"name"`
	Identifier string     `json:"identifier"`
	Role       string     `json:"role"`
	JoinedAt   time.Time  `json:"joinedAt"`
	LeftAt     *time.Time `json:"leftAt,omitempty"`
}

// Choices are the values by which a list of sections can be narrowed.
type Choices struct {
	Organisations []string `json:"organisations"`
	Courses       []string `json:"courses"`
	Terms         []string `json:"terms"`
	Teachers      []string `json:"teachers"`
	Roles         []string `json:"roles"`
	Services      []string `json:"services"`
}

// SetRef names a linked set and its sections.
type SetRef struct {
	ID       string       `json:"id"`
	Name     string       `json:"name"`
	Sections []SectionRef `json:"sections"`
}

// SectionRef names a section.
type SectionRef struct {
	ID       string   `json:"id"`
	Title    string   `json:"title"`
	Code     string   `json:"code"`
	Course   string   `json:"course"`
	Terms    []string `json:"terms"`
	Learners int      `json:"learners"`
	Gone     bool     `json:"gone,omitempty"`
}

// Obstacle is a reason why something cannot be done, or should be looked at first.
type Obstacle struct {
	Code     finding.Code `json:"code"`
	Title    string       `json:"title"`
	Detail   string       `json:"detail"`
	Remedy   string       `json:"remedy,omitempty"`
	Blocks   bool         `json:"blocks" doc:"It cannot be done while this is so"`
	Override bool         `json:"override,omitempty" doc:"For linking: a reason overrides it"`
}

// Linkable is a section that can be linked under a lead, or why it cannot.
type Linkable struct {
	SectionRef
	Obstacles []Obstacle `json:"obstacles"`
}

// SetProposal is sections that could be linked, the lead first.
type SetProposal struct {
	Name     string       `json:"name"`
	Sections []SectionRef `json:"sections"`
}

// NewSet links sections.
type NewSet struct {
	LeadID   string   `json:"leadId"`
	Sections []string `json:"sections" doc:"Ids of the others"`
	Name     string   `json:"name,omitempty" doc:"The course's title when absent"`
	Reason   string   `json:"reason,omitempty" doc:"Links them although the rule says otherwise; it is kept in the audit trail"`
}

// SetOutlook is what linking would mean.
type SetOutlook struct {
	Name     string       `json:"name"`
	Sections []SectionRef `json:"sections"`
	Refused  []Refused    `json:"refused" doc:"Nothing can be linked while there is any"`
	People   int          `json:"people" doc:"Who would be handled together, each counted once"`
	Several  int          `json:"several" doc:"Of them, who are in more than one of the sections"`
	Results  int          `json:"results" doc:"Results that the safety copy would hold"`
	Targets  []string     `json:"targets" doc:"The lead's classes, which would become the set's"`
}

// Refused is a section that cannot be linked.
type Refused struct {
	Section SectionRef `json:"section"`
	Obstacle
}

// LinkedMany says what became of each of several wishes to link.
type LinkedMany struct {
	Sets     []LinkedSet `json:"sets"`
	Problems []string    `json:"problems" doc:"Why the others could not be linked"`
}

// LinkedSet is several sections that are handled as one.
type LinkedSet struct {
	SetRef
	LeadID     string     `json:"leadId"`
	Reason     string     `json:"reason,omitempty"`
	MadeBy     string     `json:"madeBy"`
	CreatedAt  time.Time  `json:"createdAt"`
	UnlinkedAt *time.Time `json:"unlinkedAt,omitempty"`
	Copy       *CopyRef   `json:"copy,omitempty" doc:"The safety copy that was kept before linking"`
	Targets    []Apart    `json:"targets" doc:"Its classes, and what unlinking would mean for each"`
	Version    int        `json:"version"`
}

// CopyRef says what a safety copy holds.
type CopyRef struct {
	People    int       `json:"people"`
	Results   int       `json:"results"`
	CreatedAt time.Time `json:"createdAt"`
}

// Apart says what unlinking means for a class.
type Apart struct {
	PairingID string `json:"pairingId"`
	Target    string `json:"target"`
	Others    int    `json:"others" doc:"People whom only the other sections have, and whom Kanban put in"`
}

// Unlinking ends a set.
type Unlinking struct {
	Target string `json:"target,omitempty" doc:"What becomes of its class: lead (it stays the lead section's, the others' people come out with its next run) or end (everybody stays, nothing keeps it in step)"`
}

// View is a way to look at lists of sections that somebody saved.
type View struct {
	Name  string            `json:"name"`
	Query map[string]string `json:"query" doc:"The filters, by name"`
}
