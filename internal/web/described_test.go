package web_test

import (
	"bytes"
	"encoding/json"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/web"
)

// described is the API as its description tells it. An independent implementation of JSON
// Schema (draft 2020-12, which OpenAPI 3.1 uses) checks answers against it.
type described struct {
	t          *testing.T
	compiler   *jsonschema.Compiler
	operations []operation
	// answered counts the answers of each operation by their status.
	answered map[string]map[int]int
}

// operation is one operation of the description.
type operation struct {
	id, method, path string
	segments         []string
	success          int
	tagged           bool   // its success carries an ETag
	conditional      bool   // it takes If-Match
	body             string // the kind of body it takes, empty for none
	required         []string
	query            map[string]bool
	open             bool // it needs no sign-in
	refuses          bool // it says how
	act, scope       string
}

func describe(t *testing.T) *described {
	t.Helper()
	text, err := web.Description()
	require.NoError(t, err)
	whole, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	d := &described{t: t, compiler: jsonschema.NewCompiler(), answered: map[string]map[int]int{}}
	d.compiler.AssertFormat()
	require.NoError(t, d.compiler.AddResource("https://kanban.example/openapi.json", whole))
	for path, item := range whole.(map[string]any)["paths"].(map[string]any) {
		if !strings.HasPrefix(path, "/api/") {
			continue // services and browsers of the world call it: it is tested with their standards
		}
		for method, raw := range item.(map[string]any) {
			op := raw.(map[string]any)
			o := operation{
				id: op["operationId"].(string), method: strings.ToUpper(method), path: path,
				segments: strings.Split(path, "/"), query: map[string]bool{},
			}
			for status, r := range op["responses"].(map[string]any) {
				if n, err := strconv.Atoi(status); err == nil && n < 300 {
					o.success = n
					headers, _ := r.(map[string]any)["headers"].(map[string]any)
					o.tagged = headers["ETag"] != nil
				}
			}
			require.NotZero(t, o.success, "%s says what its success is", o.id)
			if b, ok := op["requestBody"].(map[string]any); ok {
				for kind := range b["content"].(map[string]any) {
					o.body = kind
				}
			}
			parameters, _ := op["parameters"].([]any)
			for _, p := range parameters {
				p := p.(map[string]any)
				switch name := p["name"].(string); p["in"] {
				case "query":
					o.query[name] = true
					if p["required"] == true {
						o.required = append(o.required, name)
					}
				case "header":
					o.conditional = o.conditional || name == "If-Match"
				}
			}
			for status := range op["responses"].(map[string]any) {
				o.refuses = o.refuses || strings.HasPrefix(status, "4")
			}
			require.True(t, o.refuses, "%s says how it refuses", o.id)
			o.open = slices.Contains([]string{
				"set-up", "sign-in", "accept-invitation", "ways-in",
				"reset-password",
			}, o.id)
			o.act, _ = op["x-act"].(string)
			o.scope, _ = op["x-scope"].(string)
			d.operations = append(d.operations, o)
		}
	}
	slices.SortFunc(d.operations, func(a, b operation) int { return strings.Compare(a.id, b.id) })
	return d
}

// find gives the operation that answers at an address; literal parts go before parameters.
func (d *described) find(method, path string) operation {
	d.t.Helper()
	path, _, _ = strings.Cut(path, "?")
	parts := strings.Split(path, "/")
	best, literal := operation{}, -1
	for _, o := range d.operations {
		if o.method != method || len(o.segments) != len(parts) {
			continue
		}
		n := 0
		for i, s := range o.segments {
			if s == parts[i] {
				n++
			} else if !strings.HasPrefix(s, "{") {
				n = -1
				break
			}
		}
		if n > literal {
			best, literal = o, n
		}
	}
	require.NotEmpty(d.t, best.id, "%s %s is not described", method, path)
	return best
}

// check holds an answer against the description, and counts it.
func (d *described) check(o operation, resp *http.Response, text string) {
	d.t.Helper()
	if d.answered[o.id] == nil {
		d.answered[o.id] = map[int]int{}
	}
	d.answered[o.id][resp.StatusCode]++
	kind, _, _ := mime.ParseMediaType(resp.Header.Get("Content-Type"))
	at := "https://kanban.example/openapi.json#/components/schemas/ErrorModel"
	if resp.StatusCode < 300 {
		assert.Equal(d.t, o.success, resp.StatusCode, "%s: the status that is described", o.id)
		if o.tagged {
			assert.NotEmpty(d.t, resp.Header.Get("ETag"), o.id)
		}
		if resp.StatusCode == http.StatusNoContent {
			assert.Empty(d.t, text, o.id)
			return
		}
		if kind == "text/csv" {
			return
		}
		escaped := strings.NewReplacer("~", "~0", "/", "~1").Replace(o.path)
		at = "https://kanban.example/openapi.json#/paths/" + escaped + "/" + strings.ToLower(o.method) + "/responses/" + strconv.Itoa(o.success) + "/content/application~1json/schema"
		assert.Equal(d.t, "application/json", kind, o.id)
	} else {
		require.Equal(d.t, "application/problem+json", kind, "%s: %s", o.id, text)
	}
	schema, err := d.compiler.Compile(at)
	require.NoError(d.t, err)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	require.NoError(d.t, err, "%s: %s", o.id, text)
	if resp.StatusCode >= 400 {
		problem := value.(map[string]any)
		assert.NotEmpty(d.t, problem["detail"], "%s: a problem says what is wrong", o.id)
		assert.EqualValues(d.t, json.Number(strconv.Itoa(resp.StatusCode)), problem["status"], o.id)
		if resp.StatusCode == http.StatusPreconditionFailed {
			delete(problem, "current") // a member of this kind of problem alone (RFC 9457, section 3.2)
		}
	}
	assert.NoError(d.t, schema.Validate(value), "%s does not answer as it is described: %s", o.id, text)
}

// unanswered are the operations that never answered with their success.
func (d *described) unanswered() (left []string) {
	for _, o := range d.operations {
		if d.answered[o.id][o.success] == 0 {
			left = append(left, o.id)
		}
	}
	return left
}
