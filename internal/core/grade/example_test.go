package grade_test

import (
	"fmt"

	"kanban/internal/core/grade"
)

func ExampleCompare() {
	points := func(p float64) grade.Mark { return grade.Mark{Kind: grade.Points, Points: p} }
	essay := grade.Item{
		ID:     "essay",
		Source: grade.LineItem{Title: "Essay", Maximum: 20},
		Book:   &grade.LineItem{Title: "Essay", Maximum: 100},
		Results: []grade.Result{
			{Who: "Ada", Status: grade.Final, Mark: points(18)},
			{Who: "Bram", Status: grade.Draft, Mark: points(12)},
			{Who: "Cleo", Status: grade.Final, Mark: points(15)},
		},
		Held:    []grade.Held{{Who: "Cleo", Mark: points(60)}},
		Carried: []grade.Carried{{Who: "Cleo", Mark: points(70)}},
	}
	for _, e := range grade.Compare([]grade.Item{essay}, grade.DefaultPolicy()).Items[0].Entries {
		fmt.Printf("%s: %s → %s → %s: %s, %s\n", e.Who, e.Was, e.Theirs, e.Ours, e.Outcome, e.Reason)
	}
	// Output:
	// Ada: – → – → 90: new, score-new
	// Bram: – → – → –: held, score-draft
	// Cleo: 70 → 60 → 75: conflict, score-changed-in-book
}
