// Package adapter knows the kinds of outside system that Kanban connects to:
// what has to be entered for each, what each can do, and how to sort what goes
// wrong. One sub-package a kind does the talking.
//
//	kind, ok := adapter.Lookup(adapter.KindSCIM)
//	for _, f := range kind.Fields { fmt.Println(f.Title) }
package adapter

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"kanban/internal/core/finding"
	"kanban/internal/wire/call"
)

// Opener gives interfaces with their secrets.
type Opener interface {
	Open(ctx context.Context, interfaceID string) (Interface, error)
}

// Interface is what speaks one protocol with an outside system, with its secrets open.
type Interface struct {
	ID       string
	Name     string
	Kind     string
	Settings map[string]string
	Secret   map[string]string
	System   System
	// Bearer gives the token of one that is let in by signing in; see call.Options. nil for all others.
	Bearer func(ctx context.Context, refused string) (token string, err error)
}

// System is what holds for all interfaces of an outside system together.
type System struct {
	ID        string // of the connection
	AtOnce    int    // calls at a time, 0 for no limit of its own
	PerMinute int    // the same in a minute
}

// The kinds, named for the protocol that is spoken.
const (
	KindOneRoster = "oneroster"
	KindCSV       = "oneroster-csv"
	KindSCIM      = "scim"
	KindXAPI      = "xapi"
	KindWebhook   = "webhook"
	KindEvents    = "cloudevents"
	KindSMTP      = "smtp"
	KindHTTP      = "http-api"
	KindPickup    = "oneroster-delta"
	KindGradebook = "oneroster-gradebook"
	KindScoreFile = "oneroster-gradebook-csv"
	KindLTI       = "lti"
)

// What becomes of a batch of statements in which some are faulty.
const (
	RefuseAll  = "refuse all"
	TakeOthers = "take the others"
)

// What becomes of the content of statements' attachments.
const (
	DropAttachments = "drop"
	KeepAttachments = "keep"
)

// Which redirects of a service that takes events are followed.
const (
	RefuseRedirects = "refuse"
	PublicRedirects = "to public addresses"
	AllRedirects    = "to any address"
)

// Capability is something an interface can do for Kanban.
type Capability string

// The capabilities.
const (
	PeopleIn         Capability = "people-in"
	PeopleOut        Capability = "people-out"
	LearningEventsIn Capability = "learning-events-in"
	EventsIn         Capability = "events-in"
	MessagesOut      Capability = "messages-out"
	ScoresIn         Capability = "scores-in"
	ScoresOut        Capability = "scores-out"
	PagesIn          Capability = "course-pages"
)

// Field is one value to enter for an interface.
type Field struct {
	Name     string   `json:"name"`
	Title    string   `json:"title"`
	Help     string   `json:"help" doc:"Where to find the value and what it looks like"`
	Secret   bool     `json:"secret" doc:"Never shown again after entry"`
	Required bool     `json:"required"`
	Default  string   `json:"default,omitempty"`
	Options  []string `json:"options,omitempty" doc:"The values to choose from"`
	Address  bool     `json:"address,omitempty" doc:"Must be a full http or https address"`
	Number   bool     `json:"number,omitempty" doc:"Must be a whole number, 0 or more"`
	Template bool     `json:"template,omitempty" doc:"Must be an address with {…} where something of each record goes"`
	Date     bool     `json:"date,omitempty" doc:"Must be a day, such as 2027-08-31"`
	Rare     bool     `json:"rare,omitempty" doc:"Seldom has to be touched"`
	// SignIn is for what says where somebody signs in, and for what is sent there only.
	SignIn bool `json:"-"`
	// Made values are made by Kanban, to be entered at the other side.
	Made bool `json:"made,omitempty" doc:"Made by Kanban, to be entered at the other side"`
}

// Kind describes one kind of interface.
type Kind struct {
	Name         string       `json:"name"`
	Title        string       `json:"title"`
	Short        string       `json:"short" doc:"What it is for in a word or two: the label of a further interface"`
	About        string       `json:"about"`
	Hears        []string     `json:"hears,omitempty" doc:"What can be heard from it"`
	Does         []string     `json:"does,omitempty" doc:"What can be done there"`
	Given        string       `json:"given" doc:"Who at the other side gives the values"`
	Rights       string       `json:"rights" doc:"Which rights the credential needs there"`
	Fields       []Field      `json:"fields"`
	Capabilities []Capability `json:"capabilities"`
}

// What an end date of a register means.
const (
	LastDay  = "its last day"
	DayAfter = "the day after it"
)

// Dates says what a register's end dates mean.
type Dates struct {
	// Whether the end date of an enrolment, or of a session, is the first day after it.
	EnrolmentEndsAfter, SessionEndsAfter bool
}

// DatesOf says what the end dates of a register mean that has these settings.
func DatesOf(settings map[string]string) Dates {
	return Dates{
		EnrolmentEndsAfter: settings["enrolmentEnd"] == DayAfter,
		SessionEndsAfter:   settings["sessionEnd"] != LastDay,
	}
}

// FieldError says which value is wrong and how it should be.
type FieldError struct{ Field, Problem string }

func (e *FieldError) Error() string { return e.Field + ": " + e.Problem }

// Field is one of the kind's fields by its name, empty when it has none of that name.
func (k Kind) Field(name string) Field {
	for _, f := range k.Fields {
		if f.Name == name {
			return f
		}
	}
	return Field{}
}

// Check reports every value that is missing, unknown or of the wrong form.
// Values are given by field name, secrets among them.
func (k Kind) Check(values map[string]string) error {
	var errs []error
	fail := func(field, format string, args ...any) {
		errs = append(errs, &FieldError{field, fmt.Sprintf(format, args...)})
	}
	for name := range values {
		if !slices.ContainsFunc(k.Fields, func(f Field) bool { return f.Name == name }) {
			fail(name, "an interface of kind %s has no such value", k.Name)
		}
	}
	for _, f := range k.Fields {
		v := values[f.Name]
		switch {
		case v == "" && f.Required && !(f.Name == "token" && SignsIn(values)):
			fail(f.Name, "is missing. %s", f.Help)
		case v == "":
		case v != strings.TrimSpace(v):
			fail(f.Name, "has white space at its beginning or end; was it pasted whole?")
		case len(f.Options) > 0 && !slices.Contains(f.Options, v):
			fail(f.Name, "must be one of %s", strings.Join(f.Options, ", "))
		case f.Number:
			if n, err := strconv.Atoi(v); err != nil || n < 0 {
				fail(f.Name, "must be a whole number, 0 or more")
			}
		case f.Address:
			if u, err := url.Parse(v); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
				fail(f.Name, "is not a full address. %s", f.Help)
			}
		case f.Template:
			if wrong := badTemplate(f.Name, v); wrong != "" {
				fail(f.Name, "%s", wrong)
			}
		}
		if wrong := badSignIn(f.Name, values); wrong != "" {
			fail(f.Name, "%s", wrong)
		}
		if wrong := k.shape(f, values); v != "" && wrong != "" {
			fail(f.Name, "%s", wrong)
		}
	}
	slices.SortFunc(errs, func(a, b error) int { return strings.Compare(a.Error(), b.Error()) })
	return errors.Join(errs...)
}

// Lacking gives the kind of an interface whose secrets of these names are still to come: it may be
// without them.
func (k Kind) Lacking(secrets ...string) Kind {
	k.Fields = slices.Clone(k.Fields)
	for i, f := range k.Fields {
		if f.Secret && slices.Contains(secrets, f.Name) {
			k.Fields[i].Required = false
		}
	}
	return k
}

// Missing lists the secrets that an interface needs and has not among its values, with their titles.
func (k Kind) Missing(values map[string]string) (names, titles []string) {
	for _, f := range k.Fields {
		if f.Secret && f.Required && values[f.Name] == "" && !(f.Name == "token" && SignsIn(values)) {
			names, titles = append(names, f.Name), append(titles, f.Title)
		}
	}
	return names, titles
}

// State is what a probe says about one capability.
type State string

// The states; those that are not Works are different answers, because
// different people mend them.
const (
	Works           State = "works"
	NotEnabled      State = "not-enabled"
	NotThere        State = "nothing-there"
	NotAllowed      State = "not-allowed"
	WrongCredential State = "wrong-credential"
	Broken          State = "broken"
	Unreachable     State = "unreachable"
	Unproven        State = "unproven" // nothing is wrong, but nothing has come yet
)

// Report is what a probe found about one capability.
type Report struct {
	Capability Capability   `json:"capability"`
	State      State        `json:"state" enum:"works,not-enabled,nothing-there,not-allowed,wrong-credential,broken,unreachable,unproven"`
	Code       finding.Code `json:"code,omitempty"`
	Detail     string       `json:"detail" doc:"The service's own words, or what was tried"`
}

// ReportOf sorts the error of a probe; nil means that it works.
func ReportOf(c Capability, detail string, err error) Report {
	if err == nil {
		return Report{Capability: c, State: Works, Detail: detail}
	}
	r := Report{Capability: c, Code: CodeOf(err), Detail: err.Error(), State: Broken}
	if p, ok := call.As(err); ok && p.Kind == call.NotFound {
		r.Detail += ". Nothing is at the address that was tried: check the address for a wrong or missing part"
	}
	switch r.Code {
	case finding.Unreachable:
		r.State = Unreachable
	case finding.WrongCredential:
		r.State = WrongCredential
	case finding.NotAllowed:
		r.State = NotAllowed
	case finding.NotEnabled:
		r.State = NotEnabled
	case finding.NotThere:
		r.State = NotThere
	}
	return r
}

// IsRegister reports whether a kind of interface is a register, which is read
// into the mirror.
func IsRegister(kind string) bool { return kind == KindOneRoster || kind == KindCSV }

// IsGradebook reports whether scores are carried from a kind of interface, or to it.
func IsGradebook(kind string) bool { return kind == KindGradebook || kind == KindScoreFile }
