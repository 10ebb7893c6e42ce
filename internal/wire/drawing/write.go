package drawing

import (
	"bytes"
	"fmt"
	"html"
	"image"
	"image/draw"
	"image/png"
	"math"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/vector"
)

// SVG writes the drawing as SVG 1.1, in which everything is a path.
func (d *Drawing) SVG() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %s %s" role="img">`, short(d.Width), short(d.Height))
	fmt.Fprintf(&b, "<title>%s</title>", html.EscapeString(clean(d.Title)))
	if d.Description != "" {
		fmt.Fprintf(&b, "<desc>%s</desc>", html.EscapeString(clean(d.Description)))
	}
	for _, s := range d.shapes {
		fmt.Fprintf(&b, `<path fill="%s" d="%s"/>`, html.EscapeString(string(s.fill)), s.path)
	}
	b.WriteString("</svg>\n")
	return b.Bytes()
}

// clean leaves out what XML 1.0 cannot hold.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0xfffe || r == 0xffff {
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, ""))
}

// PNG writes the drawing with a width in pixels; where nothing is drawn it is transparent.
func (d *Drawing) PNG(width int) ([]byte, error) {
	factor := float64(width) / d.Width
	size := image.Rect(0, 0, width, int(d.Height*factor+0.5))
	out := image.NewNRGBA(size)
	for _, s := range d.shapes {
		fill, err := s.fill.RGBA()
		if err != nil {
			return nil, err
		}
		path := s.path.In(scale(factor))
		box := path.bounds().Intersect(size)
		if box.Empty() {
			continue
		}
		r := vector.NewRasterizer(box.Dx(), box.Dy())
		for _, x := range path.In(shift(float64(-box.Min.X), float64(-box.Min.Y))) {
			at := func(i int) (float32, float32) { return float32(x.To[i].X), float32(x.To[i].Y) }
			switch x0, y0 := at(0); x.Op {
			case Move:
				r.MoveTo(x0, y0)
			case Line:
				r.LineTo(x0, y0)
			case Quad:
				x1, y1 := at(1)
				r.QuadTo(x0, y0, x1, y1)
			case Cube:
				x1, y1 := at(1)
				x2, y2 := at(2)
				r.CubeTo(x0, y0, x1, y1, x2, y2)
			case Close:
				r.ClosePath()
			}
		}
		r.DrawOp = draw.Over
		r.Draw(out, box, image.NewUniform(fill), image.Point{})
	}
	var b bytes.Buffer
	err := png.Encode(&b, out)
	return b.Bytes(), err
}

// bounds are the pixels that a path may touch: the curves lie within their places.
func (p Path) bounds() image.Rectangle {
	low, high := Point{math.Inf(1), math.Inf(1)}, Point{math.Inf(-1), math.Inf(-1)}
	for _, s := range p {
		for i := range points[s.Op] {
			low.X, low.Y = min(low.X, s.To[i].X), min(low.Y, s.To[i].Y)
			high.X, high.Y = max(high.X, s.To[i].X), max(high.Y, s.To[i].Y)
		}
	}
	if low.X > high.X {
		return image.Rectangle{}
	}
	return image.Rect(int(math.Floor(low.X)), int(math.Floor(low.Y)), int(math.Ceil(high.X))+1,
		int(math.Ceil(high.Y))+1)
}

// PDF writes the drawing as one page of PDF 1.4, one unit being a point of 1/72 inch.
func (d *Drawing) PDF(made time.Time) ([]byte, error) { return Document([]*Drawing{d}, made) }

// Document writes drawings as pages of one PDF, which has the title of the first. There is at least one.
func Document(pages []*Drawing, made time.Time) ([]byte, error) {
	first := pages[0]
	p := fpdf.NewCustom(&fpdf.InitType{
		UnitStr: "pt", Size: fpdf.SizeType{Wd: first.Width, Ht: first.Height}, OrientationStr: "P",
	})
	p.SetTitle(first.Title, true)
	p.SetSubject(first.Description, true)
	p.SetCreationDate(made)
	p.SetModificationDate(made)
	p.SetAutoPageBreak(false, 0)
	for n, d := range pages {
		p.AddPageFormat("P", fpdf.SizeType{Wd: d.Width, Ht: d.Height})
		if err := d.onto(p, n); err != nil {
			return nil, err
		}
	}
	var b bytes.Buffer
	err := p.Output(&b)
	return b.Bytes(), err
}

// onto puts the drawing onto the page that was begun last.
func (d *Drawing) onto(p *fpdf.Fpdf, page int) error {
	for _, s := range d.shapes {
		fill, err := s.fill.RGBA()
		if err != nil {
			return err
		}
		p.SetFillColor(int(fill.R), int(fill.G), int(fill.B))
		for _, x := range s.path {
			switch a := x.To; x.Op {
			case Move:
				p.MoveTo(a[0].X, a[0].Y)
			case Line:
				p.LineTo(a[0].X, a[0].Y)
			case Quad:
				p.CurveTo(a[0].X, a[0].Y, a[1].X, a[1].Y)
			case Cube:
				p.CurveBezierCubicTo(a[0].X, a[0].Y, a[1].X, a[1].Y, a[2].X, a[2].Y)
			case Close:
				p.ClosePath()
			}
		}
		p.DrawPath("f")
	}
	for i, x := range d.pictures {
		name := fmt.Sprint("picture", page, "-", i)
		p.RegisterImageOptionsReader(name, fpdf.ImageOptions{ImageType: "PNG"}, bytes.NewReader(x.png))
		p.ImageOptions(name, x.x, x.y, x.width, x.height, false, fpdf.ImageOptions{ImageType: "PNG"}, 0, "")
	}
	for _, l := range d.links {
		p.LinkString(l.x, l.y, l.width, l.height, l.address)
	}
	return nil
}
