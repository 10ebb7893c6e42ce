package api

import (
	"time"

	"kanban/internal/core/roster"
	"kanban/internal/core/schedule"
)

// Pairing joins a section with a target.
type Pairing struct {
	ID        string        `json:"id"`
	Section   Section       `json:"section"`
	Target    string        `json:"target"`
	TargetRef string        `json:"targetRef,omitempty" doc:"The service's id of the target, once it is made"`
	Policy    roster.Policy `json:"policy"`
	Paused    bool          `json:"paused"`
	Version   int           `json:"version"`
	LastRun   *Run          `json:"lastRun,omitempty"`
	NextRun   *time.Time    `json:"nextRun,omitempty" doc:"When it runs next by itself"`
	OpensAt   *time.Time    `json:"opensAt,omitempty" doc:"When its class opens by itself"`
	Guarded   int           `json:"guarded" doc:"Removals that wait for approval"`
	Unminded  int           `json:"unminded,omitempty" doc:"People of the section who were put into the class by somebody else, when it is to be decided whether Kanban minds their places"`
	Seen      string        `json:"seen,omitempty" doc:"The class's name at the service, when it is another one"`
	Lost      bool          `json:"lost,omitempty" doc:"The class was deleted at the service"`
	Checklist Checklist     `json:"checklist,omitzero" doc:"Not in lists"`
	Freshness Freshness     `json:"freshness,omitzero" doc:"Not in lists"`
}

// TakeOver says who minds the places of the section's people who were in the class already.
type TakeOver struct {
	Leave bool `json:"leave,omitempty" doc:"They stay to whoever put them in; without it the next run takes them over"`
}

// Opening opens a held class.
type Opening struct {
	At *time.Time `json:"at,omitempty" doc:"When; now when absent"`
}

// OpeningOutlook is what opening a held class would mean.
type OpeningOutlook struct {
	Learners    int    `json:"learners" doc:"Who is held back and would go in"`
	NewAccounts int    `json:"newAccounts" doc:"Of them, those for whom an account is made"`
	Notice      string `json:"notice" enum:"not-notified,notified,unknown" doc:"Whether the service notifies those for whom an account is made: not, all of them, or as it likes because the interface names no notice attribute"`
}

// SyncNow asks for runs of every pairing that fits; absent values do not narrow.
type SyncNow struct {
	CourseID    string   `json:"courseId,omitempty"`
	InterfaceID string   `json:"interfaceId,omitempty"`
	Pairings    []string `json:"pairings,omitempty" doc:"Ids"`
}

// Queued says how many runs were queued.
type Queued struct {
	Pairings int `json:"pairings"`
}

// Freshness says how old what is known about a pairing is.
type Freshness struct {
	ReadAt     *time.Time `json:"readAt,omitempty" doc:"When the register was read last"`
	ComparedAt *time.Time `json:"comparedAt,omitempty"`
	RanAt      *time.Time `json:"ranAt,omitempty"`
	NextRead   *time.Time `json:"nextRead,omitempty" doc:"When the register is read next by itself"`
	StoppedBy  string     `json:"stoppedBy,omitempty" doc:"What keeps it from becoming newer"`
}

// NewPairing pairs a section.
type NewPairing struct {
	SectionID   string         `json:"sectionId"`
	InterfaceID string         `json:"interfaceId"`
	Target      string         `json:"target,omitempty" doc:"Name of the new class; made by the template when absent"`
	TargetRef   string         `json:"targetRef,omitempty" doc:"The service's id of an existing class, to pair with it instead of a new one"`
	Template    string         `json:"template,omitempty" doc:"Name of a template; the usual one when absent"`
	Policy      *roster.Policy `json:"policy,omitempty" doc:"The template's policy when absent"`
	// Details is what the register does not say about a new class.
	Details map[string]string `json:"details,omitempty" doc:"For what the register does not say about a new class: level, subject, starts, ends"`
}

// EditPairing changes a pairing; what is absent stays.
type EditPairing struct {
	Target *string        `json:"target,omitempty" doc:"Another name for the class, here and at the service"`
	Policy *roster.Policy `json:"policy,omitempty"`
	Paused *bool          `json:"paused,omitempty"`
}

// SpaceCandidate is a class at a service with the evidence for it.
type SpaceCandidate struct {
	Ref      string     `json:"ref" doc:"The service's id of the class"`
	Name     string     `json:"name"`
	Score    int        `json:"score" doc:"0 to 100"`
	Likeness float64    `json:"likeness" doc:"How alike the names are, 0 to 1"`
	Shared   int        `json:"shared" doc:"Members who are in the section"`
	Missing  int        `json:"missing" doc:"People of the section with an account who are no members"`
	Others   int        `json:"others" doc:"Members who are not in the section"`
	Teachers int        `json:"teachers" doc:"Members who teach the section"`
	Term     bool       `json:"term" doc:"Its name says the section's term"`
	Remarks  []Obstacle `json:"remarks"`
}

// UnpairedClass is a class at a service that belongs to no pairing.
type UnpairedClass struct {
	Ref       string     `json:"ref" doc:"The service's id of the class"`
	Name      string     `json:"name"`
	Members   int        `json:"members"`
	IgnoredBy string     `json:"ignoredBy,omitempty" doc:"Who said that it is no business of Kanban's"`
	IgnoredAt *time.Time `json:"ignoredAt,omitempty"`
	Guesses   []Guess    `json:"guesses" doc:"The sections that it probably copies, the likeliest first; none when nothing speaks for any"`
	Tied      bool       `json:"tied" doc:"As much speaks for the second as for the first"`
}

// Guess is a section that a class probably copies.
type Guess struct {
	Section  SectionRef `json:"section"`
	Score    int        `json:"score" doc:"0 to 100"`
	Shared   int        `json:"shared" doc:"Members who are in the section"`
	Others   int        `json:"others" doc:"Members who are not"`
	Teachers int        `json:"teachers" doc:"Members who teach the section"`
	Paired   string     `json:"paired,omitempty" doc:"The class with which the section is paired at this service already"`
}

// Ignoring says of classes that they are no business of Kanban's, or are one after all.
type Ignoring struct {
	Refs   []string `json:"refs"`
	Ignore bool     `json:"ignore"`
}

// Order is what to do with many.
type Order struct {
	Act         string            `json:"act" enum:"link,pair,run,template,pause,resume,hold,open,next-term,end,take-out"`
	Sets        []NewSet          `json:"sets,omitempty" doc:"For link: each set"`
	Sections    []string          `json:"sections,omitempty" doc:"For pair: ids of sections"`
	Pairings    []string          `json:"pairings,omitempty" doc:"For all others: ids of pairings"`
	InterfaceID string            `json:"interfaceId,omitempty" doc:"For pair: the service"`
	Template    string            `json:"template,omitempty" doc:"For pair and template; the usual one when absent"`
	Naming      string            `json:"naming,omitempty" doc:"For pair: names the classes, for example {course} · {teacher}; as the template says when absent"`
	Names       map[string]string `json:"names,omitempty" doc:"For pair: names of single classes, by id of the section; as naming says when absent"`
	Details     map[string]string `json:"details,omitempty" doc:"For pair: what the register does not say about new classes: level, subject, starts, ends"`
	WithoutRun  bool              `json:"withoutRun,omitempty" doc:"For pair and next-term: leave the first run for later"`
	KeepNames   bool              `json:"keepNames,omitempty" doc:"For next-term: classes keep their names; otherwise one that a template named gets the name of its new section"`
	To          map[string]string `json:"to,omitempty" doc:"For next-term: the section that follows, by pairing; the proposed one when absent"`
	At          *time.Time        `json:"at,omitempty" doc:"For open: when; now when absent"`
}

// BatchItem is one of the many.
type BatchItem struct {
	SectionID   string                 `json:"sectionId,omitempty"`
	PairingID   string                 `json:"pairingId,omitempty"`
	Title       string                 `json:"title"`
	Target      string                 `json:"target"`
	To          string                 `json:"to,omitempty" doc:"Title of the section that follows"`
	Remarks     []Obstacle             `json:"remarks"`
	Blocked     bool                   `json:"blocked"`
	Counts      map[roster.Outcome]int `json:"counts,omitempty" doc:"People by outcome, where a run follows"`
	Guard       int                    `json:"guard,omitempty" doc:"Removals, when they are more than the guard allows"`
	NewAccounts int                    `json:"newAccounts,omitempty"`
	Missing     []string               `json:"missing,omitempty" doc:"For pair: what the service wants to know of the class and nothing says"`
	Says        string                 `json:"says,omitempty" doc:"What will happen, in words"`
	Done        bool                   `json:"done"`
	Problem     string                 `json:"problem,omitempty"`
	SetID       string                 `json:"setId,omitempty" doc:"For link: the set that was made"`
	RunID       string                 `json:"runId,omitempty"`
	RunState    string                 `json:"runState,omitempty"`
	Did         map[string]int         `json:"did,omitempty" doc:"What became of people, once its run has ended"`
}

// Batch is what happens, or happened, to many; the exceptions come first.
type Batch struct {
	ID          string                 `json:"id"`
	Order       Order                  `json:"order"`
	Items       []BatchItem            `json:"items"`
	Counts      map[roster.Outcome]int `json:"counts" doc:"People of all items that are not blocked"`
	NewAccounts int                    `json:"newAccounts" doc:"People for whom an account would be made, each once"`
	Did         map[string]int         `json:"did" doc:"What became of people, by the runs that have ended"`
	PeopleDone  int                    `json:"peopleDone" doc:"While runs go on: people done with"`
	People      int                    `json:"people" doc:"People whom its runs are about"`
	Guarded     int                    `json:"guarded" doc:"Items that would remove more than their guard allows"`
	Blocked     int                    `json:"blocked"`
	MadeBy      string                 `json:"madeBy"`
	CreatedAt   time.Time              `json:"createdAt"`
	AppliedAt   *time.Time             `json:"appliedAt,omitempty"`
	Runs        map[string]int         `json:"runs" doc:"Its runs by state"`
	Tried       int                    `json:"tried" doc:"Once it is being done: items that were done, or could not be"`
	Done        bool                   `json:"done" doc:"It was done, and all its runs have ended"`
}

// ListedBatch is a batch that was done, without its items.
type ListedBatch struct {
	ID        string    `json:"id"`
	Act       string    `json:"act"`
	MadeBy    string    `json:"madeBy"`
	AppliedAt time.Time `json:"appliedAt"`
	Items     int       `json:"items"`
	Left      int       `json:"left" doc:"Items that are still to be done"`
	Problems  int       `json:"problems" doc:"Items that could not be done"`
	Runs      int       `json:"runs"`
	Active    int       `json:"active" doc:"Runs that have not ended"`
	Failed    int       `json:"failed" doc:"Runs that failed, or whose preview no longer held"`
}

// Doing does what a batch shows.
type Doing struct {
	Approved bool `json:"approved,omitempty" doc:"Allow removals above the guards"`
}

// Succession is a pairing with the section that follows its own.
type Succession struct {
	PairingID string     `json:"pairingId"`
	From      string     `json:"from" doc:"Title of the section whose term runs out"`
	Ends      *time.Time `json:"ends,omitempty" doc:"Its last day"`
	ToID      string     `json:"toId" doc:"Empty when none follows"`
	To        string     `json:"to"`
	Score     int        `json:"score" doc:"0 to 100"`
	Evidence  []string   `json:"evidence"`
	Choices   []Choice   `json:"choices" doc:"Sections that could follow, the likeliest first"`
}

// Choice is a section that can be chosen.
type Choice struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	Code  string `json:"code"`
}

// Template is how pairings are made: how their classes are called, and their policy.
type Template struct {
	Name   string        `json:"name"`
	Target string        `json:"target" doc:"Names the classes, for example {course} · {teacher}"`
	Policy roster.Policy `json:"policy"`
	// Details are templates for what services want to know of a class.
	Details map[string]string `json:"details,omitempty" doc:"What services get to know of a class, for example level: Year {level}; by level, subject, starts, ends; what is absent is as the register has it"`
}

// Maintenance says whether everything is paused.
type Maintenance struct {
	On    bool       `json:"on"`
	Since *time.Time `json:"since,omitempty"`
	By    string     `json:"by,omitempty"`
	Note  string     `json:"note,omitempty"`
}

// FullComparison is when all pairings are compared, whatever reads found.
type FullComparison struct {
	Schedule schedule.Schedule `json:"schedule"`
	NextAt   *time.Time        `json:"nextAt,omitempty"`
}
