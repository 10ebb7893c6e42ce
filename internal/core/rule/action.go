package rule

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Kinds of action.
const (
	SendEvent     = "send-event"     // a signed event to a service
	Mail          = "mail"           // a mail
	Award         = "award"          // a badge
	CallOperation = "call-operation" // an operation of a service's own API
	Enrol         = "enrol"          // into a section at the course platform
	Unenrol       = "unenrol"        // out of it
	AddToGroup    = "add-to-group"   // at a service
	TakeFrom      = "take-from-group"
	OpenTask      = "task"       // for a person
	AppendRow     = "append-row" // of a sheet that Kanban keeps
)

// Kinds lists them all.
var Kinds = []string{SendEvent, Mail, Award, CallOperation, Enrol, Unenrol, AddToGroup, TakeFrom, OpenTask, AppendRow}

// Opposite gives the kind of action that takes one back, empty when there is none.
// What is sent or operated is reverted by UndoFields and by the operation's own
// partner.
func Opposite(kind string) string {
	return map[string]string{
		Enrol: Unenrol, Unenrol: Enrol, AddToGroup: TakeFrom, TakeFrom: AddToGroup,
		SendEvent: SendEvent, CallOperation: CallOperation, OpenTask: OpenTask,
	}[kind]
}

// Action is one thing a rule does.
type Action struct {
	Kind string `json:"kind" enum:"send-event,mail,award,call-operation,enrol,unenrol,add-to-group,take-from-group,task,append-row"`
	// After is how long to wait: since the event for the first action, since the
	// action before for the others.
	After string `json:"after,omitempty" doc:"How long to wait beforehand: 90m, 2h or 3d, since the event or since the action before"`
	// If is looked at when the action's time has come; false skips the action.
	If string `json:"if,omitempty" doc:"A condition in CEL, looked at when the action's time has come, such as: !progress.moduleDone"`
	// InterfaceID is where an event, a mail, an operation, an enrolment or a group action goes.
	InterfaceID string `json:"interfaceId,omitempty"`
	// Fields of an event, an operation or a row: name → CEL expression.
	Fields map[string]string `json:"fields,omitempty" doc:"For send-event, call-operation and append-row: values by name, each a CEL expression over event, person, section, course, module, activity, progress and award"`
	// UndoFields are sent instead of Fields when an event is reverted.
	UndoFields map[string]string `json:"undoFields,omitempty" doc:"For send-event: what is sent to revert it"`
	// Fallbacks stand in for values that are missing or empty.
	Fallbacks map[string]string `json:"fallbacks,omitempty" doc:"By name of a field: the text to use when its value is missing or empty"`
	// Operation of the interface, to call.
	Operation string `json:"operation,omitempty" doc:"For call-operation: the name of the interface's operation"`
	// SectionID is where to enrol; the event's own section when empty.
	SectionID string `json:"sectionId,omitempty" doc:"For enrol and unenrol: the section; the event's own when absent"`
	// Group at the service, a text template.
	Group string `json:"group,omitempty" doc:"For group actions: the group's name at the service, a template"`
	// To, Subject and Text of a mail; Subject and Text of a task.
	To      string `json:"to,omitempty" doc:"For mail: a CEL expression that gives the address; person.email when absent"`
	Subject string `json:"subject,omitempty" doc:"For mail and task: a template such as: Well done, {{.person.givenName}}"`
	Text    string `json:"text,omitempty" doc:"For mail and task: a template"`
	// Owner and DueIn of a task.
	Owner string `json:"owner,omitempty" doc:"For task: the address of whoever is to do it"`
	DueIn string `json:"dueIn,omitempty" doc:"For task: in how long it is due, such as 3d"`
	// BadgeID of an award.
	BadgeID string `json:"badgeId,omitempty" doc:"For award"`
	// Sheet is the name of the sheet a row goes to.
	Sheet string `json:"sheet,omitempty" doc:"For append-row: the sheet's name; it is made with the first row"`
	// Undo marks an action that takes an earlier delivery back.
	Undo bool `json:"undo,omitempty" readOnly:"true" doc:"It takes an earlier delivery back"`
}

// Reverted gives the action that reverts a, and whether there is one.
func (a Action) Reverted() (Action, bool) {
	kind := Opposite(a.Kind)
	if kind == "" || a.Kind == SendEvent && len(a.UndoFields) == 0 {
		return Action{}, false
	}
	a.Kind, a.Undo, a.After, a.If = kind, true, "", ""
	if kind == SendEvent {
		a.Fields = a.UndoFields
	}
	return a, true
}

// Target names what an action is done to or with at a service, whoever it is done for:
// an operation with the values that are the same for everybody, a group, a section. key
// is short; title is for people.
func (a Action) Target() (key, title string) {
	title = strings.ReplaceAll(a.Kind, "-", " ")
	parts := []string{a.Kind, a.Operation, a.SectionID, a.Group}
	for _, x := range []string{a.Operation, a.Group} {
		if x != "" {
			title += " " + x
		}
	}
	for _, name := range slices.Sorted(maps.Keys(a.Fields)) {
		parts = append(parts, name, a.Fields[name])
		if text, err := strconv.Unquote(a.Fields[name]); err == nil {
			title += fmt.Sprintf(", %s %q", name, text)
		}
	}
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return hex.EncodeToString(sum[:8]), title
}

// Draft is a rule as it is written: when this happens, if, then.
type Draft struct {
	Name          string
	Trigger       string
	Scope         Scope
	Condition     string   // always true when empty
	Stop          string   // looked at before each action; true ends what is still to come
	Actions       []Action // in this order
	OncePerPerson bool     // at most once per person and target
	// UndoneBy are the triggers that, for the same person and place, revert what
	// the rule did and stop what it has not done yet.
	UndoneBy []string
	// Counts says which result of an assessment counts; see ResultThatCounts.
	Counts     Counts
	Days       int // where the trigger Waits
	QuietHours QuietHours
	Limit      Limit
	InOrder    bool // per person and interface
}
