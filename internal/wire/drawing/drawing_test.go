package drawing

import (
	"bytes"
	"encoding/xml"
	"errors"
	"image"
	"image/color"
	"image/png"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/badge"
)

var green = badge.Colours{Edge: "#1f4d2b", Body: "#2f6136", Disc: "#fffdf7", Symbol: "#b4451f", Text: "#fffdf7"}

func read(t require.TestingT, content []byte) image.Image {
	drawn, err := png.Decode(bytes.NewReader(content))
	require.NoError(t, err)
	return drawn
}

// share is how much of a picture has about a colour.
func share(drawn image.Image, c Colour) float64 {
	want, _ := c.RGBA()
	n, all := 0, drawn.Bounds().Dx()*drawn.Bounds().Dy()
	near := func(a, b uint8) bool { return max(a, b)-min(a, b) < 12 }
	for y := range drawn.Bounds().Dy() {
		for x := range drawn.Bounds().Dx() {
			p := color.NRGBAModel.Convert(drawn.At(x, y)).(color.NRGBA) //nolint:forcetypeassert // its own model
			if p.A > 250 && near(p.R, want.R) && near(p.G, want.G) && near(p.B, want.B) {
				n++
			}
		}
	}
	return float64(n) / float64(all)
}

// Every letter of these alphabets has an outline of its own; what no font has would be drawn as the empty box.
func TestNamesInEveryAlphabet(t *testing.T) {
	for _, name := range []string{
		"Ada Alder", "Αθηνά Παπαδοπούλου", "Тетяна Шевчук", "Nguyễn Thị Hồng Ánh", "إكثار النباتات", "李小龙 植物繁殖",
	} {
		all := newFaces(false)
		for _, r := range name {
			_, there := all.ResolveFace(r).NominalGlyph(r)
			assert.True(t, there || r == ' ', "%q in %s", r, name)
		}
		d := New(600, 80, name)
		s := Fitted(name, Style{Size: 48}, 560)
		d.Text(name, s, 20, 60, Start)
		content, err := d.PNG(600)
		require.NoError(t, err)
		assert.Greater(t, share(read(t, content), "#000000"), 0.01, name)
	}
}

// Arabic letters join: set together they are narrower than set apart, and they run from right to left.
func TestArabicIsShaped(t *testing.T) {
	s := Style{Size: 40}
	word := "نبات"
	apart := 0.0
	for _, r := range word {
		apart += Width(string(r), s)
	}
	assert.Less(t, Width(word, s), apart*0.95)
	mixed := lines("نبات 12", s, 0)[0]
	digits := lines("12", s, 0)[0]
	assert.InDelta(t, 0, mixed.glyphs[0].x, 0.01)
	assert.Equal(t, digits.glyphs[0].path.String(), mixed.glyphs[0].path.String(), "the number stands at the left")
}

func TestTextIsWrappedAndCut(t *testing.T) {
	text := strings.Repeat("takes cuttings that root and grow ", 12)
	s := Style{Size: 20}
	for _, l := range lines(text, s, 300) {
		assert.LessOrEqual(t, l.width, 300.0)
	}
	d := New(400, 400, "t")
	assert.InDelta(t, 20+3*20*leading, d.Wrapped(text, s, 10, 20, 300, Start, 3), 0.01, "three lines")
	assert.Len(t, d.shapes, 3)
	assert.Equal(t, 20.0, Fitted("short", s, 300).Size)
	assert.InDelta(t, 300, Width(text, Fitted(text, s, 300)), 0.5)
}

func TestPaths(t *testing.T) {
	for text, good := range map[string]bool{
		"M1 2L3 4Q1 2 3 4C1 2 3 4 5 6Z": true, "L1 2": false, "M1": false, "M1 x": false, "M1 2H4": false, "": true,
	} {
		p, err := ParsePath(text)
		if assert.Equal(t, good, err == nil, text); good {
			assert.Equal(t, text, p.String())
		} else {
			require.ErrorIs(t, err, ErrPath)
		}
	}
	for _, text := range []string{"red", "#12", "#12345g", ""} {
		_, err := Colour(text).RGBA()
		require.ErrorIs(t, err, ErrColour)
	}
	d := New(10, 10, "t")
	d.Fill(Rect(0, 0, 5, 10), "nothing")
	_, err := d.PNG(10)
	require.ErrorIs(t, err, ErrColour)
	_, err = d.PDF(time.Now())
	require.ErrorIs(t, err, ErrColour)
}

// Whatever is drawn is a well-formed SVG that a badge may have as its picture, a PNG and a PDF of one page.
func TestWhateverIsDrawn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		design := badge.Design{
			Shape: rapid.SampledFrom(badge.Shapes).Draw(t, "shape"), Stars: rapid.IntRange(0, 5).Draw(t, "stars"),
			Above: rapid.StringN(0, 60, 200).Draw(t, "above"), Below: rapid.StringN(0, 60, 200).Draw(t, "below"),
			Colours: green,
		}
		if rapid.Bool().Draw(t, "letters") {
			design.Letters = rapid.StringN(0, 12, 40).Draw(t, "text")
		} else {
			design.Symbol = rapid.SampledFrom(Symbols()).Draw(t, "symbol")
		}
		d, err := Emblem(design, rapid.String().Draw(t, "title"))
		require.NoError(t, err)
		svg := d.SVG()
		kind, kept, err := badge.CheckPicture(svg)
		require.NoError(t, err)
		require.Equal(t, []any{badge.SVG, len(svg)}, []any{kind, len(kept)})
		for decoder := xml.NewDecoder(bytes.NewReader(svg)); ; {
			if _, err := decoder.Token(); errors.Is(err, io.EOF) {
				break
			} else {
				require.NoError(t, err)
			}
		}
		content, err := d.PNG(120)
		require.NoError(t, err)
		drawn := read(t, content)
		require.Equal(t, image.Pt(120, 120), drawn.Bounds().Size())
		require.Greater(t, share(drawn, "#2f6136"), 0.1, "the body is seen")
		pdf, err := d.PDF(time.Unix(0, 0))
		require.NoError(t, err)
		require.True(t, bytes.HasPrefix(pdf, []byte("%PDF-")))
		require.Contains(t, string(pdf), "/Count 1")
	})
}

func TestDesignsThatCannotBeDrawn(t *testing.T) {
	good := badge.Design{Shape: "round", Symbol: "leaf", Colours: green}
	_, err := Emblem(good, "t")
	require.NoError(t, err)
	for name, change := range map[string]func(*badge.Design){
		"shape":   func(d *badge.Design) { d.Shape = "cloud" },
		"symbol":  func(d *badge.Design) { d.Symbol = "unicorn" },
		"letters": func(d *badge.Design) { d.Letters = strings.Repeat("x", 13) },
		"text":    func(d *badge.Design) { d.Above = strings.Repeat("x", 61) },
		"stars":   func(d *badge.Design) { d.Stars = 6 },
		"colour":  func(d *badge.Design) { d.Colours.Edge = `red"/><script>` },
	} {
		d := good
		change(&d)
		_, err := Emblem(d, "t")
		require.ErrorIs(t, err, badge.ErrDesign, name)
	}
}

// Badges of one school are a family by their colours and their shape, and still tell each other apart.
func TestBadgesOfOneSchoolDiffer(t *testing.T) {
	seen := map[string]bool{}
	for _, shape := range badge.Shapes {
		for _, symbol := range Symbols() {
			d, err := Emblem(badge.Design{Shape: shape, Symbol: symbol, Colours: green}, "t")
			require.NoError(t, err)
			seen[string(d.SVG())] = true
		}
	}
	assert.Len(t, seen, len(badge.Shapes)*len(Symbols()))
	assert.NotEmpty(t, SymbolPath("leaf"))
}

// A PDF leads where it says, and holds the pictures that were put into it.
func TestPDFWithALinkAndAPicture(t *testing.T) {
	inner, err := Emblem(badge.Design{Shape: "round", Symbol: "leaf", Colours: green}, "t")
	require.NoError(t, err)
	content, err := inner.PNG(90)
	require.NoError(t, err)
	d := New(200, 200, "Zeugnis – Αθηνά")
	d.Put(inner, 10, 10, 80, 80)
	d.PutPNG(content, 100, 10, 80, 80)
	d.Link("https://badges.example/a", 10, 100, 80, 20)
	pdf, err := d.PDF(time.Unix(0, 0))
	require.NoError(t, err)
	assert.Contains(t, string(pdf), "https://badges.example/a")
	assert.Contains(t, string(pdf), "/Subtype /Image")
	again, err := d.PDF(time.Unix(0, 0))
	require.NoError(t, err)
	assert.Equal(t, pdf, again, "the same drawing is the same file")
}

// A map says of a group how many stand where, and of one person what is done; it is as tall as it has stages.
func TestStageMaps(t *testing.T) {
	stages := []MapStage{
		{Title: "First", Reached: 3, Of: 4, Next: 1, Done: true},
		{Title: "Beside", Optional: true, Badge: "Grafter", Of: 4},
		{Title: strings.Repeat("A very long title ", 12), Of: 4, Open: true},
	}
	group, own := StageMap("Plan", "about", stages, true), StageMap("Plan", "about", stages, false)
	assert.Greater(t, group.Width, own.Width, "one person's fits on a telephone")
	assert.Greater(t, StageMap("Plan", "", stages, true).Height, StageMap("Plan", "", stages[:1], true).Height)
	none, one := StageMap("", "", nil, true), StageMap("x", "", []MapStage{{Of: 0}}, true)
	for _, d := range []*Drawing{group, own, none, one} {
		content, err := d.PNG(int(d.Width))
		require.NoError(t, err)
		assert.Greater(t, share(read(t, content), Paper), 0.5)
		_, _, err = badge.CheckPicture(d.SVG())
		require.NoError(t, err)
	}
	for _, d := range []*Drawing{group, own} { // nothing stands outside
		for _, s := range d.shapes {
			b := s.path.bounds()
			assert.LessOrEqual(t, float64(b.Max.X), d.Width+2)
			assert.GreaterOrEqual(t, b.Min.X, 0)
		}
	}
	content, err := own.PNG(400)
	require.NoError(t, err)
	assert.Greater(t, share(read(t, content), Done), 0.001)
}
