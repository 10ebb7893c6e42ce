package drawing

import (
	_ "embed"
	"encoding/json"
	"maps"
	"math"
	"slices"
	"sync"

	"kanban/internal/core/badge"
)

//go:embed symbols/symbols.json
var symbolFile []byte

// symbols are outlines in a square of 256.
var symbols = sync.OnceValue(func() map[string]Path {
	var texts map[string]string
	if err := json.Unmarshal(symbolFile, &texts); err != nil {
		panic(err) // it is built in
	}
	all := map[string]Path{}
	for name, text := range texts {
		path, err := ParsePath(text)
		if err != nil {
			panic(err)
		}
		all[name] = path
	}
	return all
})

// Symbols are the names of the symbols that there are.
func Symbols() []string { return slices.Sorted(maps.Keys(symbols())) }

// Symbol draws one in a square, by its upper left corner.
func (d *Drawing) Symbol(name string, x, y, side float64, c Colour) {
	d.Fill(symbols()[name].In(scale(side/256).then(shift(x, y))), c)
}

// The measures of a badge's picture.
const (
	emblemSide  = 600.0
	middle      = emblemSide / 2
	discRadius  = 158.0
	curveRadius = 193.0
	curveMost   = 2.7 // radians
)

// Emblem draws a badge's picture, 600 by 600.
func Emblem(design badge.Design, title string) (*Drawing, error) {
	if err := design.Check(Symbols()); err != nil {
		return nil, err
	}
	d := New(emblemSide, emblemSide, title)
	c := design.Colours
	body := bodies[design.Shape]
	inner := func(factor float64) Path {
		return body(factor * 290)
	}
	d.Fill(inner(1), Colour(c.Edge))
	d.Fill(inner(0.945), Colour(c.Disc))
	d.Fill(inner(0.925), Colour(c.Body))
	d.Fill(Circle(middle, middle, discRadius+7), Colour(c.Edge))
	d.Fill(Circle(middle, middle, discRadius), Colour(c.Disc))

	side, y := 190.0, middle
	if design.Stars > 0 {
		side, y = 160, middle-26
		stars(d, design.Stars, middle+88, Colour(c.Symbol))
	}
	switch {
	case design.Letters != "":
		s := Fitted(design.Letters, Style{Size: side * 0.75, Bold: true, Colour: Colour(c.Symbol)}, side*1.25)
		d.Text(design.Letters, s, middle, y+s.Size*0.36, Middle)
	case design.Symbol != "":
		d.Symbol(design.Symbol, middle-side/2, y-side/2, side, Colour(c.Symbol))
	}
	text := Style{Size: 47, Bold: true, Colour: Colour(c.Text)}
	d.Curved(design.Above, text, middle, middle, curveRadius, curveMost, false)
	d.Curved(design.Below, text, middle, middle, curveRadius+32, curveMost, true)
	return d, nil
}

func stars(d *Drawing, n int, y float64, c Colour) {
	const size, apart = 34.0, 42.0
	for i := range n {
		d.Symbol("star", middle+(float64(i)-float64(n-1)/2)*apart-size/2, y-size/2, size, c)
	}
}

// bodies are the outlines about the middle, by how far they reach.
var bodies = map[string]func(r float64) Path{
	"round":   func(r float64) Path { return Circle(middle, middle, r*0.93) },
	"square":  func(r float64) Path { return Rounded(middle-r*0.87, middle-r*0.87, r*1.74, r*1.74, r*0.24) },
	"hexagon": func(r float64) Path { return around(6, func(int) float64 { return r }) },
	"rosette": func(r float64) Path {
		return around(48, func(i int) float64 { return r * (1 - 0.045*float64(i%2)) })
	},
	"shield": func(r float64) Path {
		at := func(x, y float64) Point { return Point{middle + x*r, middle + y*r} }
		return Path{
			{Op: Move, To: [3]Point{at(-0.86, -0.94)}},
			{Op: Quad, To: [3]Point{at(0, -1.02), at(0.86, -0.94)}},
			{Op: Line, To: [3]Point{at(0.86, 0.1)}},
			{Op: Cube, To: [3]Point{at(0.86, 0.62), at(0.4, 0.88), at(0, 1.02)}},
			{Op: Cube, To: [3]Point{at(-0.4, 0.88), at(-0.86, 0.62), at(-0.86, 0.1)}},
			{Op: Close},
		}
	},
	"drop": func(r float64) Path {
		at := func(x, y float64) Point { return Point{middle + x*r, middle + y*r} }
		return Path{
			{Op: Move, To: [3]Point{at(0.9, -0.9)}},
			{Op: Line, To: [3]Point{at(0.9, 0)}},
			{Op: Cube, To: [3]Point{at(0.9, 0.9*bow), at(0.9*bow, 0.9), at(0, 0.9)}},
			{Op: Cube, To: [3]Point{at(-0.9*bow, 0.9), at(-0.9, 0.9*bow), at(-0.9, 0)}},
			{Op: Cube, To: [3]Point{at(-0.9, -0.9*bow), at(-0.9*bow, -0.9), at(0, -0.9)}},
			{Op: Close},
		}
	},
}

// around is a polygon of corners about the middle, the first one on top.
func around(corners int, reach func(i int) float64) Path {
	at := make([]Point, corners)
	for i := range at {
		s, c := math.Sincos(2 * math.Pi * float64(i) / float64(corners))
		at[i] = Point{middle + reach(i)*s, middle - reach(i)*c}
	}
	return Polygon(at...)
}

// SymbolPath is the outline of a symbol, as SVG writes it, in a square of 256.
func SymbolPath(name string) string { return symbols()[name].String() }
