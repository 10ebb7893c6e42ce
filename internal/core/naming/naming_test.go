package naming_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"kanban/internal/core/naming"
)

func ExampleName() {
	name, _ := naming.Name("{course} · {teacher}", naming.Values{"course": "Propagation", "teacher": "Maud Marrow"})
	fmt.Println(name)
	// Output: Propagation · Maud Marrow
}

func TestNames_S6(t *testing.T) {
	values := naming.Values{"section": "Propagation A", "code": "PROP-A", "course": "Propagation", "term": " "}
	for template, want := range map[string]string{
		"{section}":              "Propagation A",
		"{course}  –  {code}":    "Propagation – PROP-A",
		"{course} · {term}":      "Propagation",
		"{teacher} · {course}":   "Propagation",
		"Class {code} of {term}": "Class PROP-A of",
	} {
		name, err := naming.Name(template, values)
		assert.NoError(t, err, template)
		assert.Equal(t, want, name)
	}
	for template, problem := range map[string]string{
		"{teacher}":                            "empty name",
		"{cource}":                             "no field {cource}",
		"Class":                                "names no field",
		"":                                     "names no field",
		"{section}" + strings.Repeat("x", 120): "133 characters",
	} {
		_, err := naming.Name(template, values)
		assert.ErrorContains(t, err, problem, template)
	}
	assert.Equal(t, naming.Key("Propagation  a"), naming.Key(" propagation A "))
}
