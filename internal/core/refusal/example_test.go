package refusal_test

import (
	"fmt"

	"kanban/internal/core/refusal"
)

func ExampleInvalid() {
	err := fmt.Errorf("making the account: %w", refusal.Invalid("email", "%q is not an e-mail address", "ada"))
	r, ok := refusal.As(err)
	fmt.Println(ok, r.Kind, r.Field, r.Detail)
	// Output: true invalid email "ada" is not an e-mail address
}
