package rule

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// ErrOperation is wrapped by every error about an operation that cannot be used.
var ErrOperation = errors.New("operation cannot be used")

// Operation is one call of a service's own API, defined on its interface.
type Operation struct {
	Name   string           `json:"name" doc:"By which rules refer to it, such as add-label"`
	Title  string           `json:"title" doc:"What it does, for people"`
	Method string           `json:"method" enum:"POST,PUT,PATCH,DELETE,GET"`
	Path   string           `json:"path" doc:"Behind the interface's address; {field} stands for a field's value"`
	Fields []OperationField `json:"fields" doc:"What the service needs to know"`
	// Success is a condition over answer.status and answer.body; every 2xx status
	// when empty.
	Success string `json:"success,omitempty" doc:"A condition in CEL over answer.status and answer.body that says whether it worked; every 2xx answer when absent"`
	// ProofPath and Proof are a look-up that shows whether it had its effect: a GET whose
	// answer, with the values that were sent as answer.values, fulfils a condition.
	ProofPath string `json:"proofPath,omitempty" doc:"Path of a GET that shows whether it had its effect; {field} stands for a field's value"`
	Proof     string `json:"proof,omitempty" doc:"A condition in CEL over answer.status, answer.body and answer.values, true when the effect is there, such as: answer.values.label in answer.body.labels"`
	// Undo is the operation, with the same fields, that takes this one back.
	Undo string `json:"undo,omitempty" doc:"The name of the operation that takes this one back with the same values"`
}

// OperationField is one value of an operation. One that is in the path goes there,
// the others into a JSON object in the body, or into the query of a GET or DELETE.
type OperationField struct {
	Name     string `json:"name"`
	Required bool   `json:"required,omitempty"`
	// ListPath and List say how to find out what the value may be: List is an
	// expression over answer.body that gives a list of texts.
	ListPath string `json:"listPath,omitempty" doc:"Path of a GET that lists the values there are"`
	List     string `json:"list,omitempty" doc:"CEL expression over answer.body that gives the values as a list, such as answer.body.map(x, x.name)"`
}

// Request is an operation with its values.
type Request struct {
	Method string
	Path   string // with its query
	Body   []byte // JSON; nil when there is none
}

var (
	operationName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)
	placeholder   = regexp.MustCompile(`\{([^{}]*)\}`)
	methods       = []string{"POST", "PUT", "PATCH", "DELETE", "GET"}
)

// Check reports what is wrong. Expressions are checked by whoever has them compiled.
func (o Operation) Check() error {
	fail := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", ErrOperation, fmt.Sprintf(format, args...))
	}
	switch {
	case !operationName.MatchString(o.Name):
		return fail("the name %q is not made of small letters, digits and hyphens", o.Name)
	case !slices.Contains(methods, o.Method):
		return fail("%q is not one of %s", o.Method, strings.Join(methods, ", "))
	case !strings.HasPrefix(o.Path, "/") || strings.HasPrefix(o.Path, "//"):
		return fail("the path %q does not begin with one /", o.Path)
	case (o.ProofPath == "") != (o.Proof == ""):
		return fail("a look-up that proves the effect needs both a path and a condition")
	case o.ProofPath != "" && (!strings.HasPrefix(o.ProofPath, "/") || strings.HasPrefix(o.ProofPath, "//")):
		return fail("the path of the look-up %q does not begin with one /", o.ProofPath)
	}
	var names []string
	for i, f := range o.Fields {
		switch {
		case strings.TrimSpace(f.Name) == "":
			return fail("field %d has no name", i+1)
		case slices.Contains(names, f.Name):
			return fail("two fields are called %q", f.Name)
		case (f.ListPath == "") != (f.List == ""):
			return fail("field %q needs both a list path and a list expression, or neither", f.Name)
		case f.ListPath != "" && !strings.HasPrefix(f.ListPath, "/"):
			return fail("the list path of %q does not begin with /", f.Name)
		}
		names = append(names, f.Name)
	}
	for _, m := range placeholder.FindAllStringSubmatch(o.Path+o.ProofPath, -1) {
		if !slices.Contains(names, m[1]) {
			return fail("the path needs the field %q, which is not among the fields", m[1])
		}
	}
	return nil
}

// ProofRequest is the look-up that proves the effect for some values; ok is false when the
// operation names none.
func (o Operation) ProofRequest(values map[string]any) (r Request, ok bool, err error) {
	if o.ProofPath == "" {
		return r, false, nil
	}
	look := Operation{Name: o.Name, Method: "GET", Path: o.ProofPath}
	for _, m := range placeholder.FindAllStringSubmatch(o.ProofPath, -1) {
		look.Fields = append(look.Fields, OperationField{Name: m[1]})
	}
	r, err = look.Fill(values)
	return r, true, err
}

// Fill puts values into the operation. A missing one that is required, or that the
// path needs, is an error; another one is left out.
func (o Operation) Fill(values map[string]any) (Request, error) {
	r := Request{Method: o.Method}
	text := func(name string) string {
		v, ok := values[name]
		if !ok || v == nil {
			return ""
		}
		return fmt.Sprint(v)
	}
	for _, f := range o.Fields {
		if f.Required && text(f.Name) == "" {
			return r, fmt.Errorf("%w: the value %q is missing", ErrOperation, f.Name)
		}
	}
	inPath := map[string]bool{}
	var missing string
	r.Path = placeholder.ReplaceAllStringFunc(o.Path, func(m string) string {
		name := m[1 : len(m)-1]
		inPath[name] = true
		v := text(name)
		if v == "" || v == "." || v == ".." {
			missing = name
		}
		return url.PathEscape(v)
	})
	if missing != "" {
		return r, fmt.Errorf("%w: the path needs the value %q", ErrOperation, missing)
	}
	rest := map[string]any{}
	for _, f := range o.Fields {
		if v, ok := values[f.Name]; ok && v != nil && !inPath[f.Name] {
			rest[f.Name] = v
		}
	}
	if len(rest) == 0 {
		return r, nil
	}
	if o.Method == "GET" || o.Method == "DELETE" {
		query := url.Values{}
		for name := range rest {
			query.Set(name, text(name))
		}
		r.Path += "?" + query.Encode()
		return r, nil
	}
	body, err := json.Marshal(rest)
	r.Body = body
	return r, err
}
