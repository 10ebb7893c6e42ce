package api

import (
	"encoding/json"
	"time"

	"kanban/internal/core/rule"
)

// Action is one thing a rule does.
type Action = rule.Action

// NewRule is a rule as it is written.
type NewRule struct {
	Name          string          `json:"name"`
	Trigger       string          `json:"trigger" enum:"section.joined,section.left,section.moved,access.granted,access.ended,activity.completed,assessment.passed,assessment.failed,score.reported,work.submitted,module.completed,course.completed,progress.crossed,activity.reopened,module.reopened,course.reopened,person.inactive,person.not-begun,badge.awarded,badge.revoked,stage.reached,stage.reopened,score.final,score.carried,score.conflict,run.needs-person,service.reported"`
	Scope         rule.Scope      `json:"scope,omitzero"`
	Condition     string          `json:"condition,omitempty" doc:"A CEL expression; always true when absent"`
	Stop          string          `json:"stop,omitempty" doc:"A CEL expression looked at before each action; true ends what is still to come"`
	Actions       []Action        `json:"actions"`
	OncePerPerson *bool           `json:"oncePerPerson,omitempty" doc:"At most once per person and target; true when absent"`
	Counts        string          `json:"counts,omitempty" enum:"latest,best,first" doc:"Which result of an assessment counts, by the time at which it was reached: the latest, the best (a pass, if there ever was one) or the first. When absent it is the latest for a rule that reverts for one result what it did for the other, and every one for all others"`
	UndoneBy      []string        `json:"undoneBy,omitempty" doc:"Triggers that, for the same person and place, revert what the rule did"`
	Days          int             `json:"days,omitempty" doc:"For person.inactive and person.not-begun: after how many days without activity"`
	QuietHours    rule.QuietHours `json:"quietHours,omitzero" doc:"Hours in which the rule does nothing; what falls into them waits"`
	Limit         rule.Limit      `json:"limit,omitzero" doc:"How many calls the rule may make; what is above waits"`
	InOrder       bool            `json:"inOrder,omitempty" doc:"Deliveries to one person at one interface are made one after the other"`
}

// Rule is a rule and what became of it.
type Rule struct {
	NewRule
	ID           string     `json:"id"`
	State        string     `json:"state" enum:"draft,on,off" doc:"A draft was never on"`
	On           bool       `json:"on"`
	OnSince      *time.Time `json:"onSince,omitempty"`
	Where        string     `json:"where,omitempty" doc:"What its scope names, in words; absent for anywhere"`
	Fired        int        `json:"fired"`
	Delivered    int        `json:"delivered"`
	Waiting      int        `json:"waiting"`
	Calls        int        `json:"calls" doc:"Calls within the hour or day of its limit; 0 without a limit"`
	Unsubscribed int        `json:"unsubscribed" doc:"Addresses that get no more mails of it, because they said so"`
	Version      int        `json:"version"`
}

// Unsubscribed is an address that gets no more mails of a rule.
type Unsubscribed struct {
	Address string    `json:"address"`
	At      time.Time `json:"at"`
}

// RuleVersion is what a rule was like.
type RuleVersion struct {
	Version int       `json:"version"`
	Who     string    `json:"who"`
	At      time.Time `json:"at"`
	Rule    NewRule   `json:"rule"`
}

// TrialRequest says what a rule is tried out on.
type TrialRequest struct {
	EventID string   `json:"eventId,omitempty" doc:"A real event; the latest that fits when absent"`
	Made    bool     `json:"made,omitempty" doc:"A made-up event instead"`
	Send    bool     `json:"send,omitempty" doc:"Send mails and events for real, to the test recipient, marked as a test"`
	Anyway  bool     `json:"anyway,omitempty" doc:"Send even when the condition does not hold for the event"`
	Rule    *NewRule `json:"rule,omitempty" doc:"Try this instead of what is saved"`
}

// Trial is what a rule would do for one event.
type Trial struct {
	EventID   string         `json:"eventId,omitempty" doc:"Absent for a made-up event"`
	Event     map[string]any `json:"event"`
	Person    string         `json:"person,omitempty"`
	Condition string         `json:"condition" doc:"holds, does not hold, or why it cannot be worked out"`
	Stops     string         `json:"stops,omitempty" doc:"The same for the stop condition"`
	Steps     []TrialStep    `json:"steps"`
	SentTo    string         `json:"sentTo,omitempty" doc:"Absent when nothing was sent"`
	Passed    bool           `json:"passed" doc:"The condition holds and everything could be done"`
}

// TrialStep is one action of a trial.
type TrialStep struct {
	Kind      string         `json:"kind"`
	Interface string         `json:"interface,omitempty"`
	After     string         `json:"after,omitempty"`
	If        string         `json:"if,omitempty"`
	Shown     map[string]any `json:"shown,omitempty" doc:"What would be sent"`
	Problem   string         `json:"problem,omitempty" doc:"Why it could not be done"`
	Checked   string         `json:"checked,omitempty" doc:"What was found at the service: exists, or what is missing"`
	Sent      bool           `json:"sent"`
}

// LookBack is what a rule would have done in a time that has passed.
type LookBack struct {
	Since   time.Time   `json:"since"`
	Events  int         `json:"events" doc:"Of its trigger and in its scope"`
	Held    int         `json:"held" doc:"Of these, for which its condition held"`
	Already int         `json:"already" doc:"Of these, for which it has done so, or the person has had it once"`
	Unclear int         `json:"unclear" doc:"For which its condition cannot be worked out"`
	Would   []WouldFire `json:"would" doc:"What is left, oldest first"`
	More    bool        `json:"more" doc:"There were more events than can be looked at in one go; look at a shorter time"`
}

// WouldFire is one event for which a rule would have fired.
type WouldFire struct {
	EventID    string    `json:"eventId"`
	OccurredAt time.Time `json:"occurredAt"`
	PersonID   string    `json:"personId,omitempty"`
	Person     string    `json:"person,omitempty"`
	Section    string    `json:"section,omitempty"`
}

// CatchUp lets a rule do what the look back showed.
type CatchUp struct {
	Since time.Time `json:"since"`
	Count int       `json:"count" doc:"How many the look back showed; refused when it is another number by now"`
}

// CaughtUp says how many events a rule catches up with.
type CaughtUp struct {
	Events int `json:"events"`
}

// TextCheck asks whether a text can be what it is meant to be.
type TextCheck struct {
	Trigger string `json:"trigger"`
	Kind    string `json:"kind" enum:"condition,value,template"`
	Text    string `json:"text"`
	EventID string `json:"eventId,omitempty" doc:"The event for which to say what it gives; a made-up one when absent"`
}

// TextVerdict says so.
type TextVerdict struct {
	Fine    bool   `json:"fine"`
	Problem string `json:"problem,omitempty"`
	Sample  string `json:"sample,omitempty" doc:"What it gives for a made-up event"`
}

// Recipient is where test sends go.
type Recipient struct {
	Address string `json:"address" doc:"Empty when nobody has set it"`
}

// Operation is one call of a service's own API.
type Operation = rule.Operation

// OperationTry calls an operation now.
type OperationTry struct {
	Values map[string]any `json:"values"`
}

// OperationTried is what came back.
type OperationTried struct {
	Worked  bool   `json:"worked"`
	Status  int    `json:"status"`
	Request string `json:"request"`
	Answer  string `json:"answer"`
	Problem string `json:"problem,omitempty"`
}

// RetryRequest says which deliveries to try again: all that are given must fit.
type RetryRequest struct {
	RuleID      string     `json:"ruleId,omitempty"`
	InterfaceID string     `json:"interfaceId,omitempty"`
	OfferID     string     `json:"offerId,omitempty"`
	Since       *time.Time `json:"since,omitempty" doc:"Made at or after then"`
}

// GiveUpRequest says which deliveries to give up, all that are given must fit, and why.
type GiveUpRequest struct {
	ID          string `json:"id,omitempty" doc:"One of them"`
	RuleID      string `json:"ruleId,omitempty"`
	InterfaceID string `json:"interfaceId,omitempty"`
	State       string `json:"state,omitempty" enum:"planned,queued,retrying,waiting"`
	Reason      string `json:"reason" minLength:"1" maxLength:"500"`
}

// GivenUp says how many were stopped, those that come after them for the same events
// included, and how many are being made at this moment and end by themselves.
type GivenUp struct {
	Stopped  int `json:"stopped"`
	UnderWay int `json:"underWay"`
}

// Retried says how many there were.
type Retried struct {
	Deliveries int `json:"deliveries"`
}

// Task is something a person must do, opened by a rule.
type Task struct {
	ID         string     `json:"id"`
	Title      string     `json:"title"`
	Detail     string     `json:"detail,omitempty"`
	Owner      string     `json:"owner,omitempty"`
	Person     string     `json:"person,omitempty"`
	PersonID   string     `json:"personId,omitempty"`
	Section    string     `json:"section,omitempty"`
	Rule       string     `json:"rule,omitempty"`
	DeliveryID string     `json:"deliveryId,omitempty" doc:"That opened it; absent of what a teacher handed on"`
	DueAt      *time.Time `json:"dueAt,omitempty"`
	DoneAt     *time.Time `json:"doneAt,omitempty"`
	DoneBy     string     `json:"doneBy,omitempty"`
	CreatedAt  time.Time  `json:"createdAt"`

	Asker  string          `json:"asker,omitempty" doc:"The teacher who handed it on"`
	About  json.RawMessage `json:"about,omitempty" doc:"What the latest comparison had found, and the register had of them, when it was handed on"`
	Answer string          `json:"answer,omitempty" doc:"Of whoever did it; the teacher sees that"`
}

// LearningSettings say how progress is counted.
type LearningSettings struct {
	Across bool `json:"across" doc:"What somebody reached in one section of a course counts in every other one they come into"`
}
