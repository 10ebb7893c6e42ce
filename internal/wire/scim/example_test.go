package scim_test

import (
	"fmt"

	"kanban/internal/wire/scim"
)

func ExampleAny() {
	filter := scim.Any(scim.Equal("userName", "ada"), scim.Equal("externalId", `stu-"1"`))
	fmt.Println(filter)
	terms, err := scim.ParseAny(filter)
	fmt.Println(len(terms), err)
	// Output:
	// userName eq "ada" or externalId eq "stu-\"1\""
	// 2 <nil>
}
