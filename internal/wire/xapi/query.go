package xapi

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
)

// Voided is the verb that voids another statement (Data 2.3.2).
const Voided = ADL + "voided"

// StatementRef is the object type of a reference to another statement (Data 2.4.4.3).
const StatementRef = "StatementRef"

// MostStatements is how many statements one page has at most.
const MostStatements = 500

// Query is what a GET of statements asks for (Communication 2.1.3).
type Query struct {
	StatementID       string    `json:"id,omitempty"`
	VoidedStatementID string    `json:"vid,omitempty"`
	Agent             *Agent    `json:"ag,omitempty"`
	Verb              string    `json:"v,omitempty"`
	Activity          string    `json:"a,omitempty"`
	Registration      string    `json:"r,omitempty"`
	RelatedActivities bool      `json:"ra,omitempty"`
	RelatedAgents     bool      `json:"rg,omitempty"`
	Since             time.Time `json:"s,omitzero"`
	Until             time.Time `json:"u,omitzero"`
	Limit             int       `json:"l"` // 1 to MostStatements
	Format            string    `json:"f,omitempty"`
	Ascending         bool      `json:"asc,omitempty"`
	Attachments       bool      `json:"at,omitempty"`
	After             int64     `json:"n,omitempty"` // where the page before ended
}

// Single reports whether one statement is asked for.
func (q Query) Single() bool { return q.StatementID+q.VoidedStatementID != "" }

// ParseQuery reads the parameters of a GET. Unknown ones, and those that do not go
// together, are errors.
func ParseQuery(v url.Values) (q Query, err error) {
	fail := func(name, problem string) (Query, error) {
		return q, fmt.Errorf("%w: parameter %s: %s", ErrStatement, name, problem)
	}
	flags := map[string]*bool{
		"related_activities": &q.RelatedActivities, "related_agents": &q.RelatedAgents,
		"ascending": &q.Ascending, "attachments": &q.Attachments,
	}
	texts := map[string]*string{
		"statementId": &q.StatementID, "voidedStatementId": &q.VoidedStatementID,
		"verb": &q.Verb, "activity": &q.Activity, "registration": &q.Registration, "format": &q.Format,
	}
	times := map[string]*time.Time{"since": &q.Since, "until": &q.Until}
	q.Limit = MostStatements
	for name := range v {
		value := v.Get(name)
		switch {
		case len(v[name]) != 1:
			return fail(name, "is given more than once")
		case strings.ContainsRune(value, 0) || !utf8.ValidString(value):
			return fail(name, "holds what is no text")
		case flags[name] != nil:
			if *flags[name], err = strconv.ParseBool(value); err != nil {
				return fail(name, "is true or false")
			}
		case texts[name] != nil:
			*texts[name] = value
		case times[name] != nil:
			if *times[name], err = time.Parse(time.RFC3339Nano, value); err != nil {
				return fail(name, "is no time such as 2026-01-15T09:00:00Z")
			}
		case name == "limit":
			n, err := strconv.Atoi(value)
			if err != nil || n < 0 {
				return fail(name, "is no whole number")
			}
			if n > 0 {
				q.Limit = min(n, MostStatements)
			}
		case name == "agent":
			q.Agent = &Agent{}
			if err := json.Unmarshal([]byte(value), q.Agent); err != nil || q.Agent.identifiers() != 1 ||
				strings.ContainsRune(q.Agent.Key(), 0) {
				return fail(name, "is no agent with exactly one identifier")
			}
		default:
			return fail(name, "is not one that the standard knows")
		}
	}
	return q, q.check(v)
}

func (q *Query) check(v url.Values) error {
	fail := func(format string, args ...any) error {
		return fmt.Errorf("%w: "+format, append([]any{ErrStatement}, args...)...)
	}
	for _, id := range []string{q.StatementID, q.VoidedStatementID, q.Registration} {
		if _, err := uuid.Parse(id); id != "" && (err != nil || len(id) != 36) {
			return fail("%q is not a UUID", id)
		}
	}
	if !slices.Contains([]string{"", "exact", "ids", "canonical"}, q.Format) {
		return fail("format %q is not one of ids, exact, canonical", q.Format)
	}
	if !q.Single() {
		return nil
	}
	if q.StatementID != "" && q.VoidedStatementID != "" {
		return fail("statementId and voidedStatementId exclude each other")
	}
	for name := range v {
		if !slices.Contains([]string{"statementId", "voidedStatementId", "attachments", "format"}, name) {
			return fail("%s cannot be given together with an id", name)
		}
	}
	return nil
}

// More writes the query as the last part of the address of its next page.
func (q Query) More(after int64) string {
	q.After = after
	text, _ := json.Marshal(q) // has nothing that cannot be written
	return base64.RawURLEncoding.EncodeToString(text)
}

// ParseMore reads what More wrote.
func ParseMore(text string) (q Query, err error) {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(raw, &q)
	}
	if err != nil || q.Limit < 1 || q.Limit > MostStatements {
		return q, fmt.Errorf("%w: this is not the address of a next page", ErrStatement)
	}
	return q, nil
}

// Key is the same for two agents who are the same person: who have the same inverse functional
// identifier (Data 2.4.2.3).
func (a Agent) Key() string {
	switch {
	case a.Mbox != "":
		return a.Mbox
	case a.MboxSHA1 != "":
		return a.MboxSHA1
	case a.OpenID != "":
		return a.OpenID
	case a.Account != nil:
		return a.Account.HomePage + " " + a.Account.Name
	}
	return ""
}

// Path is a JSON path (SQL/JSON) that finds the agent anywhere in a statement.
func (a Agent) Path() string {
	quote := func(s string) string {
		text, _ := json.Marshal(s)
		return string(text)
	}
	switch {
	case a.Mbox != "":
		return `$.** ? (@.mbox == ` + quote(a.Mbox) + `)`
	case a.MboxSHA1 != "":
		return `$.** ? (@.mbox_sha1sum == ` + quote(a.MboxSHA1) + `)`
	case a.OpenID != "":
		return `$.** ? (@.openid == ` + quote(a.OpenID) + `)`
	}
	return `$.** ? (@.account.name == ` + quote(a.Account.Name) + ` && @.account.homePage == ` + quote(a.Account.HomePage) + `)`
}

// Stored completes a statement as it was sent with what the receiver sets (Data
// 2.4.7 to 2.4.10). With format ids only what identifies agents, activities and
// verbs is left.
func Stored(body json.RawMessage, id string, at time.Time, authority Agent, format string) (json.RawMessage, error) {
	var m map[string]any
	if err := exact(body, &m); err != nil {
		return nil, err
	}
	stored := at.UTC().Format("2006-01-02T15:04:05.000Z")
	m["id"], m["stored"], m["authority"] = id, stored, authority
	if m["timestamp"] == nil {
		m["timestamp"] = stored
	}
	if m["version"] == nil {
		m["version"] = "1.0.0"
	}
	if format == "ids" {
		bare(m)
	}
	return json.Marshal(m)
}

// bare drops names, displays and definitions.
func bare(x any) {
	switch x := x.(type) {
	case map[string]any:
		if x["mbox"] != nil || x["account"] != nil || x["openid"] != nil || x["mbox_sha1sum"] != nil {
			delete(x, "name")
		}
		delete(x, "definition")
		delete(x, "display")
		for _, v := range x {
			bare(v)
		}
	case []any:
		for _, v := range x {
			bare(v)
		}
	}
}

// Lists in the context may come as one bare object; they are given as lists.
var contextLists = []string{"parent", "grouping", "category", "other"}

// Listed writes every list of context activities as a list (Data 2.4.6.2).
func Listed(body json.RawMessage) json.RawMessage {
	var m map[string]any
	if !strings.Contains(string(body), "contextActivities") || exact(body, &m) != nil {
		return body
	}
	context, _ := m["context"].(map[string]any)
	activities, _ := context["contextActivities"].(map[string]any)
	for _, name := range contextLists {
		if one, ok := activities[name].(map[string]any); ok {
			activities[name] = []any{one}
		}
	}
	text, err := json.Marshal(m)
	if err != nil {
		return body
	}
	return text
}
