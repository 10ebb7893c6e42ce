package api

import (
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
)

// SectionPage is a list of sections, with what its rules hidden.
type SectionPage struct {
	Items   []Section     `json:"items"`
	Next    string        `json:"next,omitempty" doc:"Give it as cursor for the next page; absent at the end"`
	Total   int           `json:"total" doc:"How many fit, on all pages"`
	Hidden  []HiddenCount `json:"hidden" doc:"What each rule left out of this list"`
	Choices Choices       `json:"choices" doc:"The values by which lists can be narrowed"`
}

// HiddenCount counts what one rule left out of a list.
type HiddenCount struct {
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
	Interface    string       `json:"interface,omitempty" doc:"The service's name"`
	// Counts of the latest comparison, people per outcome.
	Counts     map[roster.Outcome]int `json:"counts,omitempty"`
	RanAt      *time.Time             `json:"ranAt,omitempty"`
	Alike      bool                   `json:"alike,omitempty" doc:"Another section has the same title and code: show school, term and teachers"`
	List       string                 `json:"list,omitempty" enum:"course,organisation,named" doc:"It is a people list of this kind, no section of the register"`
	Page       string                 `json:"page,omitempty" doc:"Where people open it in the register, when its interface says so; not on the board"`
	TargetPage string                 `json:"targetPage,omitempty" doc:"Where people open its class at the service, likewise"`
	// Running says that somebody works at a run of it.
	Running bool `json:"running,omitempty" doc:"A run of it is under way or queued; its state is that of before"`
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
	School   string   `json:"school,omitempty" doc:"Its organisation"`
	Teachers []string `json:"teachers" doc:"Their names"`
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

// SetProposals are sections that could be linked.
type SetProposals struct {
	Items  []SetProposal `json:"items"`
	Hidden int           `json:"hidden" doc:"Sections that could be linked too, and that lists hide"`
}

// SetProposal is sections that could be linked, the lead first.
type SetProposal struct {
	Name           string          `json:"name"`
	Sections       []SectionRef    `json:"sections"`
	SharedTeachers []SharedTeacher `json:"sharedTeachers" doc:"Where nobody teaches all of them: the teachers of several"`
}

// SharedTeacher is a teacher of several sections of a proposal, but not of all.
type SharedTeacher struct {
	Teacher  string   `json:"teacher"`
	Sections []string `json:"sections" doc:"Their titles"`
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

// LinkedSet is several sections that are handled as one.
type LinkedSet struct {
	SetRef
	LeadID     string      `json:"leadId"`
	Reason     string      `json:"reason,omitempty"`
	MadeBy     string      `json:"madeBy"`
	CreatedAt  time.Time   `json:"createdAt"`
	UnlinkedAt *time.Time  `json:"unlinkedAt,omitempty"`
	Copies     []CopyRef   `json:"copies" doc:"Safety copies, kept before it was linked and changed, the latest first"`
	Targets    []SetTarget `json:"targets" doc:"Its classes"`
	Version    int         `json:"version"`
}

// CopyRef says what a safety copy holds.
type CopyRef struct {
	ID        string    `json:"id"`
	People    int       `json:"people"`
	Results   int       `json:"results"`
	CreatedAt time.Time `json:"createdAt"`
}

// SetTarget is a class of a linked set.
type SetTarget struct {
	PairingID string `json:"pairingId"`
	Target    string `json:"target"`
}

// Affected is somebody with what becomes of them at the other side.
type Affected struct {
	PersonID string        `json:"personId,omitempty"`
	Name     string        `json:"name"`
	Role     roster.Role   `json:"role,omitempty"`
	Effect   roster.Effect `json:"effect" enum:"removed,added,not-added,stays"`
	Why      string        `json:"why"`
}

// ClassEffects says what becomes of everybody about a class.
type ClassEffects struct {
	PairingID string     `json:"pairingId"`
	Target    string     `json:"target"`
	People    []Affected `json:"people" doc:"Those who come out first"`
}

// EditSet changes a linked set.
type EditSet struct {
	Add    []string `json:"add,omitempty" doc:"Ids of sections that come in"`
	Drop   []string `json:"drop,omitempty" doc:"Ids of its sections that go out"`
	LeadID string   `json:"leadId,omitempty" doc:"Another lead; needed when the lead goes out"`
	Reason string   `json:"reason,omitempty" doc:"Adds sections although the rule says otherwise; it is kept in the audit trail"`
}

// SetEdited is what changing a set would mean.
type SetEdited struct {
	Sections []SectionRef   `json:"sections" doc:"As they would be, the lead first"`
	Refused  []Refused      `json:"refused" doc:"Nothing can be changed while there is any"`
	Classes  []ClassEffects `json:"classes"`
}

// PutBack is what putting a safety copy back would mean, or meant.
type PutBack struct {
	Back  []BackResult `json:"back" doc:"Results that are no longer there, and are put back"`
	There int          `json:"there" doc:"Results that are there, and stay as they are"`
	Gone  int          `json:"gone" doc:"Results of people or sections that are no longer known"`
}

// BackResult is a result that is put back.
type BackResult struct {
	Code       string `json:"code" doc:"The section's"`
	Person     string `json:"person"`
	Identifier string `json:"identifier"`
	ActivityID string `json:"activityId"`
}

// LeftGroup is a group inside a class that is for no section any more.
type LeftGroup struct {
	Ref         string `json:"ref" doc:"The service's id of the group"`
	Name        string `json:"name"`
	InterfaceID string `json:"interfaceId"`
	Class       string `json:"class"`
	Section     string `json:"section" doc:"Title of the section for which it was made"`
	Members     int    `json:"members" doc:"Who is in it now; only an empty one can be removed"`
	Gone        bool   `json:"gone,omitempty" doc:"It was removed at the service"`
	Problem     string `json:"problem,omitempty" doc:"Why the service could not be asked; its name and members are not known then"`
}

// GroupToRemove names a group that is left over.
type GroupToRemove struct {
	InterfaceID string `json:"interfaceId"`
	Ref         string `json:"ref"`
}

// Unlinking ends a set.
type Unlinking struct {
	Target string `json:"target,omitempty" doc:"What becomes of its class: lead (it stays the lead section's, the others' people are removed with its next run) or end (everybody stays, nothing keeps it in step)"`
}

// View is a way to look at lists of sections that somebody saved.
type View struct {
	Name  string            `json:"name"`
	Query map[string]string `json:"query" doc:"The filters, by name"`
}
