// Package xapi reads and writes xAPI 1.0.3 statements.
//
//	statements, err := xapi.Parse(body)
//	for _, s := range statements { fmt.Println(s.Actor, s.Verb.ID, s.Object.ID) }
package xapi

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	strict "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/google/uuid"
)

// Version spoken, sent and required in the header X-Experience-API-Version.
const (
	Version       = "1.0.3"
	VersionHeader = "X-Experience-API-Version"
)

// ADL is the prefix of the verbs used here (xAPI vocabulary of ADL).
const ADL = "http://adlnet.gov/expapi/verbs/"

// Account names an agent within a system (xAPI 1.0.3 Data 2.4.2.4).
type Account struct {
	HomePage string `json:"homePage"`
	Name     string `json:"name"`
}

// Agent is who did something; exactly one of Mbox and Account identifies them
// here. Other identifiers are accepted and kept but match nobody.
type Agent struct {
	ObjectType string   `json:"objectType,omitempty"`
	Name       string   `json:"name,omitempty"`
	Mbox       string   `json:"mbox,omitempty"`
	MboxSHA1   string   `json:"mbox_sha1sum,omitempty"`
	OpenID     string   `json:"openid,omitempty"`
	Account    *Account `json:"account,omitempty"`
}

// Verb is what was done (Data 2.4.3): an IRI, and what it is called by language tag (RFC 5646).
type Verb struct {
	ID      string            `json:"id"`
	Display map[string]string `json:"display,omitempty"`
}

// Definition describes an activity (Data 2.4.4.1): its name by language tag (RFC 5646), and the
// IRI of its type.
type Definition struct {
	Name map[string]string `json:"name,omitempty"`
	Type string            `json:"type,omitempty"`
}

// Object is what it was done to; only activities lead to facts.
type Object struct {
	ObjectType string      `json:"objectType,omitempty"`
	ID         string      `json:"id"`
	Definition *Definition `json:"definition,omitempty"`
}

// Score of a result (Data 2.4.5.1): Scaled lies in [-1, 1], Raw between Min and Max, in units of
// the platform's own; what is nil was not said.
type Score struct {
	Scaled *float64 `json:"scaled,omitempty"`
	Raw    *float64 `json:"raw,omitempty"`
	Min    *float64 `json:"min,omitempty"`
	Max    *float64 `json:"max,omitempty"`
}

// Result of doing it (Data 2.4.5); what is nil was not said.
type Result struct {
	Score      *Score `json:"score,omitempty"`
	Success    *bool  `json:"success,omitempty"`
	Completion *bool  `json:"completion,omitempty"`
}

// Activities is a list that may come as one bare object (Data 2.4.6.2).
type Activities []Object

// UnmarshalJSON reads a list or one object.
func (a *Activities) UnmarshalJSON(text []byte) error {
	if t := bytes.TrimSpace(text); len(t) > 0 && t[0] == '{' {
		var one Object
		if err := json.Unmarshal(t, &one); err != nil {
			return err
		}
		*a = Activities{one}
		return nil
	}
	return json.Unmarshal(text, (*[]Object)(a))
}

// Context holds what surrounds a statement (Data 2.4.6): parent is the module, grouping the
// course and the section.
type Context struct {
	Registration      string `json:"registration,omitempty"`
	ContextActivities struct {
		Parent   Activities `json:"parent,omitempty"`
		Grouping Activities `json:"grouping,omitempty"`
	} `json:"contextActivities,omitzero"`
}

// Statement is one statement (Data 2.4).
type Statement struct {
	ID        string    `json:"id,omitempty"`
	Actor     Agent     `json:"actor"`
	Verb      Verb      `json:"verb"`
	Object    Object    `json:"object"`
	Result    *Result   `json:"result,omitempty"`
	Context   *Context  `json:"context,omitempty"`
	Timestamp time.Time `json:"timestamp,omitzero"`
	Version   string    `json:"version,omitempty"`
}

// ErrStatement is wrapped by every error about a statement.
var ErrStatement = errors.New("not a valid statement")

// Fault is a statement that cannot be taken, and why.
type Fault struct {
	Index  int    `json:"index"` // in the batch, from 0
	Detail string `json:"detail"`
}

// Faults are all the faulty statements of a batch.
type Faults []Fault

// Error tells about the first, and how many more there are.
func (f Faults) Error() string {
	text := fmt.Sprintf("statement %d: %s", f[0].Index, f[0].Detail)
	if n := len(f) - 1; n > 0 {
		text += fmt.Sprintf(" (and %d more)", n)
	}
	return text
}

// Is makes every fault an ErrStatement.
func (f Faults) Is(target error) bool { return target == ErrStatement }

// Parse reads one statement or an array of them. When some of them are not valid the
// error is Faults with the position of each, and the others are returned: a batch is
// taken whole or not at all (Communication 2.1.2) unless the two sides agreed otherwise.
func Parse(body []byte) ([]Statement, []json.RawMessage, error) {
	var list []jsontext.Value
	if t := bytes.TrimSpace(body); len(t) > 0 && t[0] == '{' {
		list = []jsontext.Value{t}
	} else if err := strict.Unmarshal(body, &list); err != nil {
		return nil, nil, fmt.Errorf("%w: the body is neither a statement nor a list: %w", ErrStatement, err)
	}
	var faults Faults
	statements, raw := make([]Statement, 0, len(list)), make([]json.RawMessage, 0, len(list))
	ids := make(map[string]bool, len(list))
	for i, text := range list {
		var s Statement
		err := strict.Unmarshal(text, &s)
		if err != nil {
			err = fmt.Errorf("%w: %w", ErrStatement, err)
		} else {
			if err = s.Check(); err == nil {
				err = numbers(text)
			}
		}
		if s.ID = strings.ToLower(s.ID); err == nil && ids[s.ID] {
			err = fmt.Errorf("%w: the id %s stands twice in the batch", ErrStatement, s.ID)
		}
		if err != nil {
			faults = append(faults, Fault{i, err.Error()})
			continue
		}
		ids[s.ID] = s.ID != ""
		statements, raw = append(statements, s), append(raw, json.RawMessage(text))
	}
	if faults != nil {
		return statements, raw, faults
	}
	return statements, raw, nil
}

// mostIRI is how long what identifies an actor, a verb or an object may be, in bytes.
const mostIRI = 2_000

// Check reports the first thing that is wrong with the statement (Data 2.2 and 2.4), an
// ErrStatement.
func (s Statement) Check() error {
	fail := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrStatement, fmt.Sprintf(format, args...))
	}
	if s.ID != "" {
		if _, err := uuid.Parse(s.ID); err != nil || len(s.ID) != 36 {
			return fail("id %q is not a UUID", s.ID)
		}
	}
	if s.Context != nil && s.Context.Registration != "" {
		if _, err := uuid.Parse(s.Context.Registration); err != nil || len(s.Context.Registration) != 36 {
			return fail("context.registration %q is not a UUID", s.Context.Registration)
		}
	}
	for name, text := range map[string]string{
		"actor": s.Actor.Key(), "verb.id": s.Verb.ID,
		"object.id": s.Object.ID,
	} {
		if len(text) > mostIRI {
			return fail("%s has %d bytes, at most %d can be used", name, len(text), mostIRI)
		}
	}
	if s.Version != "" && !strings.HasPrefix(s.Version, "1.0") {
		return fail("version %q is not 1.0.x", s.Version)
	}
	switch n := s.Actor.identifiers(); {
	case n != 1:
		return fail("actor has %d identifiers, exactly one of mbox, mbox_sha1sum, openid and account is needed", n)
	case s.Actor.Mbox != "" && !strings.HasPrefix(s.Actor.Mbox, "mailto:"):
		return fail("actor.mbox %q does not start with mailto:", s.Actor.Mbox)
	case s.Actor.Account != nil && (s.Actor.Account.Name == "" || !isIRI(s.Actor.Account.HomePage)):
		return fail("actor.account needs a name and a homePage that is an IRI")
	case !isIRI(s.Verb.ID):
		return fail("verb.id %q is not an IRI", s.Verb.ID)
	case s.Verb.ID == Voided && (s.Object.ObjectType != StatementRef || len(s.Object.ID) != 36):
		return fail("what voids names the statement to void: an object of type %s with its id", StatementRef)
	case s.Object.ObjectType != "" && s.Object.ObjectType != "Activity":
		return nil // stored, but nothing follows from it here
	case !isIRI(s.Object.ID):
		return fail("object.id %q is not an IRI", s.Object.ID)
	}
	if s.Result != nil && s.Result.Score != nil {
		if v := s.Result.Score.Scaled; v != nil && (*v < -1 || *v > 1) {
			return fail("result.score.scaled %v is not between -1 and 1", *v)
		}
	}
	return nil
}

func (a Agent) identifiers() int {
	n := 0
	for _, set := range []bool{a.Mbox != "", a.MboxSHA1 != "", a.OpenID != "", a.Account != nil} {
		if set {
			n++
		}
	}
	return n
}

// Address is the agent's e-mail address, or "".
func (a Agent) Address() string { return strings.TrimPrefix(a.Mbox, "mailto:") }

func isIRI(text string) bool {
	u, err := url.Parse(text)
	return err == nil && u.Scheme != "" && len(text) > len(u.Scheme)+1
}
