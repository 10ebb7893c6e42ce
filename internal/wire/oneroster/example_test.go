package oneroster_test

import (
	"bytes"
	"fmt"

	"kanban/internal/wire/oneroster"
)

func ExampleWritePackage() {
	var file bytes.Buffer
	err := oneroster.WritePackage(&file, "Fernmoor", map[string]oneroster.Table{
		oneroster.FileOrgs: {Mode: oneroster.Bulk, Rows: []map[string]string{{
			"sourcedId": "org-1",
			"status":    "active", "name": "Fernmoor Garden School", "type": "school",
		}}},
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	p, err := oneroster.OpenPackage(bytes.NewReader(file.Bytes()), int64(file.Len()), oneroster.Limits{})
	if err != nil {
		fmt.Println(err)
		return
	}
	_ = p.Rows(oneroster.FileOrgs, func(r oneroster.Row) error {
		fmt.Println(p.Modes[oneroster.FileOrgs], r.Get("sourcedId"), r.Get("name"))
		return nil
	}, func(oneroster.Bad) error { return nil }, func(string) {})
	// Output: bulk org-1 Fernmoor Garden School
}
