package report

import "slices"

// Reworded gives a report whose texts went through a function, such as one that hides who people are. Rows do as they
// are read.
func (r Report) Reworded(text func(string) string) Report {
	all := func(list []string) []string {
		list = slices.Clone(list)
		for i := range list {
			list[i] = text(list[i])
		}
		return list
	}
	r.Title, r.Scope, r.Summary, r.Remarks = text(r.Title), all(r.Scope), all(r.Summary), all(r.Remarks)
	r.Sources = slices.Clone(r.Sources)
	for i := range r.Sources {
		r.Sources[i].Name = text(r.Sources[i].Name)
	}
	r.Parts = slices.Clone(r.Parts)
	for i := range r.Parts {
		r.Parts[i] = r.Parts[i].reworded(text, all)
	}
	return r
}

func (p Part) reworded(text func(string) string, all func([]string) []string) Part {
	p.Title, p.Empty, p.Columns = text(p.Title), text(p.Empty), slices.Clone(p.Columns)
	for i := range p.Columns {
		p.Columns[i].Title = text(p.Columns[i].Title)
	}
	if p.Chart != nil {
		c := *p.Chart
		c.Labels, c.Series = all(c.Labels), slices.Clone(c.Series)
		for i := range c.Series {
			c.Series[i].Title = text(c.Series[i].Title)
		}
		p.Chart = &c
	}
	rows := p.Rows
	if rows == nil {
		return p
	}
	p.Rows = func(yield func(Row, error) bool) {
		for row, err := range rows {
			row = slices.Clone(row)
			for i := range row {
				if cell, is := row[i].(string); is {
					row[i] = text(cell)
				}
			}
			if !yield(row, err) {
				return
			}
		}
	}
	return p
}
