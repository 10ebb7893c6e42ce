package openbadge_test

import (
	"bytes"
	"image"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/wire/openbadge"
)

func picture(t require.TestingT) []byte {
	var out bytes.Buffer
	require.NoError(t, png.Encode(&out, image.NewGray(image.Rect(0, 0, 40, 40))))
	return out.Bytes()
}

const drawing = `<?xml version="1.0"?>
<!-- a leaf -->
<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><title>Leaf &amp; root</title><path d="M1 1h4"/></svg>
`

// What is put into a picture comes out again, once, and the picture stays a picture.
func TestCredentialsGoIntoPicturesAndComeOut(t *testing.T) {
	token, document := "a.b-c.d_e", `{"a":"x ]]> y < & \u003e","proof":{}}`
	for _, credential := range []string{document, token} {
		baked := picture(t)
		for range 2 { // in place of the one that is there
			var err error
			baked, err = openbadge.BakePNG(baked, []byte(credential))
			require.NoError(t, err)
		}
		assert.Equal(t, 1, bytes.Count(baked, []byte("openbadgecredential\x00\x00\x00\x00\x00"+credential)))
		_, err := png.Decode(bytes.NewReader(baked))
		require.NoError(t, err)
		out, err := openbadge.Unbake(baked)
		require.NoError(t, err)
		assert.Equal(t, credential, string(out))

		drawn := []byte(drawing)
		for range 2 {
			drawn, err = openbadge.BakeSVG(drawn, []byte(credential))
			require.NoError(t, err)
		}
		assert.Equal(t, 1, strings.Count(string(drawn), "<openbadges:credential"), "%s", drawn)
		assert.Equal(t, 1, strings.Count(string(drawn), "xmlns:openbadges"))
		assert.Contains(t, string(drawn), `<title>Leaf &amp; root</title><path d="M1 1h4"/></svg>`)
		out, err = openbadge.Unbake(drawn)
		require.NoError(t, err)
		if credential == token {
			assert.Equal(t, credential, string(out))
		} else {
			assert.JSONEq(t, credential, string(out))
		}
	}
	plain, err := openbadge.Unbake([]byte(" {} \n"))
	require.NoError(t, err)
	assert.Equal(t, "{}", string(plain))
}

func TestPicturesWithoutABadgeSaySo(t *testing.T) {
	cut := picture(t)
	old, err := openbadge.BakePNG(cut, []byte("x"))
	require.NoError(t, err)
	for want, file := range map[string]string{
		"no badge is in it":  string(picture(t)),
		"cut off":            string(cut[:len(cut)-6]),
		"damaged":            strings.Replace(string(old), "openbadgecredential", "openbadgecredentiaL", 1),
		"carries 0 badges":   drawing,
		"cannot be read":     drawing[:len(drawing)-9],
		"is no SVG":          "<html></html>",
		"shows nothing":      `<svg xmlns="http://www.w3.org/2000/svg"/>`,
		"larger than 1024 k": strings.Repeat("x", 2<<20),
		"empty":              strings.Replace(drawing, "<path", `<credential xmlns="https://purl.imsglobal.org/ob/v3p0"> </credential><path`, 1),
	} {
		_, err := openbadge.Unbake([]byte(file))
		assert.ErrorContains(t, err, want)
	}
	_, err = openbadge.BakePNG([]byte(drawing), nil)
	require.ErrorIs(t, err, openbadge.ErrPicture)
	_, err = openbadge.BakeSVG(picture(t), nil)
	require.ErrorIs(t, err, openbadge.ErrPicture)
}

// Damaged pictures are refused or give what was in them; they never give something else.
func TestDamagedPictures(t *testing.T) {
	const credential = `{"a":"credential"}`
	png, err := openbadge.BakePNG(picture(t), []byte(credential))
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		file := bytes.Clone(png)
		for range rapid.IntRange(1, 4).Draw(t, "times") {
			file[rapid.IntRange(0, len(file)-1).Draw(t, "at")] = rapid.Byte().Draw(t, "byte")
		}
		file = file[:rapid.IntRange(0, len(file)).Draw(t, "cut")]
		out, err := openbadge.Unbake(file)
		if bytes.HasPrefix(file, []byte("\x89PNG\r\n\x1a\n")) && err == nil {
			assert.Equal(t, credential, string(out))
		}
	})
}
