// Package drawing writes flat drawings as SVG, PNG and PDF. Text in them becomes outlines of embedded fonts, so
// that it looks the same everywhere, in Latin, Greek, Cyrillic, Arabic and Chinese letters.
//
//	d := drawing.New(600, 600, "a badge")
//	d.Fill(drawing.Circle(300, 300, 280), "#2f6136")
//	d.Text("Αθηνά Νγκουέν", drawing.Style{Size: 40}, 300, 320, drawing.Middle)
//	svg := d.SVG()
package drawing

import (
	"errors"
	"fmt"
	"image/color"
	"math"
	"strconv"
	"strings"
)

// Op is what a segment of a path does.
type Op byte

// The segments of a path, as in SVG 1.1, 8.3, with absolute places.
const (
	Move  Op = 'M'
	Line  Op = 'L'
	Quad  Op = 'Q'
	Cube  Op = 'C'
	Close Op = 'Z'
)

// points is how many places a segment has.
var points = map[Op]int{Move: 1, Line: 1, Quad: 2, Cube: 3, Close: 0}

// Point is a place; x goes to the right, y goes down.
type Point struct{ X, Y float64 }

// Segment is a part of a path.
type Segment struct {
	Op Op
	To [3]Point // as many as the segment has
}

// Path is an outline, filled by the nonzero rule.
type Path []Segment

// ErrPath is wrapped by errors about paths that cannot be read.
var ErrPath = errors.New("path cannot be read")

// ParsePath reads a path of absolute M, L, Q, C and Z (SVG 1.1, 8.3).
func ParsePath(text string) (Path, error) {
	var p Path
	for rest := strings.TrimSpace(text); rest != ""; {
		op := Op(rest[0])
		n, known := points[op]
		if !known || len(p) == 0 && op != Move {
			return nil, fmt.Errorf("%w: %q", ErrPath, rest[:1])
		}
		end := strings.IndexAny(rest[1:], "MLQCZ") + 1
		if end == 0 {
			end = len(rest)
		}
		fields := strings.FieldsFunc(rest[1:end], func(r rune) bool { return r == ' ' || r == ',' })
		rest = rest[end:]
		if len(fields) != 2*n {
			return nil, fmt.Errorf("%w: %c has %d numbers", ErrPath, op, len(fields))
		}
		s := Segment{Op: op}
		for i, f := range fields {
			v, err := strconv.ParseFloat(f, 64)
			if err != nil {
				return nil, fmt.Errorf("%w: %w", ErrPath, err)
			}
			if i%2 == 0 {
				s.To[i/2].X = v
			} else {
				s.To[i/2].Y = v
			}
		}
		p = append(p, s)
	}
	return p, nil
}

// String is the path as SVG writes it.
func (p Path) String() string {
	var b strings.Builder
	for _, s := range p {
		b.WriteByte(byte(s.Op))
		for i := range points[s.Op] {
			if i > 0 {
				b.WriteByte(' ')
			}
			b.WriteString(short(s.To[i].X) + " " + short(s.To[i].Y))
		}
	}
	return b.String()
}

func short(v float64) string {
	text := strconv.FormatFloat(v, 'f', 2, 64)
	return strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
}

// Matrix places what is drawn: x' = A x + C y + E, y' = B x + D y + F.
type Matrix struct{ A, B, C, D, E, F float64 }

// shift moves by a distance, scale makes larger and turn turns about the origin; angles are in radians.
func shift(x, y float64) Matrix   { return Matrix{1, 0, 0, 1, x, y} }
func scale(factor float64) Matrix { return Matrix{factor, 0, 0, factor, 0, 0} }
func turn(angle float64) Matrix   { s, c := math.Sincos(angle); return Matrix{c, s, -s, c, 0, 0} }

func (m Matrix) then(n Matrix) Matrix { // first m, then n
	return Matrix{
		n.A*m.A + n.C*m.B, n.B*m.A + n.D*m.B, n.A*m.C + n.C*m.D, n.B*m.C + n.D*m.D,
		n.A*m.E + n.C*m.F + n.E, n.B*m.E + n.D*m.F + n.F,
	}
}

func (m Matrix) at(p Point) Point { return Point{m.A*p.X + m.C*p.Y + m.E, m.B*p.X + m.D*p.Y + m.F} }

// In gives the path as a matrix places it.
func (p Path) In(m Matrix) Path {
	out := make(Path, len(p))
	for i, s := range p {
		for j := range points[s.Op] {
			s.To[j] = m.at(s.To[j])
		}
		out[i] = s
	}
	return out
}

// Polygon is a closed path through places.
func Polygon(at ...Point) Path {
	var p Path
	for i, x := range at {
		op := Line
		if i == 0 {
			op = Move
		}
		p = append(p, Segment{Op: op, To: [3]Point{x}})
	}
	return append(p, Segment{Op: Close})
}

// Rect is a rectangle by its upper left corner and its size.
func Rect(x, y, width, height float64) Path {
	return Polygon(Point{x, y}, Point{x + width, y}, Point{x + width, y + height}, Point{x, y + height})
}

// bow is how far the handles of a quarter of a circle stand off, of its radius.
const bow = 0.5522847498

// Circle is a circle.
func Circle(x, y, r float64) Path { return Rounded(x-r, y-r, 2*r, 2*r, r) }

// Rounded is a rectangle with round corners of a radius.
func Rounded(x, y, width, height, r float64) Path {
	r = min(r, width/2, height/2)
	k := r * (1 - bow)
	right, bottom := x+width, y+height
	cube := func(a, b, c Point) Segment { return Segment{Cube, [3]Point{a, b, c}} }
	line := func(a Point) Segment { return Segment{Op: Line, To: [3]Point{a}} }
	return Path{
		{Op: Move, To: [3]Point{{x + r, y}}},
		line(Point{right - r, y}),
		cube(Point{right - k, y}, Point{right, y + k}, Point{right, y + r}), line(Point{right, bottom - r}),
		cube(Point{right, bottom - k}, Point{right - k, bottom}, Point{right - r, bottom}), line(Point{x + r, bottom}),
		cube(Point{x + k, bottom}, Point{x, bottom - k}, Point{x, bottom - r}), line(Point{x, y + r}),
		cube(Point{x, y + k}, Point{x + k, y}, Point{x + r, y}),
		{Op: Close},
	}
}

// Stroke is a straight line of a width, as a path.
func Stroke(from, to Point, width float64) Path {
	length := math.Hypot(to.X-from.X, to.Y-from.Y)
	if length == 0 {
		return nil
	}
	dx, dy := (to.Y-from.Y)/length*width/2, -(to.X-from.X)/length*width/2
	return Polygon(Point{from.X + dx, from.Y + dy}, Point{to.X + dx, to.Y + dy}, Point{to.X - dx, to.Y - dy},
		Point{from.X - dx, from.Y - dy})
}

// Colour is a colour as #rrggbb.
type Colour string

// ErrColour is wrapped by errors about texts that are no colours.
var ErrColour = errors.New("no colour")

// RGBA reads the colour.
func (c Colour) RGBA() (color.NRGBA, error) {
	v, err := strconv.ParseUint(strings.TrimPrefix(string(c), "#"), 16, 32)
	if err != nil || len(c) != 7 || c[0] != '#' {
		return color.NRGBA{}, fmt.Errorf("%w: %q", ErrColour, string(c))
	}
	//nolint:gosec // each is cut to 8 bits on purpose
	return color.NRGBA{R: uint8(v >> 16), G: uint8(v >> 8), B: uint8(v), A: 255}, nil
}

// shape is a path that is filled.
type shape struct {
	path Path
	fill Colour
}

// picture is a PNG at a place.
type picture struct {
	png                 []byte
	x, y, width, height float64
}

// link is a place that leads to an address, in a PDF.
type link struct {
	address             string
	x, y, width, height float64
}

// Drawing is what is drawn, from the back to the front.
type Drawing struct {
	Width, Height float64
	// Title is what it shows, for those who cannot see it.
	Title, Description string
	shapes             []shape
	pictures           []picture
	links              []link
}

// The colours of what is drawn of the school's own, as those of the console.
const (
	Ink    = Colour("#22291f")
	Faint  = Colour("#6b7163")
	Pale   = Colour("#dcd6c4")
	Paper  = Colour("#fffdf7")
	Done   = Colour("#2f6136") // what is as it should be
	Signal = Colour("#b4451f") // what wants to be seen
)

// New begins a drawing.
func New(width, height float64, title string) *Drawing {
	return &Drawing{Width: width, Height: height, Title: title}
}

// Fill draws a path in a colour.
func (d *Drawing) Fill(p Path, c Colour) {
	if len(p) > 0 {
		d.shapes = append(d.shapes, shape{p, c})
	}
}

// Put draws another drawing into a rectangle, its proportions kept.
func (d *Drawing) Put(other *Drawing, x, y, width, height float64) {
	factor := min(width/other.Width, height/other.Height)
	m := scale(factor).then(shift(x+(width-other.Width*factor)/2, y+(height-other.Height*factor)/2))
	for _, s := range other.shapes {
		d.Fill(s.path.In(m), s.fill)
	}
}

// PutPNG puts a PNG into a rectangle; only a PDF shows it, over what is drawn.
func (d *Drawing) PutPNG(png []byte, x, y, width, height float64) {
	d.pictures = append(d.pictures, picture{png, x, y, width, height})
}

// Link makes a rectangle lead to an address, in a PDF.
func (d *Drawing) Link(address string, x, y, width, height float64) {
	d.links = append(d.links, link{address, x, y, width, height})
}
