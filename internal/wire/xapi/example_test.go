package xapi_test

import (
	"fmt"

	"kanban/internal/wire/xapi"
)

func ExampleParse() {
	list, _, err := xapi.Parse([]byte(`{"actor": {"mbox": "mailto:ada@fernmoor.example"}, "verb": {"id": "http://adlnet.gov/expapi/verbs/completed"}, "object": {"id": "https://platform.example/one"}}`))
	fmt.Println(list[0].Actor.Address(), list[0].Verb.ID == xapi.ADL+"completed", list[0].Object.ID, err)
	_, _, err = xapi.Parse([]byte(`{"actor": {}}`))
	fmt.Println(err != nil)
	// Output:
	// ada@fernmoor.example true https://platform.example/one <nil>
	// true
}
