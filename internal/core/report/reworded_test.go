package report_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"kanban/internal/core/report"
)

func TestReportsAreReworded(t *testing.T) {
	r := report.Report{
		Title: "t", Scope: []string{"s"}, Summary: []string{"u"}, Remarks: []string{"m"},
		Sources: []report.Source{{Name: "o"}},
		Parts: []report.Part{report.Table("p", "e", []report.Column{{Title: "c", Unit: report.Text}},
			[]report.Row{{"ada", 1, nil}}, &report.Chart{
				Labels: []string{"l"},
				Series: []report.Series{{Title: "n"}},
			})},
	}
	loud := r.Reworded(strings.ToUpper)
	assert.Equal(t, []string{"T", "S", "U", "M", "O", "P", "E", "C", "L", "N"}, []string{
		loud.Title, loud.Scope[0], loud.Summary[0], loud.Remarks[0], loud.Sources[0].Name, loud.Parts[0].Title,
		loud.Parts[0].Empty, loud.Parts[0].Columns[0].Title, loud.Parts[0].Chart.Labels[0],
		loud.Parts[0].Chart.Series[0].Title,
	})
	for row := range loud.Parts[0].Rows {
		assert.Equal(t, report.Row{"ADA", 1, nil}, row)
	}
	assert.Equal(t, "l", r.Parts[0].Chart.Labels[0], "the report itself is as it was")
	for row := range r.Parts[0].Rows {
		assert.Equal(t, report.Row{"ada", 1, nil}, row)
	}
	assert.Nil(t, report.Report{Parts: []report.Part{{}}}.Reworded(strings.ToUpper).Parts[0].Rows)
}
