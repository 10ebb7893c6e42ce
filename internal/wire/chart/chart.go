// Package chart draws reports: a chart as a picture, and a report as pages to print.
//
//	d, err := chart.Picture(made, 0)
//	svg := d.SVG()
package chart

import (
	"fmt"
	"image/color"
	"math"
	"strconv"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"kanban/internal/core/report"
	"kanban/internal/wire/drawing"
)

const (
	wide   = 760.0
	edge   = 24.0
	barRow = 24.0 // height of a bar with the space around it
	tall   = 260.0
	// MostBars is how many bars a chart shows.
	MostBars  = 40
	mostLabel = 42 // letters
)

// tones are the colours of series; the console's charts have the same.
var tones = map[report.Tone]drawing.Colour{
	report.Done: drawing.Done, report.Open: "#c9a227", report.Bad: drawing.Signal, report.Rest: "#c9c4b2",
	report.Second: "#4a6a8a",
}

// Picture draws the chart of a part of a report, with its title, what it is narrowed to and as of when it is.
func Picture(r report.Report, part int) (*drawing.Drawing, error) {
	p := r.Parts[part]
	title := r.Title + " · " + p.Title
	body, height, err := plotted(p, wide-2*edge)
	if err != nil {
		return nil, err
	}
	d := drawing.New(wide, height+126, title)
	d.Fill(drawing.Rect(0, 0, d.Width, d.Height), drawing.Paper)
	d.Text(title, drawing.Fitted(title, drawing.Style{Size: 19, Bold: true, Colour: drawing.Ink}, wide-2*edge), edge,
		36,
		drawing.Start)
	y := head(d, r, 56)
	legend(d, p.Chart, edge, y+7, 11)
	body(d, edge, y+22)
	d.Description = described(p)
	foot := "Kanban · " + r.MadeAt.Format("2 January 2006 15:04 MST")
	d.Text(foot, drawing.Style{Size: 9, Colour: drawing.Faint}, wide-edge, d.Height-12, drawing.End)
	return d, nil
}

// head says to what a report is narrowed and as of when it is, and gives where it ended.
func head(d *drawing.Drawing, r report.Report, y float64) float64 {
	small := drawing.Style{Size: 11, Colour: drawing.Faint}
	return d.Wrapped(About(r), small, edge, y, d.Width-2*edge, drawing.Start, 2)
}

// About says to what a report is narrowed and as of when its sources were read.
func About(r report.Report) string {
	text := "Everything"
	for i, s := range r.Scope {
		if text = text + ", " + s; i == 0 {
			text = s
		}
	}
	for _, s := range r.Sources {
		if text += " · " + s.Name; s.ReadAt == nil {
			text += " never read"
		} else {
			text += " read " + s.ReadAt.In(r.MadeAt.Location()).Format("2 January 2006 15:04")
		}
	}
	return text
}

// described says in words what a chart shows, for those who cannot see it.
func described(p report.Part) string {
	if p.Chart == nil {
		return p.Empty
	}
	text := ""
	for i, l := range p.Chart.Labels {
		if i == MostBars {
			return text
		}
		text += l + ":"
		for _, s := range p.Chart.Series {
			text += " " + s.Title + " " + short(s.Values[i]) + ","
		}
		text = text[:len(text)-1] + ". "
	}
	return text
}

func short(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// legend says which colour is what, when there are several: squares of a side with text of that size beside them.
func legend(d *drawing.Drawing, c *report.Chart, x, y, side float64) {
	if c == nil || len(c.Series) < 2 {
		return
	}
	style := drawing.Style{Size: side, Colour: drawing.Ink}
	for _, s := range c.Series {
		d.Fill(drawing.Rect(x, y-side*0.8, side*0.9, side*0.9), tones[s.Tone])
		d.Text(s.Title, style, x+side*1.3, y, drawing.Start)
		x += side*2.9 + drawing.Width(s.Title, style)
	}
}

// plotted gives what draws the chart of a part with its upper left corner at a place, and how high that is.
func plotted(p report.Part, width float64) (put func(d *drawing.Drawing, x, y float64), height float64, err error) {
	c := p.Chart
	if c == nil || len(c.Labels) == 0 {
		return func(d *drawing.Drawing, x, y float64) {
			d.Text(p.Empty, drawing.Style{Size: 13, Colour: drawing.Faint}, x, y+30, drawing.Start)
		}, 60, nil
	}
	g := plot.New()
	g.BackgroundColor = nil
	g.TextHandler = hand{}
	for _, a := range []*plot.Axis{&g.X, &g.Y} {
		a.Tick.Label.Handler, a.Tick.Label.Font.Size = hand{}, vg.Points(11)
		a.Tick.Label.Color = shade(drawing.Ink)
		a.LineStyle.Color, a.Tick.LineStyle.Color = shade(drawing.Pale), shade(drawing.Pale)
		a.Label.TextStyle.Handler = hand{}
	}
	if c.Kind == report.Lines && len(c.Labels) > 1 {
		height = tall
		err = lines(g, c)
	} else {
		height = barRow*float64(min(len(c.Labels), MostBars)) + 40
		err = bars(g, c)
	}
	return func(d *drawing.Drawing, x, y float64) {
		on := &canvas{on: d, left: x, bottom: y + height, now: state{width: 1}}
		g.Draw(draw.Canvas{Canvas: on, Rectangle: vg.Rectangle{Max: vg.Point{X: vg.Points(width), Y: vg.Points(
			height)}}})
	}, height, err
}

// shade makes a colour of ours one of the plotting module.
func shade(c drawing.Colour) color.Color {
	x, err := c.RGBA()
	if err != nil {
		return color.Black
	}
	return x
}

// bars makes horizontal bars, the first label on top, of the series end to end.
func bars(g *plot.Plot, c *report.Chart) error {
	n := min(len(c.Labels), MostBars)
	names := make([]string, n)
	totals := make([]float64, n)
	for i := range n {
		names[n-1-i] = cut(Moment(c.Labels[i]))
	}
	var below *plotter.BarChart
	for _, s := range c.Series {
		values := make(plotter.Values, n)
		for i := range n {
			values[n-1-i] = s.Values[i]
			totals[n-1-i] += s.Values[i]
		}
		b, err := plotter.NewBarChart(values, vg.Points(barRow*0.62))
		if err != nil {
			return fmt.Errorf("drawing bars: %w", err)
		}
		b.Horizontal, b.Color, b.LineStyle.Width = true, shade(tones[s.Tone]), 0
		if below != nil {
			b.StackOn(below)
		}
		g.Add(b)
		below = b
	}
	at := plotter.XYLabels{}
	for i, v := range totals {
		at.XYs = append(at.XYs, plotter.XY{X: v, Y: float64(i)})
		at.Labels = append(at.Labels, short(math.Round(v*10)/10))
	}
	labels, err := plotter.NewLabels(at)
	if err != nil {
		return fmt.Errorf("labelling bars: %w", err)
	}
	for i := range labels.TextStyle {
		labels.TextStyle[i].Handler, labels.TextStyle[i].Font.Size = hand{}, vg.Points(10)
		labels.TextStyle[i].Color = shade(drawing.Faint)
		labels.TextStyle[i].YAlign = draw.YCenter
	}
	labels.Offset = vg.Point{X: 4, Y: 2}
	g.Add(labels)
	g.NominalY(names...)
	g.X.Min, g.X.Max = 0, max(c.Most(), 1)
	g.X.Tick.Marker = steps{}
	g.Y.Min, g.Y.Max = -0.6, float64(n)-0.4
	g.Y.Padding, g.Y.LineStyle.Width = 0, vg.Points(1)
	g.Y.Tick.Length, g.Y.Tick.LineStyle.Width = vg.Points(5), vg.Points(1)
	return nil
}

// cut shortens a label that is too long for its place.
func cut(text string) string {
	if r := []rune(text); len(r) > mostLabel {
		return string(r[:mostLabel-1]) + "…"
	}
	return text
}

// steps marks an axis at whole numbers.
type steps struct{}

// Ticks are at most seven or so, at 1, 2 or 5 of a power of ten.
func (steps) Ticks(low, high float64) (all []plot.Tick) {
	step := 1.0
	for i := 0; high/step > 6; i++ {
		step *= []float64{2, 2.5, 2}[i%3]
	}
	for v := 0.0; v <= high; v += step {
		all = append(all, plot.Tick{Value: v, Label: short(v)})
	}
	return all
}

// lines makes a line for each series over days or months.
func lines(g *plot.Plot, c *report.Chart) error {
	for _, s := range c.Series {
		at := make(plotter.XYs, len(c.Labels))
		for i := range c.Labels {
			at[i] = plotter.XY{X: float64(i), Y: s.Values[i]}
		}
		l, dots, err := plotter.NewLinePoints(at)
		if err != nil {
			return fmt.Errorf("drawing lines: %w", err)
		}
		l.Color, l.Width = shade(tones[s.Tone]), vg.Points(2)
		dots.Color, dots.Shape, dots.Radius = shade(tones[s.Tone]), draw.CircleGlyph{}, vg.Points(2.5)
		g.Add(l)
		if len(c.Labels) <= 60 {
			g.Add(dots)
		}
	}
	g.X.Min, g.X.Max = 0, float64(max(len(c.Labels)-1, 1))
	g.Y.Min, g.Y.Max = 0, max(c.Most()*1.05, 1)
	g.Y.Tick.Marker, g.X.Tick.Marker = steps{}, spread(c.Labels)
	return nil
}

// spread marks an axis at some of its labels, so that they have room.
type spread []string

// Ticks are six at most.
func (s spread) Ticks(float64, float64) (all []plot.Tick) {
	step := max((len(s)+5)/6, 1)
	for i := 0; i < len(s); i += step {
		all = append(all, plot.Tick{Value: float64(i), Label: Moment(s[i])})
	}
	return all
}

// Moment says a day or month of a chart as people do: 30 Nov 2026, Nov 2026.
func Moment(label string) string {
	if t, err := time.Parse(time.DateOnly, label); err == nil {
		return t.Format("2 Jan 2006")
	}
	if t, err := time.Parse("2006-01", label); err == nil {
		return t.Format("Jan 2006")
	}
	return label
}
