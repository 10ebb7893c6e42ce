package config

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"go.yaml.in/yaml/v3"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
)

// SchemaFile is the name of the file in which the schema stands beside the others.
const SchemaFile = "kanban.schema.json"

// Schema is the JSON Schema (2020-12) of a file.
var Schema = sync.OnceValue(func() []byte {
	const prefix = "#/$defs/"
	registry := huma.NewMapRegistry(prefix, huma.DefaultSchemaNamer)
	root := huma.SchemaFromType(registry, typeOf)
	registry.Map()["Setup"] = root
	text, err := json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "The set-up of a Kanban installation",
		"$ref": prefix + "Setup", "$defs": registry.Map(),
	}, "", "  ")
	if err != nil {
		panic(err) // it is made of our own types
	}
	return append(text, '\n')
})

// SchemaDocument is the schema as values.
func SchemaDocument() map[string]any {
	var document map[string]any
	if err := json.Unmarshal(Schema(), &document); err != nil {
		panic(err) // it was written a moment ago
	}
	return document
}

var compiled = sync.OnceValue(func() *jsonschema.Schema {
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema()))
	c := jsonschema.NewCompiler()
	if err == nil {
		err = c.AddResource(SchemaFile, document)
	}
	if err != nil {
		panic(err)
	}
	return c.MustCompile(SchemaFile)
})

// check holds a document against the schema and says everything that does not fit.
func check(file string, root *yaml.Node, value any) (faults []Fault) {
	if _, ok := value.(map[string]any); !ok {
		return []Fault{{File: file, Line: root.Line, Detail: "must have lists under their names, such as rules: or badges:"}}
	}
	text := asJSON(value)
	again, err := jsonschema.UnmarshalJSON(bytes.NewReader(text)) // with numbers as the validator wants them
	if err == nil {
		err = compiled().Validate(again)
	}
	if err == nil {
		return nil
	}
	wrong, ok := err.(*jsonschema.ValidationError)
	if !ok {
		return []Fault{{File: file, Detail: err.Error()}}
	}
	var each func(e *jsonschema.ValidationError)
	each = func(e *jsonschema.ValidationError) {
		if len(e.Causes) > 0 {
			for _, c := range e.Causes {
				each(c)
			}
			return
		}
		path := ""
		for _, step := range e.InstanceLocation {
			if _, err := strconv.Atoi(step); err == nil {
				step = "[" + step + "]"
			}
			path = join(path, step)
		}
		for _, detail := range says(e) {
			at := e.InstanceLocation
			if detail.key != "" {
				at = append(slices.Clone(at), detail.key)
			}
			faults = append(faults, Fault{File: file, Line: lineOf(root, at), Path: path, Detail: detail.text})
		}
	}
	each(wrong)
	return faults
}

// detail is what is wrong, and with which of the names at a place.
type detail struct{ key, text string }

// says puts into words what does not fit.
func says(e *jsonschema.ValidationError) (out []detail) {
	switch k := e.ErrorKind.(type) {
	case *kind.AdditionalProperties:
		for _, name := range k.Properties {
			text := fmt.Sprintf("%q is not known here", name)
			if near := known(e.SchemaURL, name); near != "" {
				text += "; " + near
			}
			out = append(out, detail{name, text})
		}
	case *kind.Required:
		for _, name := range k.Missing {
			out = append(out, detail{"", fmt.Sprintf("%q is missing", name)})
		}
	case *kind.Type:
		text := fmt.Sprintf("must be %s, not %s", inWords(k.Want...), inWords(k.Got))
		if slices.Contains(k.Want, "string") && k.Got != "array" && k.Got != "object" {
			text += "; write it in quotes"
		}
		out = append(out, detail{"", text})
	case *kind.Enum:
		var all []string
		for _, x := range k.Want {
			all = append(all, fmt.Sprint(x))
		}
		out = append(out, detail{"", fmt.Sprintf("%q is not one of %s", fmt.Sprint(k.Got), strings.Join(all, ", "))})
	case *kind.MinLength:
		out = append(out, detail{"", "must not be empty"})
	default:
		out = append(out, detail{"", e.ErrorKind.LocalizedString(message.NewPrinter(language.English))})
	}
	return out
}

// known says which names there are where an unknown one stands.
func known(schema, name string) string {
	var whole struct {
		Defs map[string]struct {
			Properties map[string]any `json:"properties"`
		} `json:"$defs"`
	}
	if json.Unmarshal(Schema(), &whole) != nil {
		return ""
	}
	_, def, _ := strings.Cut(schema, "#/$defs/")
	def, _, _ = strings.Cut(def, "/")
	names := slices.Sorted(maps.Keys(whole.Defs[def].Properties))
	for _, n := range names {
		if strings.EqualFold(n, name) {
			return fmt.Sprintf("write %q", n)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return "there are " + strings.Join(names, ", ")
}

func inWords(types ...string) string {
	words := map[string]string{
		"string": "a text", "number": "a number", "integer": "a whole number", "boolean": "true or false",
		"array": "a list", "object": "names with values",
	}
	var out []string
	for _, t := range types {
		if w := words[t]; w != "" {
			out = append(out, w)
		}
	}
	return strings.Join(out, " or ")
}
