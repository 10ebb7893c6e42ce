package chart_test

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image/png"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/report"
	"kanban/internal/wire/chart"
	"kanban/internal/wire/drawing"
)

var at = time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)

// bars makes a report with a chart of so many bars.
func bars(n int, name func(int) string) report.Report {
	c := report.Chart{Kind: report.Bars, Series: []report.Series{
		{Title: "Finished", Tone: report.Done}, {Title: "Stopped", Tone: report.Bad},
	}}
	var rows []report.Row
	for i := range n {
		c.Labels = append(c.Labels, name(i))
		c.Series[0].Values = append(c.Series[0].Values, float64(i%7))
		c.Series[1].Values = append(c.Series[1].Values, float64(i%3))
		rows = append(rows, report.Row{name(i), i % 7, float64(i%3) / 3, nil, at})
	}
	return report.Report{
		Title: "Completion", MadeAt: at, Scope: []string{"course Propagation", "term First term"},
		Sources: []report.Source{{Name: "School register", ReadAt: &at}, {Name: "Files"}},
		Summary: []string{"2 of 9 learners finished."}, Remarks: []string{"Whoever has done nothing for 14 days has stopped."},
		Parts: []report.Part{report.Table("By section", "Nobody is here.", []report.Column{
			{Title: "Section", Unit: report.Text},
			{Title: "Finished", Unit: report.Count},
			{Title: "Of all", Unit: report.Share},
			{Title: "Half took", Unit: report.Days},
			{Title: "Read", Unit: report.Time},
		}, rows, &c)},
	}
}

func plain(i int) string { return fmt.Sprint("Section ", i) }

func TestPicturesOfAnyNumberAreReadable(t *testing.T) {
	for _, n := range []int{0, 1, 5, 5000} {
		r := bars(n, plain)
		d, err := chart.Picture(r, 0)
		require.NoError(t, err)
		decoder, paths := xml.NewDecoder(bytes.NewReader(d.SVG())), 0
		for {
			token, err := decoder.Token()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			if e, is := token.(xml.StartElement); is && e.Name.Local == "path" {
				paths++
			}
		}
		assert.Greater(t, paths, 4+min(n, chart.MostBars))
		text, err := d.PNG(1520)
		require.NoError(t, err)
		picture, err := png.Decode(bytes.NewReader(text))
		require.NoError(t, err)
		size := picture.Bounds().Size()
		assert.Equal(t, 1520, size.X)
		assert.LessOrEqual(t, size.Y, 2400, "no picture grows for ever")
		if n > 0 {
			assert.Contains(t, d.Description, "Section 0: Finished 0, Stopped 0.", "it is said to whoever cannot see it")
		} else {
			assert.Equal(t, "Nobody is here.", d.Description)
		}
	}
}

// Every bar is as long as what it stands for: seen in the colours of its picture.
func TestBarsAreAsLongAsTheirValues(t *testing.T) {
	r := bars(0, plain)
	r.Parts[0] = report.Table("x", "", []report.Column{{Title: "x", Unit: report.Text}}, []report.Row{{"a"}, {"b"}},
		&report.Chart{Kind: report.Bars, Labels: []string{"a", "b"}, Series: []report.Series{
			{Title: "Finished", Tone: report.Done, Values: []float64{30, 10}},
		}})
	d, err := chart.Picture(r, 0)
	require.NoError(t, err)
	text, err := d.PNG(1520)
	require.NoError(t, err)
	picture, err := png.Decode(bytes.NewReader(text))
	require.NoError(t, err)
	var lengths []int
	before := 0
	for y := range picture.Bounds().Dy() {
		n := 0
		for x := range picture.Bounds().Dx() {
			if red, green, blue, _ := picture.At(x, y).RGBA(); red>>8 == 0x2f && green>>8 == 0x61 && blue>>8 == 0x36 {
				n++
			}
		}
		if n > 0 && before == 0 {
			lengths = append(lengths, 0)
		}
		if n > 0 {
			lengths[len(lengths)-1] = max(lengths[len(lengths)-1], n)
		}
		before = n
	}
	require.Len(t, lengths, 2)
	assert.InDelta(t, 3, float64(lengths[0])/float64(lengths[1]), 0.05)
}

func TestNamesOfEveryScriptAreDrawn(t *testing.T) {
	names := []string{"Ελένη Παπαδοπούλου", "Надежда Тёмная", "Nguyễn Thị Hường", "محمد العلي", "王小明"}
	d, err := chart.Picture(bars(len(names), func(i int) string { return names[i] }), 0)
	require.NoError(t, err)
	empty, err := chart.Picture(bars(len(names), func(int) string { return " " }), 0)
	require.NoError(t, err)
	for _, n := range names {
		assert.Contains(t, d.Description, n)
		assert.Positive(t, drawing.Width(n, drawing.Style{Size: 11}))
	}
	assert.Greater(t, len(d.SVG()), len(empty.SVG())+5000)
}

func TestLinesOverDays(t *testing.T) {
	for _, days := range []int{1, 2, 400} {
		c := report.Chart{Kind: report.Lines, Series: []report.Series{{Title: "Joined", Tone: report.Done}}}
		for i := range days {
			c.Labels = append(c.Labels, at.AddDate(0, 0, i).Format(time.DateOnly))
			c.Series[0].Values = append(c.Series[0].Values, float64(i))
		}
		r := bars(1, plain)
		r.Parts[0].Chart = &c
		d, err := chart.Picture(r, 0)
		require.NoError(t, err)
		_, err = d.PNG(760)
		require.NoError(t, err)
		assert.Contains(t, d.Description, "2026-11-30: Joined 0.")
	}
	assert.Equal(t, []string{"30 Nov 2026", "Nov 2026", "a name"},
		[]string{chart.Moment("2026-11-30"), chart.Moment("2026-11"), chart.Moment("a name")})
}

func TestPagesHoldTheFirstRowsAndSayHowManyMore(t *testing.T) {
	for n, most := range map[int]int{0: 1, 3: 1, 5000: 14} {
		pages, err := chart.Pages(bars(n, plain), time.UTC)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(pages), most, n)
		pdf, err := drawing.Document(pages, at)
		require.NoError(t, err)
		assert.True(t, bytes.HasPrefix(pdf, []byte("%PDF-1.")))
		assert.Equal(t, len(pages), strings.Count(string(pdf), "/Type /Page\n"))
	}
	r := bars(1, plain)
	r.Parts[0].Rows = func(yield func(report.Row, error) bool) { yield(nil, io.ErrUnexpectedEOF) }
	_, err := chart.Pages(r, time.UTC)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "half a table is no report")
}

func TestAboutSaysToWhatItIsNarrowedAndWhenItWasRead(t *testing.T) {
	assert.Equal(t, "course Propagation, term First term · School register read 30 November 2026 08:00 · Files never read",
		chart.About(bars(0, plain)))
	assert.Equal(t, "Everything", chart.About(report.Report{}))
}
