package config

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Bounds of what is read.
const (
	MostFiles  = 200
	mostBytes  = 4 << 20 // of all files together
	deepest    = 30      // lists and maps in each other
	mostFaults = 1000    // of one reading; a file that is something else altogether has more
)

// Fault is one thing that is wrong with the files.
type Fault struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty" doc:"Counted from 1; 0 when it is about the whole file"`
	Path   string `json:"path,omitempty" doc:"Where in the file, such as rules[2].actions[0].badge"`
	Detail string `json:"detail"`
}

func (f Fault) Error() string {
	at := f.File
	if f.Line > 0 {
		at += ":" + strconv.Itoa(f.Line)
	}
	text := f.Detail
	if f.Path != "" {
		text = f.Path + ": " + text
	}
	if at != "" {
		text = at + ": " + text
	}
	return text
}

// Kind names a list of Setup; it is the key under which the list stands in a file.
type Kind string

// The kinds, in the order in which they come in: what others name comes before them.
const (
	Connections    Kind = "connections"
	MatchingKind   Kind = "matching"
	Mappings       Kind = "mappings"
	Templates      Kind = "templates"
	ScoreTemplates Kind = "scoreTemplates"
	HiddenSections Kind = "hiddenSections"
	Issuers        Kind = "issuers"
	Badges         Kind = "badges"
	Outlines       Kind = "outlines"
	Offers         Kind = "offers"
	Rules          Kind = "rules"
	StagePlans     Kind = "stagePlans"
	SettingsKind   Kind = "settings"
)

// Kinds lists them in that order.
var Kinds = []Kind{
	Connections, MatchingKind, Mappings, Templates, ScoreTemplates, HiddenSections, Outlines, Issuers, Badges, Offers,
	Rules, StagePlans, SettingsKind,
}

// whole are the kinds whose list is one thing, because its order matters or it has no names.
var whole = map[Kind]bool{Templates: true, ScoreTemplates: true, HiddenSections: true, SettingsKind: true}

// Item is one thing of a set-up.
type Item struct {
	Kind Kind
	Name string // its name, or what it is about; the kind's for one that is whole
	File string
	Body json.RawMessage // the thing as JSON; a list for templates and hidden sections

	path string     // in its file, such as rules[2]
	node *yaml.Node // nil for one that stands in no file
}

// Fault says what is wrong at a path in the item, such as actions[0].badge.
func (i Item) Fault(path, format string, args ...any) Fault {
	f := Fault{File: i.File, Path: join(i.path, path), Detail: fmt.Sprintf(format, args...)}
	if i.node != nil {
		f.Line = lineOf(i.node, steps(path))
	}
	return f
}

// Path is where in its file the item stands, such as rules[2]; empty for one that stands in no file.
func (i Item) Path() string { return i.path }

func join(path, more string) string {
	if path == "" || more == "" || strings.HasPrefix(more, "[") {
		return path + more
	}
	return path + "." + more
}

// Read takes files apart into items, ordered by kind, or says everything that is wrong with their
// form; then there are no items. What is there twice is a fault too, beside all items. What they mean
// is not looked at.
func Read(files map[string][]byte) (items []Item, faults []Fault) {
	size := 0
	for _, text := range files {
		size += len(text)
	}
	if len(files) > MostFiles || size > mostBytes {
		return nil, []Fault{{Detail: fmt.Sprintf("%d files of %d bytes are more than %d files or %d bytes", len(files), size,
			MostFiles, mostBytes)}}
	}
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		more, wrong := readFile(name, files[name])
		items, faults = append(items, more...), append(faults, wrong...)
		if len(faults) >= mostFaults {
			return nil, append(faults[:mostFaults], Fault{Detail: "there is more that is wrong; mend this first"})
		}
	}
	slices.SortStableFunc(items, func(a, b Item) int {
		return cmp.Compare(slices.Index(Kinds, a.Kind), slices.Index(Kinds, b.Kind))
	})
	if len(faults) > 0 {
		SortFaults(faults)
		return nil, faults
	}
	return items, twice(items)
}

// twice finds what is there more than once.
func twice(items []Item) (faults []Fault) {
	type key struct {
		kind Kind
		name string
	}
	first := map[key]Item{}
	for _, i := range items {
		k := key{i.Kind, strings.ToLower(i.Name)}
		if before, there := first[k]; there {
			faults = append(faults, i.Fault("", "%q stands in %s line %d already; keep one of the two", i.Name, before.File,
				lineOf(before.node, nil)))
			continue
		}
		first[k] = i
	}
	return faults
}

// SortFaults orders faults by file and line.
func SortFaults(faults []Fault) {
	slices.SortStableFunc(faults, func(a, b Fault) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line))
	})
}

func readFile(name string, text []byte) (items []Item, faults []Fault) {
	fail := func(line int, path, format string, args ...any) {
		faults = append(faults, Fault{File: name, Line: line, Path: path, Detail: fmt.Sprintf(format, args...)})
	}
	for decoder := yaml.NewDecoder(bytes.NewReader(text)); ; {
		var document yaml.Node
		err := decoder.Decode(&document)
		if errors.Is(err, io.EOF) {
			return items, faults
		}
		if err != nil {
			fail(0, "", "it is not YAML: %s", strings.TrimPrefix(err.Error(), "yaml: "))
			return nil, faults
		}
		if len(document.Content) == 0 || document.Content[0].Tag == "!!null" {
			continue // nothing but comments
		}
		root := document.Content[0]
		value, wrong := plain(name, "", root, 0)
		if len(wrong) > 0 {
			faults = append(faults, wrong...)
			continue
		}
		if wrong := check(name, root, value); len(wrong) > 0 {
			faults = append(faults, wrong...)
			continue
		}
		items = append(items, itemsOf(name, root, value.(map[string]any))...)
	}
}

// itemsOf takes a document apart whose form is right.
func itemsOf(file string, root *yaml.Node, value map[string]any) (items []Item) {
	for n := 0; n < len(root.Content); n += 2 {
		kind, node := Kind(root.Content[n].Value), root.Content[n+1]
		if whole[kind] {
			items = append(items, Item{
				Kind: kind, Name: string(kind), File: file, Body: asJSON(value[string(kind)]),
				path: string(kind), node: node,
			})
			continue
		}
		for i, x := range value[string(kind)].([]any) {
			items = append(items, Item{
				Kind: kind, Name: nameOf(x.(map[string]any)), File: file, Body: asJSON(x),
				path: fmt.Sprintf("%s[%d]", kind, i), node: node.Content[i],
			})
		}
	}
	return items
}

// nameOf is the name of a thing, or what it is about.
func nameOf(x map[string]any) string {
	for _, key := range []string{"name", "course", "interface"} {
		if name, ok := x[key].(string); ok {
			return strings.TrimSpace(name)
		}
	}
	return ""
}

func asJSON(x any) json.RawMessage {
	text, _ := json.Marshal(x) // made of what JSON has
	return text
}

// plain gives a node as the values that JSON has. What stands behind a name, or twice, is refused.
func plain(file, path string, n *yaml.Node, depth int) (value any, faults []Fault) {
	fail := func(at *yaml.Node, format string, args ...any) (any, []Fault) {
		return nil, append(faults, Fault{File: file, Line: at.Line, Path: path, Detail: fmt.Sprintf(format, args...)})
	}
	if depth > deepest {
		return fail(n, "lists stand in each other more than %d deep", deepest)
	}
	switch n.Kind {
	case yaml.MappingNode:
		out := map[string]any{}
		for i := 0; i < len(n.Content); i += 2 {
			key := n.Content[i]
			if key.Kind != yaml.ScalarNode || key.Tag == "!!merge" {
				_, faults = fail(key, "only a plain name can stand before a colon")
				continue
			}
			if _, there := out[key.Value]; there {
				_, faults = fail(key, "%q stands here twice", key.Value)
				continue
			}
			x, wrong := plain(file, join(path, key.Value), n.Content[i+1], depth+1)
			out[key.Value], faults = x, append(faults, wrong...)
		}
		return out, faults
	case yaml.SequenceNode:
		out := []any{}
		for i, e := range n.Content {
			x, wrong := plain(file, fmt.Sprintf("%s[%d]", path, i), e, depth+1)
			out, faults = append(out, x), append(faults, wrong...)
		}
		return out, faults
	case yaml.AliasNode:
		return fail(n, "names for parts (*%s) are not used here; write it out", n.Value)
	}
	return scalar(n, fail)
}

func scalar(n *yaml.Node, fail func(*yaml.Node, string, ...any) (any, []Fault)) (any, []Fault) {
	switch n.Tag {
	case "!!str", "!!timestamp":
		return n.Value, nil
	case "!!null":
		return fail(n, "is empty; leave the line away, or write \"\" for an empty text")
	case "!!bool", "!!int", "!!float":
		var x any
		if err := n.Decode(&x); err != nil {
			return fail(n, "%q cannot be read", n.Value)
		}
		if _, err := json.Marshal(x); err != nil { // .inf and .nan
			return fail(n, "%s is no number that can be used", n.Value)
		}
		return x, nil
	}
	return fail(n, "%s is not used here; write a text, a number, true or false", n.Tag)
}

// steps takes a path apart: actions[0].fields.email has four.
func steps(path string) (out []string) {
	for part := range strings.SplitSeq(path, ".") {
		name, rest, _ := strings.Cut(part, "[")
		if name != "" {
			out = append(out, name)
		}
		for rest != "" {
			var index string
			index, rest, _ = strings.Cut(rest, "]")
			out, rest = append(out, index), strings.TrimPrefix(rest, "[")
		}
	}
	return out
}

// lineOf is the line of what a path leads to, or of the last on the way that is there.
func lineOf(n *yaml.Node, path []string) int {
	line := n.Line
	for _, step := range path {
		switch n.Kind {
		case yaml.MappingNode:
			i := 0
			for i < len(n.Content) && n.Content[i].Value != step {
				i += 2
			}
			if i >= len(n.Content) {
				return line
			}
			line, n = n.Content[i].Line, n.Content[i+1]
		case yaml.SequenceNode:
			i, err := strconv.Atoi(step)
			if err != nil || i < 0 || i >= len(n.Content) {
				return line
			}
			n = n.Content[i]
			line = n.Line
		default:
			return line
		}
	}
	return line
}
