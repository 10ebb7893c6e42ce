// Package xapi reads and writes xAPI statements, of 1.0.3 and of 2.0 (IEEE 9274.1.1).
//
//	statements, err := xapi.Parse(body)
//	for _, s := range statements { fmt.Println(s.Actor, s.Verb.ID, s.Object.ID) }
package xapi

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"time"

	strict "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/google/uuid"
)

// Version spoken, sent and required in the header X-Experience-API-Version.
const (
	Version       = "1.0.3"
	Version2      = "2.0.0"
	VersionHeader = "X-Experience-API-Version"
)

// ADL is the prefix of the verbs used here (xAPI vocabulary of ADL).
const ADL = "http://adlnet.gov/expapi/verbs/"

// Account names an agent within a system (xAPI 1.0.3 Data 2.4.2.4).
type Account struct {
	HomePage string `json:"homePage"`
	Name     string `json:"name"`
}

// Agent is who did something (Data 2.4.2); exactly one of Mbox and Account identifies them
// here. Other identifiers are accepted and kept but match nobody. A group without any is its
// members, and is nobody either.
type Agent struct {
	ObjectType string   `json:"objectType,omitempty"`
	Name       string   `json:"name,omitempty"`
	Mbox       string   `json:"mbox,omitempty"`
	MboxSHA1   string   `json:"mbox_sha1sum,omitempty"`
	OpenID     string   `json:"openid,omitempty"`
	Account    *Account `json:"account,omitempty"`
	Member     []Agent  `json:"member,omitempty"` // of a group
}

// Group is the object type of an actor that is several agents (Data 2.4.2.2).
const Group = "Group"

// Extensions are what a sender adds, each under a key that is an IRI (Data 4.1).
type Extensions map[string]json.RawMessage

// Verb is what was done (Data 2.4.3): an IRI, and what it is called by language tag (RFC 5646).
type Verb struct {
	ID      string            `json:"id"`
	Display map[string]string `json:"display,omitempty"`
}

// Definition describes an activity (Data 2.4.4.1): its name by language tag (RFC 5646), and the
// IRI of its type.
type Definition struct {
	Name        map[string]string `json:"name,omitempty"`
	Description map[string]string `json:"description,omitempty"`
	Type        string            `json:"type,omitempty"`
	MoreInfo    string            `json:"moreInfo,omitempty"`
	Extensions  Extensions        `json:"extensions,omitempty"`
	Interaction
}

// Interaction says how a question is answered (Data 2.4.4.1, "Interaction Activities"); nothing follows from
// it here.
type Interaction struct {
	InteractionType         string         `json:"interactionType,omitempty"`
	CorrectResponsesPattern jsontext.Value `json:"correctResponsesPattern,omitempty"`
	Choices                 jsontext.Value `json:"choices,omitempty"`
	Scale                   jsontext.Value `json:"scale,omitempty"`
	Source                  jsontext.Value `json:"source,omitempty"`
	Target                  jsontext.Value `json:"target,omitempty"`
	Steps                   jsontext.Value `json:"steps,omitempty"`
}

// Object is what it was done to; only activities lead to facts.
type Object struct {
	ObjectType string      `json:"objectType,omitempty"`
	ID         string      `json:"id"`
	Definition *Definition `json:"definition,omitempty"`
	*Others
}

// Others is what an object has that is an agent, a group or a statement within the statement (Data 2.4.4.2
// and 2.4.4.3). It is kept as it came; nothing follows from it.
type Others struct {
	Name        string         `json:"name,omitempty"`
	Mbox        string         `json:"mbox,omitempty"`
	MboxSHA1    string         `json:"mbox_sha1sum,omitempty"`
	OpenID      string         `json:"openid,omitempty"`
	Account     *Account       `json:"account,omitempty"`
	Member      []Agent        `json:"member,omitempty"`
	Actor       *Agent         `json:"actor,omitempty"`
	Verb        *Verb          `json:"verb,omitempty"`
	Object      *Object        `json:"object,omitempty"`
	Result      *Result        `json:"result,omitempty"`
	Context     *Context       `json:"context,omitempty"`
	Timestamp   string         `json:"timestamp,omitempty"`
	Attachments jsontext.Value `json:"attachments,omitempty"`
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
	Score      *Score     `json:"score,omitempty"`
	Success    *bool      `json:"success,omitempty"`
	Completion *bool      `json:"completion,omitempty"`
	Response   string     `json:"response,omitempty"`
	Duration   string     `json:"duration,omitempty"` // ISO 8601, such as PT20M30.5S (Data 4.6)
	Extensions Extensions `json:"extensions,omitempty"`
}

// Activities is a list that may come as one bare object (Data 2.4.6.2).
type Activities []Object

// UnmarshalJSON reads a list or one object.
func (a *Activities) UnmarshalJSON(text []byte) error { return strict.Unmarshal(text, a) }

// UnmarshalJSONFrom reads a list or one object.
func (a *Activities) UnmarshalJSONFrom(from *jsontext.Decoder) error {
	if from.PeekKind() != '{' {
		return strict.UnmarshalDecode(from, (*[]Object)(a))
	}
	var one Object
	err := strict.UnmarshalDecode(from, &one)
	*a = Activities{one}
	return err
}

// Context holds what surrounds a statement (Data 2.4.6): parent is the module, grouping the
// course and the section.
type Context struct {
	Registration      string  `json:"registration,omitempty"`
	Instructor        *Agent  `json:"instructor,omitempty"`
	Team              *Agent  `json:"team,omitempty"`
	Revision          string  `json:"revision,omitempty"`
	Platform          string  `json:"platform,omitempty"`
	Language          string  `json:"language,omitempty"`
	Statement         *Object `json:"statement,omitempty"` // a StatementRef
	ContextActivities struct {
		Parent   Activities `json:"parent,omitempty"`
		Grouping Activities `json:"grouping,omitempty"`
		Category Activities `json:"category,omitempty"`
		Other    Activities `json:"other,omitempty"`
	} `json:"contextActivities,omitzero"`
	Extensions Extensions `json:"extensions,omitempty"`

	// Who else has to do with it, of xAPI 2.0 only; nothing follows from it here.
	ContextAgents []ContextAgent `json:"contextAgents,omitempty"`
	ContextGroups []ContextGroup `json:"contextGroups,omitempty"`
}

// ContextAgent is an agent who has to do with a statement, and in which capacities (xAPI 2.0, 4.2.5).
type ContextAgent struct {
	ObjectType    string   `json:"objectType"` // contextAgent
	Agent         *Agent   `json:"agent"`
	RelevantTypes []string `json:"relevantTypes,omitempty"` // IRIs
}

// ContextGroup is the same of a group.
type ContextGroup struct {
	ObjectType    string   `json:"objectType"` // contextGroup
	Group         *Agent   `json:"group"`
	RelevantTypes []string `json:"relevantTypes,omitempty"` // IRIs
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

	// What a statement may hold besides: it is kept as it came, and nothing follows from it.
	Stored      string         `json:"stored,omitempty"`
	Authority   *Agent         `json:"authority,omitempty"`
	Attachments jsontext.Value `json:"attachments,omitempty"`
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

// Parse reads one statement or an array of them, beside which the content of attachments may have come.
// When some of them are not valid the error is Faults with the position of each, and the others are
// returned: a batch is taken whole or not at all (Communication 2.1.2) unless the two sides agreed otherwise.
func Parse(body []byte, parts ...Attachment) ([]Statement, []json.RawMessage, error) {
	return ParseVersion(Version, body, parts...)
}

// ParseVersion reads statements of a version, which was named with them: Version or Version2. A statement of
// 2.0 that does not name it gets it.
func ParseVersion(version string, body []byte, parts ...Attachment) ([]Statement, []json.RawMessage, error) {
	var list []jsontext.Value
	if t := bytes.TrimSpace(body); len(t) > 0 && t[0] == '{' {
		list = []jsontext.Value{t}
	} else if err := strict.Unmarshal(body, &list); err != nil {
		return nil, nil, fmt.Errorf("%w: the body is neither a statement nor a list: %w", ErrStatement, err)
	}
	var faults Faults
	statements, raw := make([]Statement, 0, len(list)), make([]json.RawMessage, 0, len(list))
	ids := make(map[string]bool, len(list))
	came, named := make(map[string]bool, len(parts)), map[string]bool{}
	for _, p := range parts {
		came[p.SHA2] = true
	}
	for i, text := range list {
		var s Statement
		err := strict.Unmarshal(text, &s, strict.RejectUnknownMembers(true)) // Data 2.2
		if err != nil {
			err = fmt.Errorf("%w: %w", ErrStatement, err)
		} else {
			if err = s.CheckVersion(version); err == nil {
				err = numbers(text)
			}
			if err == nil && version == Version2 && s.Version == "" {
				s.Version = Version2
				text, err = withVersion(text)
			}
			hashes, wrong := s.checkAttachments(came)
			for _, hash := range hashes {
				named[hash] = true
			}
			err = cmp.Or(err, wrong)
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
	for hash := range came {
		if !named[hash] {
			return nil, nil, fmt.Errorf("%w: content came that no statement names: %s", ErrStatement, hash)
		}
	}
	return statements, raw, nil
}

// mostIRI is how long what identifies an actor, a verb or an object may be, in bytes.
const mostIRI = 2_000

// Check reports the first thing that is wrong with the statement (Data 2.2 and 2.4), an
// ErrStatement.
func (s Statement) Check() error { return s.CheckVersion(Version) }

// CheckVersion does so for a statement that came as one of a version, Version or Version2.
func (s Statement) CheckVersion(version string) error {
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
	if second := version == Version2; s.Version != "" && !strings.HasPrefix(s.Version, "1.0") &&
		!(second && strings.HasPrefix(s.Version, "2.0")) {
		return fail("version %q is not %s", s.Version, map[bool]string{true: "2.0.x or 1.0.x", false: "1.0.x"}[second])
	}
	if err := s.Context.checkOthers(version); err != nil {
		return fail("%v", err)
	}
	if err := s.checkParts(); err != nil {
		return fail("%v", err)
	}
	if err := s.Object.check(); err != nil {
		return fail("%v", err)
	}
	switch n := s.Actor.identifiers(); {
	case n == 0 && s.Actor.ObjectType == Group: // its members were looked at
	case n != 1:
		return fail("actor has %d identifiers, exactly one of mbox, mbox_sha1sum, openid and account is needed", n)
	}
	switch {
	case !isIRI(s.Verb.ID):
		return fail("verb.id %q is not an IRI", s.Verb.ID)
	case s.Verb.ID == Voided && (s.Object.ObjectType != StatementRef || len(s.Object.ID) != 36):
		return fail("what voids names the statement to void: an object of type %s with its id", StatementRef)
	case s.Object.ObjectType != "" && s.Object.ObjectType != "Activity":
		return nil // stored, but nothing follows from it here
	case !isIRI(s.Object.ID):
		return fail("object.id %q is not an IRI", s.Object.ID)
	}
	return nil
}

// checkParts looks at actor, result and extensions, whatever the object is.
func (s Statement) checkParts() error {
	if err := s.Actor.check("actor"); err != nil {
		return err
	}
	if s.Actor.ObjectType == Group && s.Actor.identifiers() == 0 && len(s.Actor.Member) == 0 {
		return errors.New("actor is a group without identifier and without members")
	}
	for i, m := range s.Actor.Member {
		name := fmt.Sprintf("actor.member[%d]", i)
		if err := m.check(name); err != nil {
			return err
		}
		if n := m.identifiers(); n != 1 || m.ObjectType == Group {
			return fmt.Errorf("%s is no agent with exactly one identifier", name)
		}
	}
	extensions := map[string]Extensions{}
	if d := s.Object.Definition; d != nil {
		extensions["object.definition.extensions"] = d.Extensions
	}
	if s.Context != nil {
		extensions["context.extensions"] = s.Context.Extensions
	}
	if r := s.Result; r != nil {
		extensions["result.extensions"] = r.Extensions
		if r.Duration != "" && !isDuration(r.Duration) {
			return fmt.Errorf("result.duration %q is no duration such as PT20M30.5S", r.Duration)
		}
		if err := r.Score.check(); err != nil {
			return err
		}
	}
	for name, all := range extensions {
		for key := range all {
			if !isIRI(key) {
				return fmt.Errorf("%s has the key %q, which is not an IRI", name, key)
			}
		}
	}
	return nil
}

// checkOthers looks at who else has to do with a statement.
func (c *Context) checkOthers(version string) error {
	if c == nil || len(c.ContextAgents)+len(c.ContextGroups) == 0 {
		return nil
	}
	if version != Version2 {
		return errors.New("context has contextAgents or contextGroups, which only xAPI 2.0 knows; send the header " +
			VersionHeader + ": " + Version2)
	}
	one := func(name, objectType, wanted string, a *Agent, types []string) error {
		switch {
		case objectType != wanted:
			return fmt.Errorf("%s.objectType is %q, not %s", name, objectType, wanted)
		case a == nil:
			return fmt.Errorf("%s names nobody", name)
		case wanted == "contextGroup" && a.ObjectType != Group, wanted == "contextAgent" && a.ObjectType == Group:
			return fmt.Errorf("%s is no %s", name, strings.ToLower(strings.TrimPrefix(wanted, "context")))
		case a.identifiers() > 1, a.identifiers() == 0 && len(a.Member) == 0:
			return fmt.Errorf("%s needs exactly one of mbox, mbox_sha1sum, openid and account", name)
		case types != nil && len(types) == 0:
			return fmt.Errorf("%s.relevantTypes is empty", name)
		}
		for _, t := range types {
			if !isIRI(t) {
				return fmt.Errorf("%s.relevantTypes has %q, which is not an IRI", name, t)
			}
		}
		return a.check(name)
	}
	for i, x := range c.ContextAgents {
		if err := one(fmt.Sprintf("context.contextAgents[%d]", i), x.ObjectType, "contextAgent", x.Agent,
			x.RelevantTypes); err != nil {
			return err
		}
	}
	for i, x := range c.ContextGroups {
		if err := one(fmt.Sprintf("context.contextGroups[%d]", i), x.ObjectType, "contextGroup", x.Group,
			x.RelevantTypes); err != nil {
			return err
		}
	}
	return nil
}

// withVersion lets a statement say that it is one of 2.0.
func withVersion(text []byte) ([]byte, error) {
	var m map[string]any
	if err := exact(text, &m); err != nil {
		return nil, err
	}
	m["version"] = Version2
	return json.Marshal(m)
}

// check looks at what identifies an agent or a group.
func (a Agent) check(name string) error {
	switch {
	case a.ObjectType != "" && a.ObjectType != "Agent" && a.ObjectType != Group:
		return fmt.Errorf("%s.objectType %q is neither Agent nor Group", name, a.ObjectType)
	case a.Mbox != "" && !strings.HasPrefix(a.Mbox, "mailto:"):
		return fmt.Errorf("%s.mbox %q does not start with the scheme mailto", name, a.Mbox)
	case a.Account != nil && (a.Account.Name == "" || !isIRI(a.Account.HomePage)):
		return fmt.Errorf("%s.account needs a name and a homePage that is an IRI", name)
	}
	return nil
}

// check looks whether an object has only what its type has (Data 2.4.4).
func (o Object) check() error {
	switch o.ObjectType {
	case "", "Activity", StatementRef:
		if o.Others != nil {
			return errors.New("object has properties of an agent or of a statement, and is neither")
		}
		if o.ObjectType == StatementRef && o.Definition != nil {
			return errors.New("object is a reference to a statement, which has no definition")
		}
	case "Agent", Group, "SubStatement":
		if o.ID != "" || o.Definition != nil {
			return fmt.Errorf("object of type %s has properties of an activity", o.ObjectType)
		}
	default:
		return fmt.Errorf("object.objectType %q is none of Activity, Agent, Group, SubStatement and StatementRef",
			o.ObjectType)
	}
	return nil
}

// check looks whether a score lies where it may (Data 2.4.5.1).
func (s *Score) check() error {
	if s == nil {
		return nil
	}
	less := func(a, b *float64) bool { return a != nil && b != nil && *a < *b }
	switch {
	case s.Scaled != nil && (*s.Scaled < -1 || *s.Scaled > 1):
		return fmt.Errorf("result.score.scaled %v is not between -1 and 1", *s.Scaled)
	case less(s.Raw, s.Min):
		return fmt.Errorf("result.score.raw %v is below min %v", *s.Raw, *s.Min)
	case less(s.Max, s.Raw):
		return fmt.Errorf("result.score.raw %v is above max %v", *s.Raw, *s.Max)
	case less(s.Max, s.Min):
		return fmt.Errorf("result.score.min %v is above max %v", *s.Min, *s.Max)
	}
	return nil
}

// durations are those of ISO 8601 (Data 4.6): weeks, or years to seconds, of which the last part
// may have a fraction.
var durations = regexp.MustCompile(`^P(\d+([.,]\d+)?W|(\d+Y)?(\d+M)?(\d+([.,]\d+)?D)?(T(\d+H)?(\d+([.,]\d+)?M)?(\d+([.,]\d+)?S)?)?)$`)

func isDuration(text string) bool {
	return durations.MatchString(text) && text != "P" && !strings.HasSuffix(text, "T")
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
