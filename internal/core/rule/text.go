package rule

import (
	"errors"
	"fmt"
	"reflect"
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
		"get": get, listed: items, "printf": printf, "print": grows(fmt.Sprint), "println": grows(fmt.Sprintln),
		"html": grows(template.HTMLEscaper), "js": grows(template.JSEscaper),
		"urlquery": grows(template.URLQueryEscaper),
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

// listed is the name of the function that every range goes through.
const listed = "listed"

// items lets a range go over lists and maps that are not too long. Over a number it would
// count.
func items(v any) (any, error) {
	switch x := reflect.ValueOf(v); x.Kind() {
	case reflect.Invalid:
		return v, nil // nothing is there
	case reflect.Slice, reflect.Array, reflect.Map:
		if x.Len() <= maxItems {
			return v, nil
		}
		return nil, fmt.Errorf("a range goes over %d items; at most %d can be used", x.Len(), maxItems)
	default:
		return nil, errors.New("a range goes over a value that is no list")
	}
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
		if !strings.HasPrefix(strings.TrimSpace(afterAssignment(n.Pipe.String())), ".") {
			return errors.New("range goes over a value such as .event.items only")
		}
		// What it is is known only when the text is filled in.
		n.Pipe.Cmds = append(n.Pipe.Cmds, &syntax.CommandNode{
			NodeType: syntax.NodeCommand, Pos: n.Pos,
			Args: []syntax.Node{syntax.NewIdentifier(listed).SetPos(n.Pos)},
		})
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
