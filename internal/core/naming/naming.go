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
var Fields = []string{"section", "code", "course", "courseCode", "term", "teacher", "organisation"}

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
	found := field.FindAllStringSubmatch(template, -1)
	for _, f := range found {
		if !slices.Contains(Fields, f[1]) {
			return fmt.Errorf("there is no field {%s}; use {%s}", f[1], strings.Join(Fields, "}, {"))
		}
	}
	if len(found) == 0 {
		return fmt.Errorf("%q names no field, so every class would have one name; use {%s}", template, strings.Join(Fields, "}, {"))
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
	name := field.ReplaceAllStringFunc(template, func(f string) string { return strings.TrimSpace(values[f[1:len(f)-1]]) })
	name = strings.Join(strings.Fields(name), " ")
	name = strings.Trim(name, " ·–-/|,:")
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
