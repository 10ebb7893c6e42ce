package rule

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"text/template"
	syntax "text/template/parse"
)

// ErrText is wrapped by every error about a text template that cannot be used.
var ErrText = errors.New("text cannot be filled in")

// Bounds of a text: of what is written (bytes, nested ranges), of what it grows to (bytes).
const (
	maxText     = 256 << 10
	maxTemplate = 64 << 10
	maxNested   = 1
	maxItems    = 10_000 // of a list that a range goes over
)

// wide finds a width or precision that would fill memory.
var wide = regexp.MustCompile(`%[^%a-zA-Z]*(\d{4,}|\*)`)

// parse reads a text; get gives a value by its path, or what is to stand there when
// it is missing or empty. What could go on without end is refused: definitions that use
// each other, and ranges within ranges or over numbers.
func parse(text string, values Values) (*template.Template, error) {
	if len(text) > maxTemplate {
		return nil, fmt.Errorf("it is longer than %d bytes", maxTemplate)
	}
	get := func(path, otherwise string) any {
		root, name, _ := strings.Cut(path, ".")
		if v, ok := values[root][name]; ok && v != nil && v != "" {
			return v
		}
		return otherwise
	}
	printf := func(format string, args ...any) (string, error) {
		if wide.MatchString(format) {
			return "", fmt.Errorf("with the format %q the text grows beyond %d bytes", format, maxText)
		}
		return short(fmt.Sprintf(format, args...))
	}
	// What makes a text longer is bounded at each step: repeated, it would double and double.
	grows := func(f func(...any) string) func(...any) (string, error) {
		return func(args ...any) (string, error) { return short(f(args...)) }
	}
	t, err := template.New("text").Option("missingkey=error").Funcs(template.FuncMap{
		"get": get, "printf": printf, "print": grows(fmt.Sprint), "println": grows(fmt.Sprintln),
		"html": grows(template.HTMLEscaper), "js": grows(template.JSEscaper), "urlquery": grows(template.URLQueryEscaper),
	}).Parse(text)
	if err != nil {
		return nil, err
	}
	for _, x := range t.Templates() {
		if x.Name() != "text" {
			return nil, fmt.Errorf("define and block cannot be used")
		}
	}
	if t.Tree == nil {
		return t, nil
	}
	return t, bounded(t.Root, 0)
}

// short gives a text back that is no longer than any may be.
func short(text string) (string, error) {
	if len(text) > maxText {
		return "", fmt.Errorf("the text grows beyond %d bytes", maxText)
	}
	return text, nil
}

// bounded refuses what could go on for long.
func bounded(n syntax.Node, ranges int) error {
	walk := func(b syntax.BranchNode, ranges int) error {
		if err := bounded(b.List, ranges); err != nil || b.ElseList == nil {
			return err
		}
		return bounded(b.ElseList, ranges)
	}
	switch n := n.(type) {
	case *syntax.ListNode:
		if n == nil {
			return nil
		}
		for _, x := range n.Nodes {
			if err := bounded(x, ranges); err != nil {
				return err
			}
		}
	case *syntax.IfNode:
		return walk(n.BranchNode, ranges)
	case *syntax.WithNode:
		return walk(n.BranchNode, ranges)
	case *syntax.RangeNode:
		if ranges >= maxNested {
			return errors.New("a range within a range cannot be used")
		}
		if strings.Trim(n.Pipe.String(), "0123456789_xXobeE") == "" || !strings.HasPrefix(strings.TrimSpace(afterAssignment(n.Pipe.String())), ".") {
			return errors.New("range goes over a value such as .event.items only")
		}
		return walk(n.BranchNode, ranges+1)
	case *syntax.TemplateNode:
		return errors.New("template cannot be used")
	}
	return nil
}

// afterAssignment leaves the value of a pipe without the variables that it is given to.
func afterAssignment(pipe string) string {
	_, value, ok := strings.Cut(pipe, ":=")
	if !ok {
		return pipe
	}
	return value
}

// Fill renders a text in the syntax of Go's text/template with the same roots
// as expressions: "Well done, {{.person.givenName}}!". A name the event does
// not have is an error rather than an empty place, unless it is asked for with
// something to stand there instead: {{get "person.givenName" "gardener"}}.
func Fill(text string, values Values) (string, error) {
	t, err := parse(text, values)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrText, err)
	}
	data := make(map[string]map[string]any, len(Roots))
	for _, root := range values { // a number would be counted to
		for name, v := range root {
			if list, ok := v.([]any); ok && len(list) > maxItems {
				return "", fmt.Errorf("%w: %s has more than %d items", ErrText, name, maxItems)
			}
		}
	}
	for _, root := range Roots {
		data[root] = values[root]
	}
	var out limited
	if err := t.Execute(&out, data); err != nil {
		return "", fmt.Errorf("%w: %w", ErrText, err)
	}
	return out.String(), nil
}

// CheckText reports whether a text can be parsed.
func CheckText(text string) error {
	if _, err := parse(text, nil); err != nil {
		return fmt.Errorf("%w: %w", ErrText, err)
	}
	return nil
}

type limited struct{ strings.Builder }

func (l *limited) Write(p []byte) (int, error) {
	if l.Len()+len(p) > maxText {
		return 0, fmt.Errorf("the text grows beyond %d bytes", maxText)
	}
	return l.Builder.Write(p)
}
