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

func TestTrialShowsWhatWouldClash_S6(t *testing.T) {
	of := func(section, course string) naming.Values { return naming.Values{"section": section, "course": course} }
	trial, err := naming.Try("{course}", []naming.Values{
		of("A", "Propagation"), of("B", " propagation"), of("C", ""),
		of("D", "Soil"), of("E", strings.Repeat("x", 130)),
	})
	assert.NoError(t, err)
	assert.Equal(t, 5, trial.Sections)
	assert.Equal(t, []naming.Shared{{Name: "Propagation", Sections: []string{"A", "B"}}}, trial.Shared,
		"names that nobody could tell apart")
	assert.Equal(t, []string{"C", "E"}, []string{trial.Unfit[0].Section, trial.Unfit[1].Section})
	assert.Len(t, trial.Examples, 3)
	_, err = naming.Try("{cource}", nil)
	assert.ErrorContains(t, err, "no field {cource}")
}
