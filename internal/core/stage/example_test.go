package stage_test

import (
	"fmt"

	"kanban/internal/core/stage"
)

func ExamplePlan_ProgressOf() {
	p := stage.Plan{CourseID: "prop", Stages: []stage.Stage{
		{ID: "s1", Title: "Sower", Criteria: []stage.Criterion{{Kind: stage.Module, ModuleID: "sowing"}}},
		{ID: "s2", Title: "Grafter", Criteria: []stage.Criterion{{Kind: stage.Module, ModuleID: "grafting"}}},
	}}
	known := stage.Evidence{Modules: map[stage.Key]bool{{"prop", "sowing"}: true}}
	progress := p.ProgressOf(known)
	next, _ := p.Next(progress)
	reached, _ := p.Changes(func(string) bool { return false }, progress)
	fmt.Println(progress.Percent, "reached", reached[0].Title, "next", next.Title)
	// Output: 50 reached Sower next Grafter
}
