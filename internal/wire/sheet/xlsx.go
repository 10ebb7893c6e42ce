package sheet

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"
)

// XLSX writes a header and rows as a workbook (Office Open XML) with one sheet. Every
// cell is text, so that none is taken for a formula.
func XLSX(out io.Writer, name string, header []string, rows [][]string) error {
	f := excelize.NewFile()
	defer f.Close()
	title := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`[]:*?/\'`, r) {
			return ' '
		}
		return r
	}, name)
	for utf8.RuneCountInString(title) > excelize.MaxSheetNameLength {
		title = title[:len(title)-1]
	}
	if title = strings.ToValidUTF8(strings.TrimSpace(title), ""); title == "" {
		title = "Sheet1"
	}
	if err := f.SetSheetName("Sheet1", title); err != nil {
		return fmt.Errorf("naming the sheet: %w", err)
	}
	w, err := f.NewStreamWriter(title)
	if err != nil {
		return err
	}
	for i, row := range append([][]string{header}, rows...) {
		cells := make([]any, len(row))
		for j, text := range row {
			cells[j] = text
		}
		at, err := excelize.CoordinatesToCellName(1, i+1)
		if err == nil {
			err = w.SetRow(at, cells)
		}
		if err != nil {
			return fmt.Errorf("writing row %d: %w", i+1, err)
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Write(out)
}
