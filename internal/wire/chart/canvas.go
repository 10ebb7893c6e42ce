package chart

import (
	"image"
	"image/color"
	"math"
	"strings"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"kanban/internal/wire/drawing"
)

// canvas lets the plotting module draw onto a drawing: its paths, and its text in our own fonts, which have
// the letters of every script that names are in.
type canvas struct {
	on     *drawing.Drawing
	left   float64 // where its lower left corner lies on the drawing
	bottom float64
	now    state
	kept   []state
}

type state struct {
	width  float64
	colour color.Color
	moved  vg.Point
}

var _ vg.Canvas = (*canvas)(nil)

func (c *canvas) SetLineWidth(w vg.Length)           { c.now.width = w.Points() }
func (c *canvas) SetLineDash([]vg.Length, vg.Length) {} // nothing here is dashed
func (c *canvas) SetColor(x color.Color)             { c.now.colour = x }
func (c *canvas) Rotate(float64)                     {} // nothing here is turned
func (c *canvas) Scale(float64, float64)             {} // nor scaled
func (c *canvas) Translate(p vg.Point)               { c.now.moved = c.now.moved.Add(p) }
func (c *canvas) Push()                              { c.kept = append(c.kept, c.now) }
func (c *canvas) Pop() {
	c.now, c.kept = c.kept[len(c.kept)-1],
		c.kept[:len(c.kept)-1]
}
func (c *canvas) DrawImage(vg.Rectangle, image.Image)    {}
func (c *canvas) FillString(font.Face, vg.Point, string) {} // text comes through hand

// at is a place on the drawing, whose y goes down.
func (c *canvas) at(p vg.Point) drawing.Point {
	p = p.Add(c.now.moved)
	return drawing.Point{X: c.left + p.X.Points(), Y: c.bottom - p.Y.Points()}
}

// outline follows a path and gives its parts as corners.
func (c *canvas) outline(p vg.Path) (parts [][]drawing.Point) {
	for _, x := range p {
		switch x.Type {
		case vg.MoveComp:
			parts = append(parts, []drawing.Point{c.at(x.Pos)})
		case vg.LineComp:
			parts[len(parts)-1] = append(parts[len(parts)-1], c.at(x.Pos))
		case vg.ArcComp:
			const corners = 24
			for i := range corners + 1 {
				a := x.Start + x.Angle*float64(i)/corners
				sin, cos := math.Sincos(a)
				q := x.Pos.Add(vg.Point{X: x.Radius * vg.Length(cos), Y: x.Radius * vg.Length(sin)})
				if len(parts) == 0 {
					parts = append(parts, nil)
				}
				parts[len(parts)-1] = append(parts[len(parts)-1], c.at(q))
			}
		case vg.CloseComp:
			last := &parts[len(parts)-1]
			*last = append(*last, (*last)[0])
		}
	}
	return parts
}

func (c *canvas) Stroke(p vg.Path) {
	if c.now.width <= 0 {
		return
	}
	for _, corners := range c.outline(p) {
		for i := 1; i < len(corners); i++ {
			c.on.Fill(drawing.Stroke(corners[i-1], corners[i], c.now.width), colourOf(c.now.colour))
		}
	}
}

func (c *canvas) Fill(p vg.Path) {
	for _, corners := range c.outline(p) {
		c.on.Fill(drawing.Polygon(corners...), colourOf(c.now.colour))
	}
}

// colourOf names a colour.
func colourOf(c color.Color) drawing.Colour {
	const digits = "0123456789abcdef"
	if c == nil {
		c = color.Black
	}
	x := color.NRGBAModel.Convert(c).(color.NRGBA)
	out := []byte{'#'}
	for _, v := range []uint8{x.R, x.G, x.B} {
		out = append(out, digits[v>>4], digits[v&15])
	}
	return drawing.Colour(out)
}

// hand writes text onto a canvas.
type hand struct{}

var _ text.Handler = hand{}

func (hand) Cache() *font.Cache { return font.DefaultCache }

func (hand) Extents(f font.Font) font.Extents {
	return font.Extents{Ascent: f.Size * 0.8, Descent: f.Size * 0.2, Height: f.Size}
}

func (hand) Lines(t string) []string { return strings.Split(t, "\n") }

func (hand) Box(t string, f font.Font) (width, height, depth vg.Length) {
	w := drawing.Width(t, drawing.Style{Size: f.Size.Points()})
	return vg.Points(w), f.Size * 0.8, f.Size * 0.2
}

func (h hand) Draw(on vg.Canvas, t string, s text.Style, at vg.Point) {
	c, is := whole(on).(*canvas)
	if !is || t == "" {
		return
	}
	w, height, _ := h.Box(t, s.Font)
	at.X += w * vg.Length(s.XAlign)
	at.Y += height * vg.Length(s.YAlign)
	p := c.at(at)
	c.on.Text(t, drawing.Style{Size: s.Font.Size.Points(), Colour: colourOf(s.Color)}, p.X, p.Y, drawing.Start)
}

// whole is the canvas of which another one is a part.
func whole(on vg.Canvas) vg.Canvas {
	switch part := on.(type) {
	case *draw.Canvas:
		return whole(part.Canvas)
	case draw.Canvas:
		return whole(part.Canvas)
	}
	return on
}
