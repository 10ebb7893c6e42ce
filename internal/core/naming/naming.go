// Package naming makes the names of outside classes from a template, so that they
// can be friendlier than a register's code names.
//
//	name, err := naming.Name("{course} · {teacher}", naming.Values{"course": "Propagation", "teacher": "Maud Marrow"})
package naming

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Fields that a template may use, in the order in which they are shown.
var Fields = []string{
	"section", "code", "course", "courseCode", "term", "teacher", "organisation", "level",
	"subject", "starts", "ends",
}

// Values of the fields, for one section or linked set.
type Values map[string]string

// Usual is the template that is used when nobody chose one.
const Usual = "{section}"

// Longest is how many characters a name may have.
const Longest = 120

var field = regexp.MustCompile(`\{([^{}]*)\}`)

// Check reports a template that can give no name: a field that does not exist, or
// no field at all, which would give every class one name.
func Check(template string) error {
	if err := CheckFields(template); err != nil {
		return err
	}
	if !field.MatchString(template) {
		return fmt.Errorf("%q names no field, so every class would have one name; use {%s}", template,
			strings.Join(Fields, "}, {"))
	}
	return nil
}

// Known fills a template in as Name does, if every value that it names is there; otherwise
// what it would say is not known, and it gives nothing.
func Known(template string, values Values) string {
	for _, f := range field.FindAllStringSubmatch(template, -1) {
		if strings.TrimSpace(values[f[1]]) == "" {
			return ""
		}
	}
	return fill(template, values)
}

func fill(template string, values Values) string {
	name := field.ReplaceAllStringFunc(template,
		func(f string) string { return strings.TrimSpace(values[f[1:len(f)-1]]) })
	return strings.Trim(strings.Join(strings.Fields(name), " "), " ·–-/|,:")
}

// CheckFields reports a field that does not exist.
func CheckFields(template string) error {
	for _, f := range field.FindAllStringSubmatch(template, -1) {
		if !slices.Contains(Fields, f[1]) {
			return fmt.Errorf("there is no field {%s}; use {%s}", f[1], strings.Join(Fields, "}, {"))
		}
	}
	return nil
}

// Name fills a template in. White space is put in order, and separators around a
// value that is missing go with it. A name that is empty or longer than Longest
// is an error that says so; the name is given all the same.
func Name(template string, values Values) (string, error) {
	if err := Check(template); err != nil {
		return "", err
	}
	name := fill(template, values)
	switch n := len([]rune(name)); {
	case n == 0:
		return name, fmt.Errorf("the template %q gives an empty name here", template)
	case n > Longest:
		return name, fmt.Errorf("the name has %d characters, at most %d are possible: %s", n, Longest, name)
	}
	return name, nil
}

// Key is the same for names that people could not tell apart.
func Key(name string) string { return strings.ToLower(strings.Join(strings.Fields(name), " ")) }

// Named is a section with the name that a template gives its class.
type Named struct {
	Section string `json:"section"`
	Name    string `json:"name"`
	Problem string `json:"problem,omitempty" doc:"Why the name cannot be used"`
}

// Shared is a name that several classes would have.
type Shared struct {
	Name     string   `json:"name"`
	Sections []string `json:"sections"`
}

// Naming is what a template would call many classes.
type Naming struct {
	Sections int      `json:"sections" doc:"How many were looked at"`
	Examples []Named  `json:"examples" doc:"The first few"`
	Unfit    []Named  `json:"unfit" doc:"Those whose name would be empty or too long"`
	Shared   []Shared `json:"shared" doc:"Names that several would have"`
}

// mostExamples is how many names are shown.
const mostExamples = 3

// Try names the classes of many sections, each given by its values. A template that can
// give no name is an error, as Check says it.
func Try(template string, sections []Values) (Naming, error) {
	t := Naming{Sections: len(sections), Examples: []Named{}, Unfit: []Named{}, Shared: []Shared{}}
	if err := Check(template); err != nil {
		return t, err
	}
	at := map[string]int{} // by key, in all
	var all []Shared
	for _, values := range sections {
		n := Named{Section: values["section"]}
		var err error
		if n.Name, err = Name(template, values); err != nil {
			n.Problem = err.Error()
			t.Unfit = append(t.Unfit, n)
			continue
		}
		if len(t.Examples) < mostExamples {
			t.Examples = append(t.Examples, n)
		}
		i, there := at[Key(n.Name)]
		if !there {
			i = len(all)
			at[Key(n.Name)] = i
			all = append(all, Shared{Name: n.Name})
		}
		all[i].Sections = append(all[i].Sections, n.Section)
	}
	for _, s := range all {
		if len(s.Sections) > 1 {
			t.Shared = append(t.Shared, s)
		}
	}
	return t, nil
}
