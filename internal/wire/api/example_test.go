package api_test

import (
	"encoding/json"
	"fmt"

	"kanban/internal/wire/api"
)

func ExamplePage() {
	text, _ := json.Marshal(api.Page[api.Queued]{Items: []api.Queued{{Pairings: 2}}, Next: "100"})
	fmt.Println(string(text))
	text, _ = json.Marshal(api.Page[api.Queued]{Items: []api.Queued{}}) // the last page names none that follows
	fmt.Println(string(text))
	// Output:
	// {"items":[{"pairings":2}],"next":"100"}
	// {"items":[]}
}
