package reports

import (
	"fmt"
	"io"

	"kanban/internal/core/badge"
	"kanban/internal/core/refusal"
	"kanban/internal/core/report"
	"kanban/internal/wire/chart"
	"kanban/internal/wire/drawing"
	"kanban/internal/wire/sheet"
)

// Forms are the media types of the files that a report is written as, by the ending of their names.
var Forms = map[string]string{
	"csv": "text/csv; charset=utf-8", "svg": badge.SVG, "png": badge.PNG, "pdf": "application/pdf",
	"xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}

// pictureWidth is how wide a chart is as PNG, in pixels.
const pictureWidth = 1520

// mostInSheet is how many rows a sheet of a workbook holds below its heading (ECMA-376).
const mostInSheet = 1<<20 - 1

// FileName is what the file of a report is called.
func (s *Service) FileName(r report.Report, form string) string {
	return string(r.Name) + "-" + r.MadeAt.In(s.Location()).Format("2006-01-02") + "." + form
}

// Write writes a report as a file in one of Forms. A CSV file holds one table and a picture one chart: that of the
// part, counted from 0. When it ends with an error, what was written is no report.
func (s *Service) Write(out io.Writer, r report.Report, part int, form string) error {
	r.MadeAt = r.MadeAt.In(s.Location())
	var content []byte
	var err error
	switch form {
	case "csv":
		return table(out, r.Parts[part])
	case "xlsx":
		return book(out, r)
	case "pdf":
		pages, problem := chart.Pages(r, s.Location())
		if problem != nil {
			return problem
		}
		content, err = drawing.Document(pages, r.MadeAt)
	case "svg", "png":
		d, problem := chart.Picture(r, part)
		if problem != nil {
			return problem
		}
		if content = d.SVG(); form == "png" {
			content, err = d.PNG(pictureWidth)
		}
	default:
		return fmt.Errorf("%q is no form of a report", form)
	}
	if err == nil {
		_, err = out.Write(content)
	}
	return err
}

// table writes a table as CSV.
func table(out io.Writer, p report.Part) error {
	return sheet.Stream(out, titles(p), func(yield func([]string, error) bool) {
		for row, err := range p.Rows {
			cells := make([]string, len(row))
			for i := range row {
				cells[i] = p.Columns[i].Unit.Raw(row[i])
			}
			if !yield(cells, err) || err != nil {
				return
			}
		}
	})
}

// book writes all tables as a workbook.
func book(out io.Writer, r report.Report) error {
	var sheets []sheet.Sheet
	for _, p := range r.Parts {
		if p.Total > mostInSheet {
			return refusal.Invalid("form", "%q has %d rows, and a sheet of a workbook holds %d: take csv, or narrow the report",
				p.Title, p.Total, mostInSheet)
		}
		x := sheet.Sheet{Name: p.Title, Header: titles(p), Rows: func(yield func([]any, error) bool) {
			for row, err := range p.Rows {
				if !yield(row, err) || err != nil {
					return
				}
			}
		}}
		for _, c := range p.Columns {
			x.Shares = append(x.Shares, c.Unit == report.Share)
		}
		sheets = append(sheets, x)
	}
	return sheet.Book(out, sheets)
}

// titles are the headings of a table.
func titles(p report.Part) (out []string) {
	for _, c := range p.Columns {
		out = append(out, c.Title)
	}
	return out
}
