package badge_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/badge"
)

func drawn(t testing.TB, width, height int) []byte {
	t.Helper()
	var out bytes.Buffer
	p := image.NewRGBA(image.Rect(0, 0, width, height))
	p.Set(1, 1, color.RGBA{R: 200, A: 255})
	require.NoError(t, png.Encode(&out, p))
	return out.Bytes()
}

const leaf = `<?xml version="1.0" encoding="UTF-8"?>
<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" viewBox="0 0 90 90">
<title>Leaf &amp; root</title><defs><linearGradient id="g"><stop offset="0" stop-color="#fff"/></linearGradient></defs>
<style>path { fill: url(#g) }</style><path d="M1 1h4" style="stroke: url('#g')"/><use xlink:href="#g"/><text>蜂</text></svg>`

func TestPicturesThatDrawAreTaken(t *testing.T) {
	kind, clean, err := badge.CheckPicture(drawn(t, 300, 300))
	require.NoError(t, err)
	assert.Equal(t, badge.PNG, kind)
	size, err := png.DecodeConfig(bytes.NewReader(clean))
	require.NoError(t, err)
	assert.Equal(t, []int{300, 300}, []int{size.Width, size.Height})
	kind, clean, err = badge.CheckPicture([]byte(leaf))
	require.NoError(t, err)
	assert.Equal(t, []string{badge.SVG, leaf}, []string{kind, string(clean)})
}

// What is hidden in a PNG does not stay in it.
func TestHiddenPartsOfPicturesAreDropped(t *testing.T) {
	p := drawn(t, 100, 100)
	at := bytes.Index(p, []byte("IDAT")) - 4
	text := binary.BigEndian.AppendUint32([]byte("\x00\x00\x00\x07tEXthidden\x00"), crc32.ChecksumIEEE([]byte("tEXthidden\x00")))
	hidden := append(append(bytes.Clone(p[:at]), text...), p[at:]...)
	_, clean, err := badge.CheckPicture(hidden)
	require.NoError(t, err)
	assert.NotContains(t, string(clean), "hidden")
}

func TestPicturesThatDoMoreAreRefused(t *testing.T) {
	noise := image.NewRGBA(image.Rect(0, 0, 900, 900))
	for i := range noise.Pix {
		noise.Pix[i] = byte(rand.IntN(256)) //nolint:gosec // a picture
	}
	var large bytes.Buffer
	require.NoError(t, png.Encode(&large, noise))
	p := drawn(t, 100, 100)
	with := func(old, new string) string {
		require.Contains(t, leaf, old)
		return strings.Replace(leaf, old, new, 1)
	}
	for want, content := range map[string]string{
		"neither a PNG nor":    "GIF89a",
		"larger than 2 MB":     large.String(),
		"cannot be read":       string(p[:len(p)/2]),
		"at least 90":          string(drawn(t, 20, 20)),
		"at most 2048":         string(drawn(t, 3000, 3000)),
		"badges are square":    string(drawn(t, 100, 200)),
		"larger than 256 kB":   with("蜂", strings.Repeat("x", 300<<10)),
		"element \"script\"":   with("<text>", "<script>alert(1)</script><text>"),
		"element \"image\"":    with("<text>", "<image href='x.png'/><text>"),
		"element \"foreignOb":  with("<text>", "<foreignObject/><text>"),
		"element \"a\"":        with("<text>", "<a/><text>"),
		"element \"animate\"":  with("<text>", "<animate attributeName='href'/><text>"),
		"element \"div\"":      with("<text>", "<div xmlns='http://www.w3.org/1999/xhtml'/><text>"),
		"script (onload)":      with("viewBox", "onload='alert(1)' viewBox"),
		"leads elsewhere (hr":  with(`xlink:href="#g"`, `xlink:href="https://x.example/y.svg#g"`),
		"leads elsewhere (ba":  with("viewBox", "xml:base='https://x.example' viewBox"),
		"style in the SVG":     with("url(#g)", "url(https://x.example)"),
		"style in the SVG wo":  with("fill: url(#g)", "fill: u\\72l(https://x.example)"),
		"style in the SVG wou": with("path {", "@import 'https://x.example/x.css'; path {"),
		"style in the SVG w":   with("url('#g')", "url('//x.example')"),
		"document type":        with("<svg", "<!DOCTYPE svg [<!ENTITY a \"b\">]><svg"),
		"instruction":          with("<svg", "<?xml-stylesheet href='x.css'?><svg"),
		"no viewBox":           with("viewBox=\"0 0 90 90\"", ""),
		"it is no SVG":         "<html></html>",
		"inside each other":    with("<text>", strings.Repeat("<g>", 100)+"<text>"),
	} {
		_, _, err := badge.CheckPicture([]byte(content))
		require.ErrorIs(t, err, badge.ErrPicture, want)
		assert.ErrorContains(t, err, want)
	}
}

// Whatever is uploaded, what is taken can be shown, and holds no script.
func TestDamagedPicturesAreRefusedOrHarmless(t *testing.T) {
	good := drawn(t, 100, 100)
	rapid.Check(t, func(t *rapid.T) {
		content := bytes.Clone(rapid.SampledFrom([][]byte{good, []byte(leaf)}).Draw(t, "of"))
		for range rapid.IntRange(1, 5).Draw(t, "times") {
			content[rapid.IntRange(0, len(content)-1).Draw(t, "at")] = rapid.Byte().Draw(t, "byte")
		}
		content = content[:rapid.IntRange(0, len(content)).Draw(t, "cut")]
		kind, clean, err := badge.CheckPicture(content)
		if err == nil && kind == badge.PNG {
			_, err := png.Decode(bytes.NewReader(clean))
			require.NoError(t, err)
		}
	})
}
