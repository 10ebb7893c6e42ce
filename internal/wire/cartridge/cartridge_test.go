package cartridge_test

import (
	"archive/zip"
	"bytes"
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
	assert.Equal(t, []cartridge.Item{{
		ID: "i1", Title: "Module 1",
		Items: []cartridge.Item{{ID: "i2", Title: "Reading", Resource: "webcontent"}},
	}}, items)
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

func TestManifestOfAPackage(t *testing.T) {
	pack := func(names ...string) []byte {
		var out bytes.Buffer
		z := zip.NewWriter(&out)
		for _, name := range names {
			w, err := z.Create(name)
			require.NoError(t, err)
			_, err = w.Write([]byte(manifest))
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
		return out.Bytes()
	}
	read := func(content []byte) (string, error) {
		text, err := cartridge.Manifest(bytes.NewReader(content), int64(len(content)))
		return string(text), err
	}
	for what, content := range map[string][]byte{
		"a package":          pack("web/reading.html", "imsmanifest.xml"),
		"the manifest alone": []byte(manifest),
	} {
		text, err := read(content)
		require.NoError(t, err, what)
		assert.Equal(t, manifest, text, what)
	}
	for want, content := range map[string][]byte{
		"no imsmanifest.xml at its root": pack("course/imsmanifest.xml"),
		"cannot be opened":               pack("imsmanifest.xml")[:200],
		"more than":                      bytes.Repeat([]byte("x"), 9<<20),
	} {
		_, err := read(content)
		require.ErrorIs(t, err, cartridge.ErrManifest)
		assert.ErrorContains(t, err, want)
	}
}
