package visibility_test

import (
	"fmt"
	"time"

	"kanban/internal/core/visibility"
)

func ExampleRules_Of() {
	rules := visibility.Rules{{Name: "Advisory", ClassType: "homeroom"}, {Name: "Empty", Empty: true}}
	now := time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC)
	fmt.Println(rules.Of(visibility.Section{Title: "Advisory hour", ClassType: "homeroom", Learners: 30}, now, true))
	fmt.Println(rules.Of(visibility.Section{Title: "Soil science A", Learners: 14}, now, true))
	// paired ones are always shown
	fmt.Println(rules.Of(visibility.Section{Title: "Beekeeping A", Paired: true}, now, true))
	// Output:
	// Advisory true
	//  false
	//  false
}
