package learning

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Whatever a module asks for, the facts that finish it do so, and nothing beside it.
func TestFinishingFinishesAModule(t *testing.T) {
	mark := 0.8
	m := Module{ID: "m", Activities: []Activity{
		{ID: "read", Kind: Lesson},
		{ID: "quiz", Kind: Assessment},
		{ID: "essay", Kind: Assignment, PassMark: &mark},
		{ID: "more", Kind: Lesson, Optional: true},
		{ID: "unit", Kind: Lesson, DoneByInside: true, Activities: []Activity{{ID: "inner", Kind: Assessment}}},
	}}
	course := NewCourse(Outline{Modules: []Module{m, {ID: "n", Activities: []Activity{{ID: "later", Kind: Lesson}}}}})
	at := time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC)
	var bits DoneBits
	var derived, some []Derived
	var did []string
	for _, f := range Finishing(m, at) {
		bits, _, some = course.Advance(bits, ActivityState{}, f)
		derived, did = append(derived, some...), append(did, f.ActivityID)
	}
	assert.ElementsMatch(t, []string{"read", "quiz", "essay", "inner"}, did)
	var modules []string
	for _, d := range derived {
		if d.Kind == ModuleCompleted {
			modules = append(modules, d.ModuleID)
		}
	}
	assert.Equal(t, []string{"m"}, modules)
	only := Finishing(Module{ID: "o", Activities: []Activity{{ID: "a", Optional: true, Kind: Lesson}}}, at)
	assert.Len(t, only, 1, "when everything may be left out, all of it makes the module up")
	assert.Empty(t, Finishing(Module{ID: "empty"}, at))
}
