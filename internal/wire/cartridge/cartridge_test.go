package cartridge_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/cartridge"
)

const manifest = `<manifest identifier="m1" xmlns="http://www.imsglobal.org/xsd/imsccv1p3/imscp_v1p1">
  <metadata><schema>IMS Common Cartridge</schema><schemaversion>1.3.0</schemaversion></metadata>
  <organizations><organization identifier="o1" structure="rooted-hierarchy"><item identifier="root">
    <item identifier="i1"><title>Module 1</title><item identifier="i2" identifierref="r1"><title>Reading</title></item></item>
  </item></organization></organizations>
  <resources><resource identifier="r1" type="webcontent" href="web/reading.html"/></resources>
</manifest>`

func TestParse(t *testing.T) {
	items, err := cartridge.Parse(strings.NewReader(manifest))
	require.NoError(t, err)
	assert.Equal(t, []cartridge.Item{{ID: "i1", Title: "Module 1", Items: []cartridge.Item{{ID: "i2", Title: "Reading", Resource: "webcontent"}}}}, items)
}

func TestParseRefusesWhatIsNoManifest(t *testing.T) {
	for want, text := range map[string]string{
		"EOF":                  "",
		"namespace":            "<manifest/>",
		"has 0 outlines":       `<manifest xmlns="http://x/imscp_v1p1"/>`,
		"unknown resource":     strings.Replace(manifest, `identifierref="r1"`, `identifierref="r9"`, 1),
		"expected element typ": "<other/>",
	} {
		_, err := cartridge.Parse(strings.NewReader(text))
		require.ErrorIs(t, err, cartridge.ErrManifest)
		assert.ErrorContains(t, err, want)
	}
}
