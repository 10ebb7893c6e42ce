package config

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"strings"

	"go.yaml.in/yaml/v3"
)

var typeOf = reflect.TypeFor[Setup]()

// fileOf is the file into which each kind is written.
var fileOf = map[Kind]string{
	Connections: "connections.yaml", MatchingKind: "matching.yaml", Mappings: "mappings.yaml",
	Templates: "templates.yaml", ScoreTemplates: "score-templates.yaml", HiddenSections: "hidden-sections.yaml", Issuers: "badges.yaml", Badges: "badges.yaml",
	Outlines: "outlines.yaml", Offers: "offers.yaml", Rules: "rules.yaml", StagePlans: "stage-plans.yaml",
	SettingsKind: "settings.yaml",
}

// Files writes a set-up, each kind into a file of its own; what is not there gets none. The schema
// that editors use is among them.
func Files(s Setup) (map[string]string, error) {
	var lists map[Kind]json.RawMessage
	text, err := marshal(s)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(text, &lists); err != nil {
		return nil, err
	}
	parts := map[string]map[Kind]json.RawMessage{}
	for _, k := range Kinds {
		if list := lists[k]; list != nil && string(list) != "[]" || list != nil && k == HiddenSections {
			if parts[fileOf[k]] == nil {
				parts[fileOf[k]] = map[Kind]json.RawMessage{}
			}
			parts[fileOf[k]][k] = list
		}
	}
	files := map[string]string{SchemaFile: string(Schema())}
	for name, part := range parts {
		if files[name], err = write(part); err != nil {
			return nil, fmt.Errorf("writing %s: %w", name, err)
		}
	}
	return files, nil
}

// Text writes a set-up as one text.
func Text(s Setup) (string, error) {
	text, err := marshal(s)
	if err != nil {
		return "", err
	}
	var lists map[Kind]json.RawMessage
	if err := json.Unmarshal(text, &lists); err != nil {
		return "", err
	}
	return write(lists)
}

func write(lists map[Kind]json.RawMessage) (string, error) {
	out := bytes.NewBufferString("# yaml-language-server: $schema=" + SchemaFile + "\n")
	e := yaml.NewEncoder(out)
	e.SetIndent(2)
	root := &yaml.Node{Kind: yaml.MappingNode}
	for _, k := range Kinds {
		if lists[k] == nil {
			continue
		}
		d := json.NewDecoder(bytes.NewReader(lists[k]))
		d.UseNumber()
		list, err := readable(d)
		if err != nil {
			return "", err
		}
		root.Content = append(root.Content, textNode(string(k)), list)
	}
	if err := e.Encode(root); err != nil {
		return "", err
	}
	return out.String(), e.Close()
}

// misread are plain texts that older readers of YAML take for numbers, times or yes and no.
var misread = regexp.MustCompile(`(?i)^([-+]?[0-9][0-9_]*(:[0-5]?[0-9])+(\.[0-9_]*)?|y|yes|n|no|on|off|<<|=|[-+.0-9][-+.:0-9_eE]*)$`)

// readable gives the next value of a JSON text in the form in which people write, its names in their
// order.
func readable(d *json.Decoder) (*yaml.Node, error) {
	token, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch t := token.(type) {
	case json.Delim:
		n := &yaml.Node{Kind: yaml.SequenceNode}
		if t == '{' {
			n.Kind = yaml.MappingNode
		}
		for d.More() { // names and values follow each other
			inner, err := readable(d)
			if err != nil {
				return nil, err
			}
			n.Content = append(n.Content, inner)
		}
		if len(n.Content) == 0 {
			n.Style = yaml.FlowStyle
		}
		_, err := d.Token()
		return n, err
	case string:
		return textNode(t), nil
	}
	return &yaml.Node{Kind: yaml.ScalarNode, Value: fmt.Sprint(token)}, nil // a number, true or false
}

func textNode(text string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
	lines := strings.Contains(text, "\n") // those stand as they are
	if misread.MatchString(text) || lines && (strings.ContainsAny(text, "\t\r\u0085\u2028\u2029") ||
		strings.TrimLeft(text, " \n") != text) {
		n.Style = yaml.DoubleQuotedStyle
	}
	return n
}

func marshal(x any) ([]byte, error) {
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	err := e.Encode(x)
	return out.Bytes(), err
}

// Part is one thing of a set-up.
type Part struct {
	Kind  Kind
	Name  string
	Thing any
}

// ItemsOf takes a set-up apart into the things of which Read makes items.
func ItemsOf(s Setup) (out []Part) {
	out = parts(out, Connections, s.Connections, func(x Connection) string { return x.Name })
	out = parts(out, MatchingKind, s.Matching, func(x Matching) string { return x.Interface })
	out = parts(out, Mappings, s.Mappings, func(x Mapping) string { return x.Interface })
	if s.Templates != nil {
		out = append(out, Part{Templates, string(Templates), s.Templates})
	}
	if s.ScoreTemplates != nil {
		out = append(out, Part{ScoreTemplates, string(ScoreTemplates), s.ScoreTemplates})
	}
	if s.HiddenSections != nil {
		out = append(out, Part{HiddenSections, string(HiddenSections), s.HiddenSections})
	}
	out = parts(out, Issuers, s.Issuers, func(x Issuer) string { return x.Name })
	out = parts(out, Badges, s.Badges, func(x Badge) string { return x.Name })
	out = parts(out, Outlines, s.Outlines, func(x Outline) string { return x.Course })
	out = parts(out, Offers, s.Offers, func(x Offer) string { return x.Name })
	out = parts(out, Rules, s.Rules, func(x Rule) string { return x.Name })
	out = parts(out, StagePlans, s.StagePlans, func(x StagePlan) string { return x.Name })
	if s.Settings != nil {
		out = append(out, Part{SettingsKind, string(SettingsKind), s.Settings})
	}
	return out
}

// Only gives what of a set-up is of a kind, any when it is empty, and has a name, any when that is
// empty; names are compared without regard to case.
func (s Setup) Only(kind Kind, name string) (out Setup, err error) {
	for _, p := range ItemsOf(s) {
		if whole[p.Kind] || kind != "" && p.Kind != kind || name != "" && !strings.EqualFold(p.Name, name) {
			continue
		}
		text, err := marshal(p.Thing)
		if err != nil {
			return out, err
		}
		if err := Whole(&out, p.Kind, text); err != nil {
			return out, err
		}
	}
	return out, nil
}

func parts[T any](out []Part, kind Kind, list []T, name func(T) string) []Part {
	for _, x := range list {
		out = append(out, Part{kind, name(x), x})
	}
	return out
}

// Whole puts things together again. Each is the JSON of one thing, of a kind that is a list of things
// with names.
func Whole(s *Setup, kind Kind, thing json.RawMessage) error {
	switch kind {
	case Connections:
		return add(&s.Connections, thing)
	case MatchingKind:
		return add(&s.Matching, thing)
	case Mappings:
		return add(&s.Mappings, thing)
	case Issuers:
		return add(&s.Issuers, thing)
	case Badges:
		return add(&s.Badges, thing)
	case Outlines:
		return add(&s.Outlines, thing)
	case Offers:
		return add(&s.Offers, thing)
	case Rules:
		return add(&s.Rules, thing)
	case StagePlans:
		return add(&s.StagePlans, thing)
	}
	return fmt.Errorf("%s is no list of things with names", kind)
}

func add[T any](list *[]T, text json.RawMessage) error {
	var x T
	err := json.Unmarshal(text, &x)
	*list = append(*list, x)
	return err
}
