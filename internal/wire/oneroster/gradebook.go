package oneroster

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"kanban/internal/wire/call"
)

// GradebookPath of the gradebook service (OneRoster 1.2 REST binding, "Base URL").
// Services of 1.1 have it under BasePath11.
const GradebookPath = "/ims/oneroster/gradebook/v1p2"

// Last parts of the scopes of a gradebook service; before them stands scopePrefix or scopePrefix11.
const (
	ScopeGradebookRead   = "gradebook.readonly"
	ScopeGradebookPut    = "gradebook.createput"
	ScopeGradebookDelete = "gradebook.delete"

	scopePrefix   = "https://purl.imsglobal.org/spec/or/v1p2/scope/"
	scopePrefix11 = "https://purl.imsglobal.org/spec/or/v1p1/scope/"
)

// Scope is a gradebook scope in full, as a version spells it.
func Scope(version Version, last string) string {
	if version == V11 {
		return scopePrefix11 + last
	}
	return scopePrefix + last
}

// Names of the gradebook's files, without ".csv", and of its collections.
const (
	FileCategories  = "categories"
	FileLineItems   = "lineItems"
	FileResults     = "results"
	FileScoreScales = "scoreScales"
)

// FileItemScales says in packages which score scale a line item has; over REST the line item says so itself.
const FileItemScales = "lineItemScoreScales"

// members are the names under which one record stands in a body of its own.
var members = map[string]string{
	FileCategories: "category", FileLineItems: "lineItem", FileResults: "result", FileScoreScales: "scoreScale",
}

// Words of scoreStatus (OneRoster 1.2, "scoreStatus"); a service may add its own.
const (
	ScoreExempt          = "exempt"
	ScoreFullyGraded     = "fully graded"
	ScoreNotSubmitted    = "not submitted"
	ScorePartiallyGraded = "partially graded"
	ScoreSubmitted       = "submitted"
)

// Number is a number that services write as one, or as a text.
type Number float64

// ErrNumber is wrapped by errors about what should be a number and is none.
var ErrNumber = errors.New("not a number")

// ParseNumber reads a number as people and services write one: 87.5, or 87,5 with a comma
// for the decimals. What could be read in two ways, such as 1,234.5, and what has no end is an error.
func ParseNumber(text string) (float64, error) {
	text = strings.TrimSpace(text)
	plain := text
	if strings.Count(text, ",") == 1 && !strings.Contains(text, ".") {
		plain = strings.Replace(text, ",", ".", 1)
	}
	n, err := strconv.ParseFloat(plain, 64)
	if err != nil || math.IsNaN(n) || math.IsInf(n, 0) || strings.ContainsAny(text, "xXpP_") {
		return 0, fmt.Errorf("%w: %q", ErrNumber, text)
	}
	return n, nil
}

// UnmarshalJSON reads a number, or a text that is one.
func (n *Number) UnmarshalJSON(text []byte) error {
	var s string
	if json.Unmarshal(text, &s) != nil {
		s = string(text)
	}
	v, err := ParseNumber(s)
	*n = Number(v)
	return err
}

func (n *Number) text() string {
	if n == nil {
		return ""
	}
	return strconv.FormatFloat(float64(*n), 'f', -1, 64)
}

// Moment is a time, or a day where a service gives no more; the zero Moment is absent.
type Moment struct{ time.Time }

// ParseMoment reads a time (RFC 3339), or a day.
func ParseMoment(text string) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	return ParseDay(text)
}

// UnmarshalJSON reads a time, a day, or "".
func (m *Moment) UnmarshalJSON(text []byte) error {
	var s string
	if err := json.Unmarshal(text, &s); err != nil {
		return fmt.Errorf("%s is not a date", text)
	}
	*m = Moment{}
	if s == "" {
		return nil
	}
	t, err := ParseMoment(s)
	*m = Moment{t}
	return err
}

// MarshalJSON writes the time, or "" for the zero Moment.
func (m Moment) MarshalJSON() ([]byte, error) { return json.Marshal(m.text()) }

func (m Moment) text() string {
	if m.IsZero() {
		return ""
	}
	return m.UTC().Format("2006-01-02T15:04:05.000Z")
}

// Category is a kind of assignment (OneRoster 1.2 gradebook, "Category"; categories.csv). 1.1 has no weight.
type Category struct {
	Base
	Title  string  `json:"title"`
	Weight *Number `json:"weight,omitempty"` // in per cent
}

// LineItem is an assignment (OneRoster 1.2 gradebook, "LineItem"; lineItems.csv).
type LineItem struct {
	Base
	Title           string  `json:"title"`
	Description     string  `json:"description,omitempty"`
	AssignDate      Moment  `json:"assignDate,omitzero"`
	DueDate         Moment  `json:"dueDate,omitzero"`
	Class           Ref     `json:"class"`
	School          *Ref    `json:"school,omitempty"`
	Category        *Ref    `json:"category,omitempty"`
	GradingPeriod   *Ref    `json:"gradingPeriod,omitempty"`
	AcademicSession *Ref    `json:"academicSession,omitempty"`
	ScoreScale      *Ref    `json:"scoreScale,omitempty"`
	ResultValueMin  *Number `json:"resultValueMin,omitempty"`
	ResultValueMax  *Number `json:"resultValueMax,omitempty"`
}

// Result is a person's result of an assignment (OneRoster 1.2 gradebook, "Result"; results.csv).
type Result struct {
	Base
	LineItem    Ref     `json:"lineItem"`
	Student     Ref     `json:"student"`
	Class       *Ref    `json:"class,omitempty"`
	ScoreScale  *Ref    `json:"scoreScale,omitempty"`
	ScoreStatus string  `json:"scoreStatus"`
	Score       *Number `json:"score,omitempty"`
	TextScore   string  `json:"textScore,omitempty"`
	ScoreDate   Moment  `json:"scoreDate,omitzero"`
	Comment     string  `json:"comment,omitempty"`
	InProgress  Bool    `json:"inProgress,omitempty"`
	Incomplete  Bool    `json:"incomplete,omitempty"`
	Late        Bool    `json:"late,omitempty"`
	Missing     Bool    `json:"missing,omitempty"`
}

// ScaleValue is a pair of a score scale: a score in words, and what it stands for.
type ScaleValue struct {
	LHS string `json:"itemValueLHS"`
	RHS string `json:"itemValueRHS"`
}

// ScoreScale says what scores in words are worth (OneRoster 1.2 gradebook, "ScoreScale"; scoreScales.csv).
type ScoreScale struct {
	Base
	Title  string       `json:"title"`
	Type   string       `json:"type"`
	Course *Ref         `json:"course,omitempty"`
	Class  *Ref         `json:"class,omitempty"`
	Values []ScaleValue `json:"scoreScaleValue"`
}

func (c *Category) get(column string) string {
	switch column {
	case "title":
		return c.Title
	case "weight":
		return c.Weight.text()
	}
	return c.Base.get(column)
}

func (l *LineItem) get(column string) string {
	switch column {
	case "title":
		return l.Title
	case "description":
		return l.Description
	case "assignDate":
		return l.AssignDate.text()
	case "dueDate":
		return l.DueDate.text()
	case "classSourcedId":
		return l.Class.SourcedID
	case "schoolSourcedId":
		return l.School.id()
	case "categorySourcedId":
		return l.Category.id()
	case "gradingPeriodSourcedId":
		return l.GradingPeriod.id()
	case "academicSessionSourcedId":
		return l.AcademicSession.id()
	case "scoreScaleSourcedId":
		return l.ScoreScale.id()
	case "resultValueMin":
		return l.ResultValueMin.text()
	case "resultValueMax":
		return l.ResultValueMax.text()
	}
	return l.Base.get(column)
}

func (r *Result) get(column string) string {
	switch column {
	case "lineItemSourcedId":
		return r.LineItem.SourcedID
	case "studentSourcedId":
		return r.Student.SourcedID
	case "classSourcedId":
		return r.Class.id()
	case "scoreScaleSourcedId":
		return r.ScoreScale.id()
	case "scoreStatus":
		return r.ScoreStatus
	case "score":
		return r.Score.text()
	case "textScore":
		return r.TextScore
	case "scoreDate":
		return r.ScoreDate.text()
	case "comment":
		return r.Comment
	case "inProgress":
		return strconv.FormatBool(bool(r.InProgress))
	case "incomplete":
		return strconv.FormatBool(bool(r.Incomplete))
	case "late":
		return strconv.FormatBool(bool(r.Late))
	case "missing":
		return strconv.FormatBool(bool(r.Missing))
	}
	return r.Base.get(column)
}

func (s *ScoreScale) get(column string) string {
	switch column {
	case "title":
		return s.Title
	case "type":
		return s.Type
	case "courseSourcedId":
		return s.Course.id()
	case "classSourcedId":
		return s.Class.id()
	case "scoreScaleValue":
		pairs := make([]string, len(s.Values))
		for i, v := range s.Values {
			pairs[i] = "{" + v.LHS + ":" + v.RHS + "}"
		}
		return strings.Join(pairs, ",")
	}
	return s.Base.get(column)
}

// ScaleValues reads the scoreScaleValue column: "{A:90-100},{B:80-89}".
func ScaleValues(value string) []ScaleValue {
	var list []ScaleValue
	for _, pair := range UserIDs(value) {
		list = append(list, ScaleValue{pair.Type, pair.Identifier})
	}
	return list
}

// NewGradebook speaks with the gradebook service at address, as NewClient does with a
// rostering service. It asks for the scopes named by their last parts.
func NewGradebook(version Version, address, tokenAddress, id, secret string, scopes []string, o call.Options) *Client {
	base := GradebookPath
	if version == V11 {
		base = BasePath11
	}
	full := make([]string, len(scopes))
	for i, s := range scopes {
		full[i] = Scope(version, s)
	}
	return newClient(strings.TrimRight(address, "/")+base, tokenAddress, id, secret, full, o)
}

// Put creates or replaces a record under an id of ours (OneRoster 1.2 gradebook, "PUT").
// It gives the id under which the service has it, which is another one where the service
// answers so. Doing it again does the same.
func (c *Client) Put(ctx context.Context, file, id string, record any) (string, error) {
	body, err := json.Marshal(map[string]any{members[file]: record})
	if err != nil {
		return "", fmt.Errorf("writing %s %s: %w", members[file], id, err)
	}
	answer, err := c.send(ctx, http.MethodPut, c.address+paths[file]+"/"+url.PathEscape(id), body)
	if err != nil {
		return "", fmt.Errorf("writing %s %s: %w", members[file], id, err)
	}
	return allocated(answer.Body, file, id), nil
}

// Delete deletes a record; that there is none is no error (OneRoster 1.2 gradebook, "DELETE").
func (c *Client) Delete(ctx context.Context, file, id string) error {
	_, err := c.send(ctx, http.MethodDelete, c.address+paths[file]+"/"+url.PathEscape(id), nil)
	if p, is := call.As(err); is && (p.Status == http.StatusNotFound || p.Status == http.StatusGone) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("deleting %s %s: %w", members[file], id, err)
	}
	return nil
}

// One reads one record of a collection; found is false when there is none.
func (c *Client) One(ctx context.Context, file, id string) (record Record, found bool, err error) {
	answer, err := c.send(ctx, http.MethodGet, c.address+paths[file]+"/"+url.PathEscape(id), nil)
	if p, is := call.As(err); is && (p.Status == http.StatusNotFound || p.Status == http.StatusGone) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, fmt.Errorf("reading %s %s: %w", members[file], id, err)
	}
	var body map[string]json.RawMessage
	if err := json.Unmarshal(answer.Body, &body); err != nil || body[members[file]] == nil {
		return nil, false, fmt.Errorf("reading %s %s: %w", members[file], id,
			&call.Problem{Kind: call.Broken, Status: answer.Status, Detail: "the answer has no " + members[file]})
	}
	record, err = Parse(file, body[members[file]])
	if err != nil {
		return nil, false, fmt.Errorf("reading %s %s: %w", members[file], id,
			&call.Problem{Kind: call.Broken, Status: answer.Status, Detail: err.Error()})
	}
	return record, true, nil
}

// allocated finds the id under which a service says that it has what was sent as id.
func allocated(body []byte, file, id string) string {
	var pairs struct {
		Pairs []struct {
			Supplied  string `json:"suppliedSourcedId"`
			Allocated string `json:"allocatedSourcedId"`
		} `json:"sourcedIdPairs"`
	}
	if json.Unmarshal(body, &pairs) == nil {
		for _, p := range pairs.Pairs {
			if p.Supplied == id && p.Allocated != "" {
				return p.Allocated
			}
		}
	}
	var one map[string]json.RawMessage
	var base Base
	if json.Unmarshal(body, &one) == nil && json.Unmarshal(one[members[file]], &base) == nil && base.SourcedID != "" {
		return base.SourcedID
	}
	return id
}

// send makes one call with the token, with a new one when the service no longer knows it.
func (c *Client) send(ctx context.Context, method, address string, body []byte) (call.Answer, error) {
	for renewed := false; ; renewed = true {
		if _, err := c.Authorise(ctx); err != nil {
			return call.Answer{}, err
		}
		req, err := http.NewRequestWithContext(ctx, method, address, nil)
		if err != nil {
			return call.Answer{}, fmt.Errorf("%s %s: %w", method, address, err)
		}
		if body != nil {
			req, err = http.NewRequestWithContext(ctx, method, address, bytes.NewReader(body))
			if err != nil {
				return call.Answer{}, fmt.Errorf("%s %s: %w", method, address, err)
			}
			req.Header.Set("Content-Type", "application/json")
		}
		c.mu.Lock()
		c.token.SetAuthHeader(req)
		c.mu.Unlock()
		req.Header.Set("Accept", "application/json")
		answer, err := c.http.Do(ctx, req)
		if p, ok := call.As(err); ok && p.Kind == call.WrongCredential && !renewed {
			c.forgetToken() // expired or withdrawn before its time: one new one
			continue
		}
		return answer, err
	}
}

// Granted reports whether a token was granted a gradebook scope. A service that does not
// say what it granted is taken to have granted what was asked for (RFC 6749, 5.1).
func Granted(scopes []string, version Version, last string) bool {
	return len(scopes) == 0 || slices.Contains(scopes, Scope(version, last))
}
