package drawing

import (
	"bytes"
	_ "embed"
	"math"
	"slices"
	"strings"
	"sync"
	"unicode"

	"github.com/go-text/typesetting/di"
	"github.com/go-text/typesetting/font"
	"github.com/go-text/typesetting/shaping"
	"golang.org/x/image/math/fixed"
	"golang.org/x/text/unicode/bidi"
)

// The fonts, with their licences beside them.
var (
	//go:embed fonts/NotoSans-Regular.ttf
	latin []byte
	//go:embed fonts/NotoSans-Bold.ttf
	latinBold []byte
	//go:embed fonts/NotoSansArabic-Regular.ttf
	arabic []byte
	//go:embed fonts/NotoSansArabic-Bold.ttf
	arabicBold []byte
	//go:embed fonts/DroidSansFallback.ttf
	fallback []byte
)

var fonts = sync.OnceValue(func() (all map[bool][]*font.Font) {
	read := func(content []byte) *font.Font {
		face, err := font.ParseTTF(bytes.NewReader(content))
		if err != nil {
			panic(err) // they are built in
		}
		return face.Font
	}
	last := read(fallback)
	return map[bool][]*font.Font{
		false: {read(latin), read(arabic), last}, true: {read(latinBold), read(arabicBold), last},
	}
})

// faces are the fonts for one piece of work; a letter is drawn in the first that has it.
type faces []*font.Face

func newFaces(bold bool) (all faces) {
	for _, f := range fonts()[bold] {
		all = append(all, font.NewFace(f))
	}
	return all
}

// ResolveFace gives the face for a letter.
func (f faces) ResolveFace(r rune) *font.Face {
	for _, face := range f {
		if _, there := face.NominalGlyph(r); there {
			return face
		}
	}
	return f[0]
}

// Align says on which side of its place a text stands.
type Align int

// Where a text stands.
const (
	Start Align = iota // to the right of its place
	Middle
	End // to the left of it
)

// Style is how text is set.
type Style struct {
	Size   float64 // of the em, in units of the drawing
	Bold   bool
	Colour Colour // black when it is not said
}

func (s Style) colour() Colour {
	if s.Colour == "" {
		return "#000000"
	}
	return s.Colour
}

// glyph is a letter's outline about its own place on the line.
type glyph struct {
	path       Path
	x, advance float64
}

type line struct {
	glyphs []glyph
	width  float64
}

// direction is that of a text's first letter that has one (Unicode Bidirectional Algorithm, P2 and P3).
func direction(text string) di.Direction {
	for _, r := range text {
		p, _ := bidi.LookupRune(r)
		switch p.Class() {
		case bidi.R, bidi.AL:
			return di.DirectionRTL
		case bidi.L:
			return di.DirectionLTR
		}
	}
	return di.DirectionLTR
}

// setAt is the size at which text is shaped, before it is made as large as it is to be.
const setAt = 1000

// lines sets text in lines that are at most so wide; 0 for one line of any width.
func lines(text string, s Style, width float64) (out []line) {
	for paragraph := range strings.SplitSeq(strings.TrimSpace(lettersOf(text)), "\n") {
		out = append(out, set([]rune(paragraph), direction(paragraph), s, width)...)
	}
	return out
}

// lettersOf leaves out what is no letter and would break a line or turn it around: names come from anywhere.
func lettersOf(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n', r == '\u200c', r == '\u200d': // the latter two say how letters join
			return r
		case unicode.In(r, unicode.Cc, unicode.Zl, unicode.Zp, unicode.Zs):
			return ' '
		case unicode.In(r, unicode.Cf, unicode.Co, unicode.Cs):
			return -1
		}
		return r
	}, clean(text))
}

func set(text []rune, dir di.Direction, s Style, width float64) (out []line) {
	if len(text) == 0 {
		return []line{{}}
	}
	var segmenter shaping.Segmenter
	var shaper shaping.HarfbuzzShaper
	var runs []shaping.Output
	for _, input := range segmenter.Split(shaping.Input{
		Text: text, RunEnd: len(text), Direction: dir, Size: fixed.I(setAt),
	}, newFaces(s.Bold)) {
		runs = append(runs, shaper.Shape(input))
	}
	most := math.MaxInt32 / 64
	if width > 0 {
		most = int(width / s.Size * setAt)
	}
	var wrapper shaping.LineWrapper
	wrapped, _ := wrapper.WrapParagraph(shaping.WrapConfig{Direction: dir}, most, text, shaping.NewSliceIterator(runs))
	for _, w := range wrapped {
		out = append(out, placed(w, s.Size/setAt))
	}
	return out
}

// placed puts the letters of a line in the order in which they are seen.
func placed(w shaping.Line, factor float64) (l line) {
	w = slices.Clone(w)
	slices.SortStableFunc(w, func(a, b shaping.Output) int { return int(a.VisualIndex - b.VisualIndex) })
	of := func(v fixed.Int26_6) float64 { return float64(v) / 64 * factor }
	for _, run := range w {
		size := of(run.Size) / float64(run.Face.Upem())
		for _, g := range run.Glyphs {
			m := scale(size).then(shift(of(g.XOffset), -of(g.YOffset)))
			l.glyphs = append(l.glyphs, glyph{outline(run.Face, g.GlyphID).In(m), l.width, of(g.Advance)})
			l.width += of(g.Advance)
		}
	}
	return l
}

// outline is a letter in units of its font, y going down.
func outline(face *font.Face, id font.GID) (p Path) {
	o, _ := face.GlyphDataOutline(id)
	ops := map[uint8]Op{0: Move, 1: Line, 2: Quad, 3: Cube}
	for i, s := range o.Segments {
		seg := Segment{Op: ops[uint8(s.Op)]}
		if seg.Op == Move && i > 0 {
			p = append(p, Segment{Op: Close})
		}
		for j, a := range s.ArgsSlice() {
			seg.To[j] = Point{float64(a.X), -float64(a.Y)}
		}
		p = append(p, seg)
	}
	if len(p) > 0 {
		p = append(p, Segment{Op: Close})
	}
	return p
}

// Width is how wide a text is on one line.
func Width(text string, s Style) (widest float64) {
	for _, l := range lines(text, s, 0) {
		widest = max(widest, l.width)
	}
	return widest
}

// Text draws a line at a place on its baseline.
func (d *Drawing) Text(text string, s Style, x, y float64, a Align) {
	for _, l := range lines(text, s, 0) {
		d.line(l, s, x, y, a)
		y += s.Size * leading
	}
}

func (d *Drawing) line(l line, s Style, x, y float64, a Align) {
	x -= map[Align]float64{Start: 0, Middle: l.width / 2, End: l.width}[a]
	var all Path
	for _, g := range l.glyphs {
		all = append(all, g.path.In(shift(x+g.x, y))...)
	}
	d.Fill(all, s.colour())
}

// leading is the distance of lines, by the size of their text.
const leading = 1.35

// Wrapped draws text in lines of a width from a place on the first baseline, and gives the baseline after the last. Of
// more than so many lines the last one says that there is more.
func (d *Drawing) Wrapped(text string, s Style, x, y, width float64, a Align, most int) float64 {
	all := lines(text, s, width)
	if len(all) > most {
		all = all[:most]
		last := &all[most-1]
		more := lines("…", s, 0)[0]
		for len(last.glyphs) > 0 && last.width+more.width > width {
			g := last.glyphs[len(last.glyphs)-1]
			last.glyphs, last.width = last.glyphs[:len(last.glyphs)-1], g.x
		}
		for _, g := range more.glyphs {
			g.x += last.width
			last.glyphs = append(last.glyphs, g)
		}
		last.width += more.width
	}
	for _, l := range all {
		d.line(l, s, x, y, a)
		y += s.Size * leading
	}
	return y
}

// Fitted makes a style smaller until a text is no wider than that on one line.
func Fitted(text string, s Style, width float64) Style {
	if w := Width(text, s); w > width {
		s.Size *= width / w
	}
	return s
}

// Curved draws a text on a circle: above its centre, read from left to right clockwise, or below it, read from left to
// right the other way. It takes at most an angle, in radians, and is made smaller for it.
func (d *Drawing) Curved(text string, s Style, x, y, radius, most float64, below bool) {
	s = Fitted(text, s, radius*most)
	var all Path
	for _, l := range lines(text, s, 0)[:1] {
		for _, g := range l.glyphs {
			angle := (g.x + g.advance/2 - l.width/2) / radius
			m := shift(-g.advance/2, -radius).then(turn(angle))
			if below {
				m = shift(-g.advance/2, radius).then(turn(-angle))
			}
			all = append(all, g.path.In(m.then(shift(x, y)))...)
		}
	}
	d.Fill(all, s.colour())
}
