package cartridge_test

import (
	"fmt"
	"strings"

	"kanban/internal/wire/cartridge"
)

func ExampleParse() {
	items, err := cartridge.Parse(strings.NewReader(`<?xml version="1.0"?>
<manifest identifier="m" xmlns="http://www.imsglobal.org/xsd/imsccv1p3/imscp_v1p1">
 <organizations><organization identifier="o"><item identifier="root">
  <item identifier="sowing"><title>Sowing</title><item identifier="depth" identifierref="r1"><title>Depth</title></item></item>
 </item></organization></organizations>
 <resources><resource identifier="r1" type="webcontent"/></resources>
</manifest>`))
	for _, module := range items {
		fmt.Println(module.Title, len(module.Items), module.Items[0].Title, module.Items[0].Resource, err)
	}
	// Output: Sowing 1 Depth webcontent <nil>
}
