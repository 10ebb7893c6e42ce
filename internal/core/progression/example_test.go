package progression_test

import (
	"fmt"

	"kanban/internal/core/progression"
)

func ExampleProgression_Look() {
	p := progression.Progression{CourseID: "prop", Stages: []progression.Stage{
		{ID: "s1", Title: "Sower", Criteria: []progression.Criterion{{Kind: progression.Module, ModuleID: "sowing"}}},
		{ID: "s2", Title: "Grafter", Criteria: []progression.Criterion{{Kind: progression.Module, ModuleID: "grafting"}}},
	}}
	known := progression.Evidence{Modules: map[progression.Key]bool{{"prop", "sowing"}: true}}
	standing := p.Look(known)
	next, _ := p.Next(standing)
	reached, _ := p.Changes(func(string) bool { return false }, standing)
	fmt.Println(standing.Percent, "reached", reached[0].Title, "next", next.Title)
	// Output: 50 reached Sower next Grafter
}
