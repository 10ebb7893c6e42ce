// Package sheet writes tables as CSV (RFC 4180) and as workbooks that people open in
// spreadsheets.
//
//	err := sheet.CSV(out, []string{"person", "outcome"}, rows)
package sheet

import (
	"encoding/csv"
	"io"
	"iter"
	"strconv"
	"strings"
)

// CSV writes a header and rows. Cells that a spreadsheet would take for a
// formula get an apostrophe in front; numbers stay numbers.
func CSV(out io.Writer, header []string, rows [][]string) error {
	w := csv.NewWriter(out)
	_ = w.Write(header)
	for _, r := range rows {
		_ = w.Write(harmless(r))
	}
	w.Flush()
	return w.Error()
}

// Stream is CSV for rows that come one after the other. It ends at the first error.
func Stream(out io.Writer, header []string, rows iter.Seq2[[]string, error]) error {
	w := csv.NewWriter(out)
	_ = w.Write(header)
	for r, err := range rows {
		if err != nil {
			w.Flush()
			return err
		}
		_ = w.Write(harmless(r))
	}
	w.Flush()
	return w.Error()
}

func harmless(row []string) []string {
	out := make([]string, len(row))
	for i, c := range row {
		if _, err := strconv.ParseFloat(c, 64); c != "" && err != nil &&
			strings.ContainsRune("=+-@\t\r", rune(c[0])) {
			c = "'" + c
		}
		out[i] = c
	}
	return out
}
