package xapi

import (
	"bytes"
	"crypto/sha1" //nolint:gosec // the standard names it: it tells contents apart, and keeps nobody out
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
)

// DocumentKind is what a document is about (Communication 2.2).
type DocumentKind string

// The kinds.
const (
	State           DocumentKind = "state"            // of an agent in an activity (2.3)
	ActivityProfile DocumentKind = "activity profile" // 2.7
	AgentProfile    DocumentKind = "agent profile"    // 2.6
)

// Document is what a platform keeps under an id, in whatever form.
type Document struct {
	ContentType string
	Body        []byte
	ETag        string // in quotes
	ChangedAt   time.Time
}

// DocumentQuery says which document, or which documents without an id.
type DocumentQuery struct {
	Kind         DocumentKind
	Activity     string // for State and ActivityProfile
	Agent        Agent  // for State and AgentProfile
	Registration string // for State, in small letters; may be absent
	ID           string
	Since        time.Time // for lists: changed after it
}

// mostDocumentID is how long the id of a document may be, in bytes.
const mostDocumentID = 500

// ParseDocumentQuery reads the parameters of a request about documents. Unknown ones, and those that do not
// go together, are errors.
func ParseDocumentQuery(kind DocumentKind, v url.Values) (q DocumentQuery, err error) {
	q.Kind = kind
	fail := func(name, problem string) (DocumentQuery, error) {
		return q, fmt.Errorf("%w: parameter %s: %s", ErrStatement, name, problem)
	}
	known := map[DocumentKind][]string{
		State:           {"activityId", "agent", "registration", "stateId", "since"},
		ActivityProfile: {"activityId", "profileId", "since"}, AgentProfile: {"agent", "profileId", "since"},
	}[kind]
	for name := range v {
		value := v.Get(name)
		switch {
		case !slices.Contains(known, name):
			return fail(name, "is not one that the standard knows here")
		case len(v[name]) != 1:
			return fail(name, "is given more than once")
		case value == "" || strings.ContainsRune(value, 0) || !utf8.ValidString(value):
			return fail(name, "is empty, or holds what is no text")
		}
		switch name {
		case "activityId":
			if q.Activity = value; !isIRI(value) || len(value) > mostIRI {
				return fail(name, "is no IRI that can be used")
			}
		case "agent":
			if q.Agent, err = ParseAgent(value); err != nil {
				return fail(name, err.Error())
			}
		case "registration":
			if _, err := uuid.Parse(value); err != nil || len(value) != 36 {
				return fail(name, "is no UUID")
			}
			q.Registration = strings.ToLower(value)
		case "stateId", "profileId":
			if q.ID = value; len(value) > mostDocumentID {
				return fail(name, fmt.Sprintf("has %d bytes, at most %d can be used", len(value), mostDocumentID))
			}
		case "since":
			if q.Since, err = time.Parse(time.RFC3339Nano, value); err != nil {
				return fail(name, "is no time such as 2026-01-15T09:00:00Z")
			}
		}
	}
	for _, name := range []string{"activityId", "agent"} {
		if slices.Contains(known, name) && !v.Has(name) {
			return fail(name, "is missing")
		}
	}
	if q.ID != "" && v.Has("since") {
		return fail("since", "cannot be given together with an id")
	}
	return q, nil
}

// ParseAgent reads an agent, or a group that has an identifier, from a parameter.
func ParseAgent(text string) (a Agent, err error) {
	if json.Unmarshal([]byte(text), &a) != nil || a.identifiers() != 1 || strings.ContainsRune(a.Key(), 0) ||
		a.check("agent") != nil {
		return a, errors.New("is no agent with exactly one identifier")
	}
	return a, nil
}

// Place tells what documents are about from anything else, in 32 bytes.
func (q DocumentQuery) Place() []byte {
	sum := sha256.Sum256([]byte(string(q.Kind) + "\x00" + q.Activity + "\x00" + q.Agent.Key()))
	return sum[:]
}

// ETag is the entity tag of a document: the SHA-1 of its content, in quotes (Communication 3.1).
func ETag(body []byte) string {
	sum := sha1.Sum(body) //nolint:gosec // see above
	return `"` + hex.EncodeToString(sum[:]) + `"`
}

// Precondition looks whether a change of a document may be made (Communication 3.1): 0 when it may, 412 when
// the document is not as the sender has seen it, 409 when a profile that is there would be replaced by
// somebody who does not say what they have seen. always makes that hold for states too, as xAPI 2.0 has it.
func Precondition(r *http.Request, kind DocumentKind, before *Document, always bool) int {
	has := func(list string) bool {
		for tag := range strings.SplitSeq(list, ",") {
			if tag = strings.TrimSpace(tag); before != nil && (tag == "*" || tag == before.ETag) {
				return true
			}
		}
		return false
	}
	match, none := r.Header.Get("If-Match"), r.Header.Get("If-None-Match")
	switch {
	case match != "" && !has(match), none != "" && has(none):
		return http.StatusPreconditionFailed
	case match+none == "" && before != nil && r.Method == http.MethodPut && (kind != State || always):
		return http.StatusConflict
	}
	return 0
}

// ErrMerge means that two documents cannot be merged.
var ErrMerge = errors.New("only JSON objects, sent as application/json, can be merged with what is there")

// Merged puts the members of a document over those of the one that is there, nil for none (Communication
// 2.2, "JSON Procedure"). A member that stands in both is replaced as a whole.
func Merged(before *Document, next Document) (Document, error) {
	if before == nil {
		return next, nil
	}
	members := map[string]json.RawMessage{}
	for _, d := range []Document{*before, next} {
		kind, _, err := mime.ParseMediaType(d.ContentType)
		if err != nil || kind != "application/json" || !bytes.HasPrefix(bytes.TrimSpace(d.Body), []byte("{")) ||
			json.Unmarshal(d.Body, &members) != nil {
			return next, ErrMerge
		}
	}
	text, err := json.Marshal(members)
	next.Body = text
	return next, err
}

// Person is everything that is known to identify an agent (Communication 2.4): each value as a list.
type Person struct {
	ObjectType string    `json:"objectType"`
	Name       []string  `json:"name,omitempty"`
	Mbox       []string  `json:"mbox,omitempty"`
	MboxSHA1   []string  `json:"mbox_sha1sum,omitempty"`
	OpenID     []string  `json:"openid,omitempty"`
	Account    []Account `json:"account,omitempty"`
}

// PersonOf gathers what agents who are the same person are known by.
func PersonOf(agents []Agent) Person {
	p := Person{ObjectType: "Person"}
	add := func(to *[]string, text string) {
		if text != "" && !slices.Contains(*to, text) {
			*to = append(*to, text)
		}
	}
	for _, a := range agents {
		add(&p.Name, a.Name)
		add(&p.Mbox, a.Mbox)
		add(&p.MboxSHA1, a.MboxSHA1)
		add(&p.OpenID, a.OpenID)
		if a.Account != nil && !slices.Contains(p.Account, *a.Account) {
			p.Account = append(p.Account, *a.Account)
		}
	}
	return p
}
