// Package api holds the bodies of Kanban's own JSON API, shared by the service
// and its client. Field tags become the OpenAPI description.
package api

import (
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/learning"
	"kanban/internal/core/roster"
)

// Page is a list with a cursor to what follows.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"Give it as cursor for the next page; absent at the end"`
	Total int    `json:"total,omitempty" doc:"Of a list that is searched: how many fit, shown or not"`
}

// Names says whether names of people are hidden.
type Names struct {
	Hidden bool `json:"hidden" doc:"Names, user names and addresses are replaced by made-up ones, the same throughout a session"`
}

// Viewing says as whom somebody looks.
type Viewing struct {
	PersonID string `json:"personId" doc:"Of the register"`
}

// Viewed is as whom somebody looks.
type Viewed struct {
	PersonID string `json:"personId"`
	Name     string `json:"name"`
}

// Setup makes the first administrator.
type Setup struct {
	Secret   string `json:"secret" doc:"From the set-up link in the service's log"`
	Name     string `json:"name"`
	Email    string `json:"email"`
	Password string `json:"password" doc:"At least 12 characters"`
}

// SignIn opens a session.
type SignIn struct {
	Email    string `json:"email"`
	Password string `json:"password"`
	Code     string `json:"code,omitempty" doc:"A one-time code or a recovery code, when yours are on: without one the answer is 401 with an error at body.code"`
}

// Caller is who is signed in.
type Caller struct {
	ID       string   `json:"id"`
	Name     string   `json:"name"`
	Roles    []string `json:"roles" doc:"administrator, operator, support, reader, awarder, teacher, learner"`
	PersonID string   `json:"personId,omitempty" doc:"Who of the register they are"`
	May      []string `json:"may" doc:"The acts that the roles allow somewhere; each operation names its own as x-act"`
	MayAll   []string `json:"mayAll" doc:"Those of them that the roles allow in the whole institution"`

	Viewing     *Viewed `json:"viewing,omitempty" doc:"As whom of the register they look: they see what that person may by it, and change nothing"`
	NamesHidden bool    `json:"namesHidden,omitempty" doc:"Names of people are replaced by made-up ones"`
	SeesNames   bool    `json:"seesNames" doc:"The roles let them see who people are; otherwise names are always hidden"`
	CodesNeeded bool    `json:"codesNeeded,omitempty" doc:"A role needs one-time codes: nothing is allowed but setting them up"`
}

// NewToken asks for an API token.
type NewToken struct {
	Name    string `json:"name" doc:"What the token is for"`
	Role    string `json:"role,omitempty" enum:"administrator,operator,support,reader,awarder" doc:"What it may do at most, besides what you may; all that you may when absent"`
	Scope   string `json:"scope,omitempty" enum:"institution,organisation,course,section" doc:"Where; the institution when absent"`
	ScopeID string `json:"scopeId,omitempty"`
	Days    int    `json:"days,omitempty" minimum:"0" maximum:"3660" doc:"Until it expires; it does not when absent"`
}

// OwnToken is a token of somebody's own; what it is was shown when it was made.
type OwnToken struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Role       string     `json:"role,omitempty" doc:"What it may do at most; absent for all that you may"`
	Scope      string     `json:"scope,omitempty"`
	ScopeName  string     `json:"scopeName,omitempty"`
	CreatedAt  time.Time  `json:"createdAt"`
	LastUsedAt *time.Time `json:"lastUsedAt,omitempty" doc:"To the minute"`
	ExpiresAt  *time.Time `json:"expiresAt,omitempty"`
	Expired    bool       `json:"expired,omitempty"`
}

// OwnSession is where somebody is signed in.
type OwnSession struct {
	ID      string    `json:"id"`
	Agent   string    `json:"agent" doc:"What the browser says it is"`
	Address string    `json:"address" doc:"From which it was begun"`
	BeganAt time.Time `json:"beganAt"`
	UsedAt  time.Time `json:"usedAt"`
	Current bool      `json:"current" doc:"It is the one that asks"`
}

// Token is a new API token, shown once.
type Token struct {
	Token string `json:"token"`
}

// Installation says where this service is reached.
type Installation struct {
	Version string `json:"version"`
	Address string `json:"address"`
}

// Report is what a probe found about one capability.
type Report struct {
	Capability string       `json:"capability"`
	State      string       `json:"state" enum:"works,not-enabled,nothing-there,not-allowed,wrong-credential,broken,unreachable,unproven"`
	Code       finding.Code `json:"code,omitempty"`
	Detail     string       `json:"detail" doc:"The service's own words, or what was tried"`
	Remedy     string       `json:"remedy,omitempty"`
	Owner      string       `json:"owner,omitempty" doc:"Who can mend it"`
}

// Connection is an outside system with its interfaces.
type Connection struct {
	ID         string      `json:"id"`
	Name       string      `json:"name"`
	Owner      string      `json:"owner" doc:"Who minds it"`
	Address    string      `json:"address" doc:"Where people open the system itself"`
	Notes      string      `json:"notes"`
	AtOnce     int         `json:"atOnce" doc:"Calls at a time through all its interfaces together, 0 for no limit of its own"`
	PerMinute  int         `json:"perMinute" doc:"The same in a minute"`
	RestAfter  int         `json:"restAfter" doc:"Failures in a row after which it is left alone for a while, 0 for the usual number"`
	Paused     bool        `json:"paused" doc:"All its interfaces are paused"`
	Interfaces []Interface `json:"interfaces" doc:"In the order in which they were made"`
	RemovedAt  *time.Time  `json:"removedAt,omitempty" doc:"When it was removed; it can be restored for 30 days"`
	Version    int         `json:"version"`
}

// Interface is what speaks one protocol with an outside system. Secrets are never in it.
type Interface struct {
	ID           string            `json:"id"`
	ConnectionID string            `json:"connectionId"`
	Connection   string            `json:"connection" doc:"Name of the outside system"`
	Label        string            `json:"label" doc:"What tells it from the others of its connection; empty for one that needs no label"`
	Name         string            `json:"name" doc:"The connection's name, with the label where there is one"`
	Kind         string            `json:"kind"`
	Title        string            `json:"title" doc:"The kind in words"`
	Settings     map[string]string `json:"settings"`
	Paused       bool              `json:"paused" doc:"By itself or with its whole connection"`
	PausedAlone  bool              `json:"pausedAlone" doc:"By itself: it stays so when the connection is resumed"`
	Probe        []Report          `json:"probe"`
	ProbedAt     *time.Time        `json:"probedAt,omitempty"`
	LastRead     *Run              `json:"lastRead,omitempty" doc:"For registers: the newest read"`
	Checklist    Checklist         `json:"checklist"`
	Rests        []Rest            `json:"rests" doc:"What fails in a row there: the service itself, or single operations of it"`
	RemovedAt    *time.Time        `json:"removedAt,omitempty" doc:"When it was removed; it can be restored for 30 days"`
	Version      int               `json:"version"`
	SignsIn      bool              `json:"signsIn" doc:"It is let in by signing in at the service"`
	Grant        *Grant            `json:"grant,omitempty" doc:"What was granted by signing in there; absent when nothing was"`
	Pending      *Grant            `json:"pending,omitempty" doc:"A grant that waits for a decision; the former one counts meanwhile"`
	// Made is filled once, in the answer to making the interface.
	Made map[string]string `json:"made,omitempty" doc:"Values made for the other side; shown only now"`
}

// Grant is what was granted by signing in at a service.
type Grant struct {
	Account   string     `json:"account" doc:"Whose it is, as the service says; empty when it does not"`
	Scopes    []string   `json:"scopes"`
	Missing   []string   `json:"missing" doc:"Scopes that were asked for and not granted"`
	GrantedAt time.Time  `json:"grantedAt"`
	GrantedBy string     `json:"grantedBy"`
	ExpiresAt *time.Time `json:"expiresAt,omitempty" doc:"When it ends; one that renews itself is renewed before"`
	Renews    bool       `json:"renews" doc:"It is renewed without anybody signing in"`
	Trouble   string     `json:"trouble,omitempty" doc:"Why it waits for a decision, or has ended"`
}

// SignInAt is where somebody signs in at a service.
type SignInAt struct {
	Address string `json:"address" doc:"To be opened in a browser in which you are signed in here"`
}

// GrantDecision says what becomes of a grant that is pending.
type GrantDecision struct {
	Take bool `json:"take" doc:"It counts from now on; else it is dropped"`
}

// Rest is a service, or one operation of it, that fails in a row and may be left alone for
// a while.
type Rest struct {
	Operation string     `json:"operation" doc:"What it is in words; empty for the service itself"`
	Reason    string     `json:"reason" doc:"The latest failure"`
	Failures  int        `json:"failures" doc:"Counted in a row; failures side by side count as one"`
	Since     *time.Time `json:"since,omitempty" doc:"When the first of them began"`
	Until     *time.Time `json:"until,omitempty" doc:"Nothing is sent before then, except by hand"`
	Waiting   int        `json:"waiting" doc:"Deliveries that wait for it"`
}

// Dependent is something that hangs on an interface.
type Dependent struct {
	Kind string `json:"kind" enum:"pairing,rule,offer,section,person"`
	Name string `json:"name,omitempty" doc:"Absent for what is only counted"`
	N    int    `json:"n"`
}

// Removal says what removing an interface would hide and stop.
type Removal struct {
	Name       string      `json:"name"`
	Dependents []Dependent `json:"dependents"`
	Summary    string      `json:"summary" doc:"The same in a few words"`
}

// Restored says under which name a removed connection, or under which label a removed interface,
// comes back.
type Restored struct {
	Name string `json:"name,omitempty" doc:"The name or label it had when absent"`
}

// NewConnection connects an outside system.
type NewConnection struct {
	Name       string         `json:"name" maxLength:"200" doc:"By which people know the system"`
	Owner      string         `json:"owner,omitempty" maxLength:"200" doc:"Who minds it"`
	Address    string         `json:"address,omitempty" doc:"Where people open the system itself; addresses of interfaces may then be given as a path"`
	Notes      string         `json:"notes,omitempty"`
	AtOnce     int            `json:"atOnce,omitempty" minimum:"0" doc:"Calls at a time through all its interfaces together, 0 for no limit of its own"`
	PerMinute  int            `json:"perMinute,omitempty" minimum:"0" doc:"The same in a minute"`
	RestAfter  int            `json:"restAfter,omitempty" minimum:"0" doc:"Failures in a row after which it is left alone for a while, 0 for the usual number"`
	Interfaces []NewInterface `json:"interfaces,omitempty" maxItems:"20" doc:"Its first interfaces; more can be added later"`
}

// EditConnection changes a connection; what is absent stays.
type EditConnection struct {
	Name      *string `json:"name,omitempty" maxLength:"200"`
	Owner     *string `json:"owner,omitempty" maxLength:"200"`
	Address   *string `json:"address,omitempty"`
	Notes     *string `json:"notes,omitempty"`
	AtOnce    *int    `json:"atOnce,omitempty" minimum:"0"`
	PerMinute *int    `json:"perMinute,omitempty" minimum:"0"`
	RestAfter *int    `json:"restAfter,omitempty" minimum:"0"`
	Paused    *bool   `json:"paused,omitempty" doc:"Pauses all its interfaces, or lets them go on; those that are paused by themselves stay so"`
}

// NewInterface makes an interface of a connection.
type NewInterface struct {
	Kind   string            `json:"kind" example:"scim"`
	Label  string            `json:"label,omitempty" maxLength:"200" doc:"What tells it from the others of the connection; chosen when absent and there are others"`
	Values map[string]string `json:"values,omitempty" doc:"By field name, secrets among them"`
}

// EditInterface changes an interface; what is absent stays.
type EditInterface struct {
	Label  *string           `json:"label,omitempty" maxLength:"200"`
	Values map[string]string `json:"values,omitempty"`
	Paused *bool             `json:"paused,omitempty"`
	// Untested lets new values replace ones that work though a test with them fails.
	Untested bool `json:"untested,omitempty" doc:"New values replace ones that work though a test with them fails; refused without this"`
}

// ReadRequest says how to read a register.
type ReadRequest struct {
	Approved bool `json:"approved,omitempty" doc:"Go on although a guard objects"`
	Changes  bool `json:"changes,omitempty" doc:"Ask the register only for what changed since the last read"`
}

// Decision is what happens to one person, in words.
type Decision struct {
	roster.Entry
	Title  string `json:"title" doc:"The reason in a few words"`
	Again  bool   `json:"again,omitempty" doc:"The service refused the same change last time; a run by hand tries it again"`
	Remedy string `json:"remedy,omitempty"`
	Owner  string `json:"owner,omitempty"`
}

// Preview is what a run would do.
type Preview struct {
	ID          string                 `json:"id"`
	PairingID   string                 `json:"pairingId"`
	CreatedAt   time.Time              `json:"createdAt"`
	Fingerprint string                 `json:"fingerprint"`
	Reverts     string                 `json:"reverts,omitempty" doc:"The run whose effect this undoes"`
	Ends        bool                   `json:"ends,omitempty" doc:"Running it takes everybody out and ends the pairing"`
	Counts      map[roster.Outcome]int `json:"counts"`
	Changes     int                    `json:"changes" doc:"People whom a run would add, update or remove"`
	Guard       int                    `json:"guard,omitempty" doc:"Removals, when they are more than the guard allows"`
	NewAccounts int                    `json:"newAccounts" doc:"Accounts that a run would make"`
	TakeOver    int                    `json:"takeOver,omitempty" doc:"Members of the class, put in by somebody else, whose places Kanban minds from the run on"`
	Strangers   int                    `json:"strangers,omitempty" doc:"Members of the class who stay somebody else's, where others are taken over"`
	Notice      string                 `json:"notice" enum:"not-notified,notified,unknown" doc:"Whether the service notifies these newcomers: not, all of them, or as it likes because the interface names no notice attribute"`
	Entries     []Decision             `json:"entries"`
}

// NewRun starts a run that does exactly what a preview shows.
type NewRun struct {
	PreviewID string `json:"previewId"`
	Approved  bool   `json:"approved,omitempty" doc:"Allow removals above the guard"`
	// Only narrows the run to some people.
	Only []string `json:"only,omitempty" doc:"Keys of the people to bring in step (personId, or account: and accountId); everybody when absent"`
}

// Noticed is a finding of a run.
type Noticed struct {
	Code    finding.Code `json:"code"`
	Title   string       `json:"title"`
	Subject string       `json:"subject"`
	Detail  string       `json:"detail"`
	Remedy  string       `json:"remedy"`
}

// Run is a read of a register or a synchronisation of a pairing.
type Run struct {
	ID          string         `json:"id"`
	Kind        string         `json:"kind" enum:"read,sync,scores"`
	PairingID   string         `json:"pairingId,omitempty"`
	ScoreLinkID string         `json:"scoreLinkId,omitempty"`
	Interface   string         `json:"interface,omitempty"`
	InterfaceID string         `json:"interfaceId,omitempty" doc:"The register that was read"`
	About       string         `json:"about" doc:"What was read or brought in step"`
	State       string         `json:"state" enum:"queued,running,finished,needs-person,moved,failed,cancelled"`
	Step        string         `json:"step,omitempty" doc:"What it is doing now"`
	Done        int            `json:"done"`
	Total       int            `json:"total"`
	Counts      map[string]int `json:"counts"`
	Findings    []Noticed      `json:"findings"`
	BatchID     string         `json:"batchId,omitempty" doc:"The batch that it belongs to"`
	Reverts     string         `json:"reverts,omitempty" doc:"The run whose effect it undoes"`
	Ends        bool           `json:"ends,omitempty" doc:"It takes everybody out and ends the pairing"`
	RevertedBy  string         `json:"revertedBy,omitempty" doc:"The run that undid its effect"`
	NextPreview string         `json:"nextPreview,omitempty" doc:"For moved: what a run would do now"`
	Code        finding.Code   `json:"code,omitempty"`
	Error       string         `json:"error,omitempty"`
	Remedy      string         `json:"remedy,omitempty"`
	RequestedBy string         `json:"requestedBy"`
	ApprovedBy  string         `json:"approvedBy,omitempty" doc:"Who approved removals above the guard"`
	CreatedAt   time.Time      `json:"createdAt"`
	StartedAt   *time.Time     `json:"startedAt,omitempty"`
	FinishedAt  *time.Time     `json:"finishedAt,omitempty"`
	Seconds     float64        `json:"seconds" doc:"How long it has been at work, or was"`
	Rate        float64        `json:"rate" doc:"Records or people a second"`
	SecondsLeft float64        `json:"secondsLeft,omitempty" doc:"While it is queued or at work and its end can be foreseen: how long it may still take"`
	Ahead       int            `json:"ahead,omitempty" doc:"While it is queued: how many of its kind are before it; not in lists"`
	Since       *time.Time     `json:"since,omitempty" doc:"For reads: only what changed after this was asked for"`
}

// Ended reports whether the run has come to its end.
func (r Run) Ended() bool { return r.FinishedAt != nil }

// Mark is what somebody said of a record of a register.
type Mark struct {
	Kind      string    `json:"kind" enum:"second,test,neither" doc:"A second account, a test learner, or neither, whatever it looks like"`
	OfID      string    `json:"ofId,omitempty" doc:"For a second account: whose; absent when their record is gone"`
	Of        string    `json:"of,omitempty"`
	DecidedBy string    `json:"decidedBy"`
	DecidedAt time.Time `json:"decidedAt"`
}

// Change is one person in one run.
type Change struct {
	Entry  Decision     `json:"entry"`
	State  string       `json:"state" enum:"none,pending,started,done,refused,not-arrived"`
	Code   finding.Code `json:"code,omitempty"`
	Answer string       `json:"answer,omitempty" doc:"The service's own words"`
}

// Course is a course of the register.
type Course struct {
	ID         string `json:"id"`
	Title      string `json:"title"`
	Code       string `json:"code"`
	Activities int    `json:"activities" doc:"In its outline; 0 without one"`
}

// Outline is what a course consists of.
type Outline = learning.Outline

// Switch puts a rule on or off.
type Switch struct {
	On bool `json:"on"`
	// ToCome says what becomes of a rule's deliveries that are still to come.
	// Untried says that a rule is switched on though it was not tried out as it is now.
	Untried bool `json:"untried,omitempty" doc:"For switching a rule on: it is switched on though no trial of it as it is now was passed; refused without this"`
	// Circle says that a rule is switched on though what it does sets itself off again.
	Circle bool   `json:"circle,omitempty" doc:"For switching a rule on: it is switched on though what it does would set itself off again; refused without this"`
	ToCome string `json:"toCome,omitempty" enum:"stop,finish" doc:"For switching a rule off: what becomes of its deliveries that are still to come; refused while there are any when absent"`
}

// Event is a fact, recorded once.
type Event struct {
	ID         string         `json:"id"`
	Type       string         `json:"type"`
	PersonID   string         `json:"personId,omitempty"`
	Person     string         `json:"person,omitempty"`
	Section    string         `json:"section,omitempty"`
	Course     string         `json:"course,omitempty"`
	ModuleID   string         `json:"moduleId,omitempty"`
	Module     string         `json:"module,omitempty" doc:"Title of the module; absent when no outline has it any more"`
	ActivityID string         `json:"activityId,omitempty"`
	Activity   string         `json:"activity,omitempty" doc:"Title of the activity; absent when no outline has it any more"`
	Data       map[string]any `json:"data"`
	OccurredAt time.Time      `json:"occurredAt"`
	RecordedAt time.Time      `json:"recordedAt"`
	Deliveries int            `json:"deliveries"`
	Waiting    int            `json:"waiting" doc:"Deliveries that wait for a person"`
}

// Delivery is one action for one event.
type Delivery struct {
	ID          string         `json:"id"`
	EventID     string         `json:"eventId"`
	EventType   string         `json:"eventType"`
	RuleID      string         `json:"ruleId,omitempty"`
	OfferID     string         `json:"offerId,omitempty" doc:"When an offer made it instead of a rule"`
	StagePlanID string         `json:"stagePlanId,omitempty" doc:"When a stage of a stage plan made it"`
	Rule        string         `json:"rule" doc:"Name of the rule or offer"`
	Version     int            `json:"version,omitempty" doc:"The rule's version that made it"`
	Undoes      string         `json:"undoes,omitempty" doc:"The delivery that this one reverts"`
	Reverted    bool           `json:"reverted,omitempty" doc:"Another delivery has reverted it"`
	Action      string         `json:"action"`
	Interface   string         `json:"interface,omitempty"`
	Page        string         `json:"page,omitempty" doc:"Where people see at the service what became of it, when its interface says so"`
	Person      string         `json:"person,omitempty"`
	Section     string         `json:"section,omitempty"`
	State       string         `json:"state" enum:"planned,queued,retrying,delivered,waiting,skipped,stopped"`
	Held        string         `json:"held,omitempty" doc:"What it waits for, or why it was skipped or stopped"`
	DueAt       *time.Time     `json:"dueAt,omitempty" doc:"Not before then"`
	Attempts    int            `json:"attempts"`
	NextAt      *time.Time     `json:"nextAt,omitempty"`
	Code        finding.Code   `json:"code,omitempty"`
	Error       string         `json:"error,omitempty"`
	Result      map[string]any `json:"result,omitempty"`
	CreatedAt   time.Time      `json:"createdAt"`
	FinishedAt  *time.Time     `json:"finishedAt,omitempty"`
}

// Attempt is one try of a delivery.
type Attempt struct {
	Number    int       `json:"number"`
	StartedAt time.Time `json:"startedAt"`
	Millis    int       `json:"millis" doc:"How long it took, in milliseconds"`
	Status    int       `json:"status" doc:"HTTP status or SMTP code, 0 without an answer"`
	Request   string    `json:"request"`
	Answer    string    `json:"answer"`
	Error     string    `json:"error"`
}

// Person is somebody in a register.
type Person struct {
	ID         string `json:"id"`
	Name       string `json:"name"`
	Email      string `json:"email"`
	UserName   string `json:"userName"`
	Identifier string `json:"identifier" doc:"The register's own identifier"`
	Register   string `json:"register,omitempty" doc:"Name of the register; in lists of people"`
}

// Whereabouts is a section that a person is in, or was.
type Whereabouts struct {
	SectionID string     `json:"sectionId"`
	Section   string     `json:"section"`
	Course    string     `json:"course"`
	Role      string     `json:"role"`
	JoinedAt  time.Time  `json:"joinedAt"`
	LeftAt    *time.Time `json:"leftAt,omitempty" doc:"Absent while the person is in it"`
	Through   string     `json:"through,omitempty" doc:"The identifier of the person's second account that is enrolled; absent for their own"`
	BeginsOn  *time.Time `json:"beginsOn,omitempty" doc:"The first day of an enrolment that has not begun"`
	PairingID string     `json:"pairingId,omitempty"`
	Target    string     `json:"target,omitempty"`
	Percent   *int       `json:"percent,omitempty" doc:"Progress in the course, when there is any"`
	From      *time.Time `json:"from,omitempty" doc:"The day from which the register has the enrolment; absent when it does not say"`
	Class     InClass    `json:"class" doc:"Whether they are in the class outside"`
}

// InClass says whether a person is in the class of a section, as far as it is known.
type InClass struct {
	State   string       `json:"state" enum:"in,gone,not-in,waiting,left-out,next-run,not-known,no-class" doc:"In it; left the section and is not in it; not in it, somebody has to act, see why; not yet, it passes by itself; left out on purpose; the next run puts them in or takes them out; not known; the section has no class"`
	Service string       `json:"service,omitempty"`
	Since   *time.Time   `json:"since,omitempty" doc:"When Kanban put them in"`
	Code    finding.Code `json:"code,omitempty" doc:"Why they are not in it"`
	Why     string       `json:"why,omitempty" doc:"The same in words"`
	Remedy  string       `json:"remedy,omitempty" doc:"What to do"`
	Owner   string       `json:"owner,omitempty" doc:"Who can do it"`
	AsOf    *time.Time   `json:"asOf,omitempty" doc:"When the class was looked at last"`
}

// Account is a person's account at a service.
type Account struct {
	InterfaceID string     `json:"interfaceId"`
	Interface   string     `json:"interface"`
	RemoteID    string     `json:"remoteId" doc:"The service's id of it"`
	Page        string     `json:"page,omitempty" doc:"Where people open it at the service, when its interface says so"`
	Denied      bool       `json:"denied,omitempty" doc:"Somebody said that this is not the person's account"`
	By          string     `json:"by,omitempty" doc:"Who decided so; absent when Kanban found it out"`
	At          *time.Time `json:"at,omitempty" doc:"When that was decided"`
}

// PersonPage is everything known about one person.
type PersonPage struct {
	Person
	Page       string        `json:"page,omitempty" doc:"Where people open the person in the register, when its interface says so"`
	Mark       *Mark         `json:"mark,omitempty" doc:"What somebody said of the register's record"`
	Records    []Record      `json:"records" doc:"What registers have of the person, the leading one first"`
	Merges     []Merge       `json:"merges" doc:"Who became this person, the latest first"`
	Accounts   []Account     `json:"accounts"`
	Sections   []Whereabouts `json:"sections"`
	Awards     []Award       `json:"awards"`
	Events     []Event       `json:"events" doc:"The newest 50"`
	Deliveries []Delivery    `json:"deliveries" doc:"The newest 50 that were sent about the person"`
}

// Proposal is a record of a register that looks like a second account or a test learner.
type Proposal struct {
	PersonID     string `json:"personId"`
	Person       string `json:"person"`
	Identifier   string `json:"identifier"`
	UserName     string `json:"userName,omitempty"`
	Email        string `json:"email,omitempty"`
	Kind         string `json:"kind" enum:"second,test" doc:"A second account of another person, or a test learner"`
	OfID         string `json:"ofId,omitempty" doc:"Whose second account it is"`
	Of           string `json:"of,omitempty"`
	OfIdentifier string `json:"ofIdentifier,omitempty"`
	Evidence     string `json:"evidence" doc:"What speaks for it"`
	Enrolments   int    `json:"enrolments"`
}

// Verdict accepts or refuses proposals.
type Verdict struct {
	People []string `json:"people" doc:"Ids of the people, as they were looked at"`
	Accept bool     `json:"accept" doc:"Whether it is so; what is refused is not proposed again"`
}

// Decided says how many proposals a verdict was about.
type Decided struct {
	Count int `json:"count"`
}

// Difference is one field of a record that a read changed.
type Difference struct {
	Table  string `json:"table" enum:"orgs,terms,courses,sections,people,enrolments"`
	ID     string `json:"id" doc:"Its sourcedId in the register"`
	Who    string `json:"who" doc:"Name or title, as it was before"`
	Field  string `json:"field"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Differences are the fields of records that a read changed.
type Differences struct {
	Items []Difference `json:"items" doc:"The first 500 of each kind of record"`
	More  bool         `json:"more,omitempty" doc:"There were more"`
}

// Live is the news that something changed.
type Live struct {
	Topic string `json:"topic" doc:"interface, section, pairing, run, event, delivery, rule or badge"`
	ID    string `json:"id" doc:"Which one; empty when it is about many"`
}
