package finding_test

import (
	"fmt"

	"kanban/internal/core/finding"
)

func ExampleLookup() {
	e, known := finding.Lookup(finding.AddressMissing)
	fmt.Println(known, e.Severity, e.Title, "/", e.Owner)
	_, known = finding.Lookup("no-such-code")
	fmt.Println(known)
	// Output:
	// true block no e-mail address / register office
	// false
}
