package chart

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/report"
	"kanban/internal/wire/drawing"
)

// Pages of A4, in points, and what they hold.
const (
	pageWidth, pageHeight = 595.0, 842.0
	margin                = 42.0
	rowHeight             = 16.0
	// MostRows is how many rows of a table are printed.
	MostRows = 400
)

// press puts a report on pages.
type press struct {
	report report.Report
	zone   *time.Location
	pages  []*drawing.Drawing
	y      float64 // where the next thing goes
}

// Pages puts a report on pages to print. Of a long table the first rows are there, and it says how many more there
// are.
func Pages(r report.Report, zone *time.Location) ([]*drawing.Drawing, error) {
	p := &press{report: r, zone: zone}
	p.turn()
	d := p.page()
	d.Text(r.Title, drawing.Style{Size: 22, Bold: true, Colour: drawing.Ink}, margin, 66, drawing.Start)
	p.y = d.Wrapped(About(r), drawing.Style{Size: 9.5, Colour: drawing.Faint}, margin, 84, pageWidth-2*margin,
		drawing.Start,
		4) + 8
	for _, s := range r.Summary {
		p.y = d.Wrapped(s, drawing.Style{Size: 12, Colour: drawing.Ink}, margin, p.y, pageWidth-2*margin,
			drawing.Start, 3)
	}
	for _, part := range r.Parts {
		if err := p.part(part); err != nil {
			return nil, err
		}
	}
	for _, remark := range r.Remarks {
		p.room(30)
		p.y = p.page().Wrapped(remark, drawing.Style{Size: 9.5, Colour: drawing.Faint}, margin, p.y+12,
			pageWidth-2*margin,
			drawing.Start, 3)
	}
	for i, d := range p.pages {
		foot := fmt.Sprintf("%s · made %s · page %d of %d", r.Title, r.MadeAt.In(zone).Format("2 January 2006 15:04"),
			i+1, len(p.pages))
		d.Text(foot, drawing.Style{Size: 8.5, Colour: drawing.Faint}, margin, pageHeight-24, drawing.Start)
	}
	return p.pages, nil
}

func (p *press) page() *drawing.Drawing { return p.pages[len(p.pages)-1] }

// turn begins a page.
func (p *press) turn() {
	d := drawing.New(pageWidth, pageHeight, p.report.Title)
	d.Fill(drawing.Rect(0, 0, pageWidth, pageHeight), "#ffffff")
	p.pages, p.y = append(p.pages, d), margin+14
}

// room turns the page unless so much fits on it.
func (p *press) room(height float64) {
	if p.y+height > pageHeight-margin {
		p.turn()
	}
}

// part puts a chart and a table.
func (p *press) part(x report.Part) error {
	width := pageWidth - 2*margin
	put, height, err := plotted(x, width)
	if err != nil {
		return err
	}
	p.room(min(height, 300) + 70)
	p.y += 24
	p.page().Text(x.Title, drawing.Style{Size: 14, Bold: true, Colour: drawing.Ink}, margin, p.y, drawing.Start)
	p.y += 10
	if x.Chart != nil {
		p.room(height + 30)
		if len(x.Chart.Series) > 1 {
			legend(p.page(), x.Chart, margin, p.y+10, 9.5)
			p.y += 18
		}
		put(p.page(), margin, p.y)
		p.y += height + 8
	}
	return p.table(x)
}

// cell is text in a column of a table.
type cell struct {
	text  string
	right bool
}

// table puts rows, the columns as wide as what is in them wants.
func (p *press) table(x report.Part) error {
	if x.Total == 0 {
		p.page().Text(x.Empty, drawing.Style{Size: 9.5, Colour: drawing.Faint}, margin, p.y+12, drawing.Start)
		p.y += 18
		return nil
	}
	small := drawing.Style{Size: 8.5, Colour: drawing.Ink}
	head := make([]cell, len(x.Columns))
	least, widths := make([]float64, len(x.Columns)), make([]float64, len(x.Columns))
	for i, c := range x.Columns {
		head[i] = cell{c.Title, c.Unit.Number()}
		for _, word := range strings.Fields(c.Title) {
			least[i] = max(least[i], drawing.Width(word, drawing.Style{Size: 8.5, Bold: true}))
		}
		widths[i] = max(least[i], min(drawing.Width(c.Title, drawing.Style{Size: 8.5, Bold: true}), 90))
	}
	var rows [][]cell
	for r, err := range x.Rows {
		if err != nil {
			return err
		}
		if len(rows) == MostRows {
			break
		}
		row := make([]cell, len(x.Columns))
		for i, c := range x.Columns {
			row[i] = cell{c.Unit.Say(r[i], p.zone), c.Unit.Number()}
			w := drawing.Width(row[i].text, small)
			if widths[i] = max(widths[i], min(w, 260)); c.Unit != report.Text {
				least[i] = max(least[i], w)
			}
		}
		rows = append(rows, row)
	}
	full := pageWidth - 2*margin - gap*float64(len(widths)-1)
	first := slices.Clone(least) // numbers give way first
	for i, c := range x.Columns {
		if c.Unit == report.Text {
			first[i] = widths[i]
		}
	}
	fit(widths, first, full)
	fit(widths, least, full)
	fit(widths, make([]float64, len(widths)), full)
	p.heading(head, widths)
	for _, row := range rows {
		if p.y+rowHeight > pageHeight-margin {
			p.turn()
			p.heading(head, widths)
		}
		p.row(row, widths, small)
	}
	if more := x.Total - len(rows); more > 0 {
		p.room(30)
		p.page().Text(fmt.Sprintf("and %d more; the whole list is in the CSV and the XLSX file", more),
			drawing.Style{Size: 9.5, Colour: drawing.Faint}, margin, p.y+14, drawing.Start)
		p.y += 22
	}
	return nil
}

// gap lies between columns.
const gap = 9.0

// fit makes columns narrower, as far as each can be, until all have room.
func fit(widths, least []float64, full float64) {
	sum, spare := 0.0, 0.0
	for i, w := range widths {
		sum += w
		spare += w - least[i]
	}
	if sum <= full {
		return
	}
	part := 1.0
	if spare > 0 {
		part = min((sum-full)/spare, 1)
	}
	for i := range widths {
		widths[i] -= (widths[i] - least[i]) * part
	}
}

// heading puts the columns' titles, on two lines where they need it.
func (p *press) heading(head []cell, widths []float64) {
	p.room(60)
	p.line(head, widths, drawing.Style{Size: 8.5, Bold: true, Colour: drawing.Faint}, 2)
	p.y += 12
}

// row puts a row.
func (p *press) row(row []cell, widths []float64, style drawing.Style) { p.line(row, widths, style, 1) }

// line puts cells side by side with a line below, each on so many lines of text at most.
func (p *press) line(row []cell, widths []float64, style drawing.Style, most int) {
	x, d := margin, p.page()
	for i, c := range row {
		at, align := x, drawing.Start
		if c.right {
			at, align = x+widths[i], drawing.End
		}
		d.Wrapped(c.text, style, at, p.y+11, widths[i]+3, align, most)
		x += widths[i] + gap
	}
	p.y += rowHeight
	below := p.y + rowHeight*0.75*float64(most-1) - 1
	d.Fill(drawing.Rect(margin, below, pageWidth-2*margin, 0.4*float64(most)), drawing.Pale)
}
