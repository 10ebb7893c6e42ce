package sheet

import (
	"fmt"
	"io"
	"iter"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"
)

// XLSX writes a header and rows as a workbook (Office Open XML) with one sheet. Every
// cell is text, so that none is taken for a formula.
func XLSX(out io.Writer, name string, header []string, rows [][]string) error {
	return Book(out, []Sheet{{Name: name, Header: header, Rows: func(yield func([]any, error) bool) {
		for _, row := range rows {
			cells := make([]any, len(row))
			for i, text := range row {
				cells[i] = text
			}
			if !yield(cells, nil) {
				return
			}
		}
	}}})
}

// Sheet is a sheet of a workbook. A cell is a string, which is never taken for a formula, a number, a
// time or nil.
type Sheet struct {
	Name   string
	Header []string
	Shares []bool // which columns are shares of 1, shown as percentages; nil for none
	Rows   iter.Seq2[[]any, error]
}

// Book writes a workbook; rows are held on disk, not in memory.
func Book(out io.Writer, sheets []Sheet) error {
	f := excelize.NewFile()
	defer f.Close()
	percent, err := f.NewStyle(&excelize.Style{NumFmt: 9})
	if err != nil {
		return err
	}
	moment, err := f.NewStyle(&excelize.Style{NumFmt: 22})
	if err != nil {
		return err
	}
	taken := map[string]bool{}
	for i, s := range sheets {
		title := titled(s.Name, i, taken)
		if i == 0 {
			err = f.SetSheetName("Sheet1", title)
		} else {
			_, err = f.NewSheet(title)
		}
		if err != nil {
			return fmt.Errorf("naming the sheet: %w", err)
		}
		if err := s.write(f, title, percent, moment); err != nil {
			return err
		}
	}
	return f.Write(out)
}

// titled gives a sheet a name that workbooks allow and no other one has.
func titled(name string, i int, taken map[string]bool) string {
	title := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`[]:*?/\'`, r) {
			return ' '
		}
		return r
	}, name)
	for utf8.RuneCountInString(title) > excelize.MaxSheetNameLength {
		title = title[:len(title)-1]
	}
	title = strings.ToValidUTF8(strings.TrimSpace(title), "")
	if title == "" || taken[strings.ToLower(title)] {
		title = fmt.Sprintf("Sheet%d", i+1)
	}
	taken[strings.ToLower(title)] = true
	return title
}

// write streams the rows of a sheet.
func (s Sheet) write(f *excelize.File, title string, percent, moment int) error {
	w, err := f.NewStreamWriter(title)
	if err != nil {
		return err
	}
	n := 0
	put := func(cells []any) error {
		n++
		at, err := excelize.CoordinatesToCellName(1, n)
		if err == nil {
			err = w.SetRow(at, cells)
		}
		if err != nil {
			return fmt.Errorf("writing row %d: %w", n, err)
		}
		return nil
	}
	header := make([]any, len(s.Header))
	for i, h := range s.Header {
		header[i] = h
	}
	if err := put(header); err != nil {
		return err
	}
	for row, err := range s.Rows {
		if err != nil {
			return err
		}
		cells := make([]any, len(row))
		for i, c := range row {
			cells[i] = c
			if t, is := c.(time.Time); is {
				cells[i] = excelize.Cell{StyleID: moment, Value: t}
			} else if c != nil && s.Shares != nil && s.Shares[i] {
				cells[i] = excelize.Cell{StyleID: percent, Value: c}
			}
		}
		if err := put(cells); err != nil {
			return err
		}
	}
	return w.Flush()
}
