package oneroster

import (
	"archive/zip"
	"encoding/csv"
	"fmt"
	"io"
	"strings"
)

// Table is one file of a package to write: its mode, and rows of values by column.
type Table struct {
	Mode Mode
	Rows []map[string]string
}

// packageFiles are all files that a 1.2 manifest names, in its order.
var packageFiles = strings.Fields(`academicSessions categories classes classResources courses courseResources demographics
	enrollments lineItemLearningObjectiveIds lineItems lineItemScoreScales orgs resources resultLearningObjectiveIds results
	resultScoreScales roles scoreScales userProfiles userResources users`)

// WritePackage writes a 1.2 package: manifest and the given tables, with the
// standard's columns in its order, CRLF line ends and UTF-8.
func WritePackage(out io.Writer, system string, tables map[string]Table) error {
	archive := zip.NewWriter(out)
	manifest := [][]string{{"propertyName", "value"}, {"manifest.version", "1.0"}, {"oneroster.version", "1.2"}}
	for _, name := range packageFiles {
		mode := Absent
		if t, ok := tables[name]; ok {
			mode = t.Mode
		}
		manifest = append(manifest, []string{"file." + name, string(mode)})
	}
	manifest = append(manifest, []string{"source.systemName", system}, []string{"source.systemCode", ""})
	if err := writeCSV(archive, "manifest", manifest); err != nil {
		return err
	}
	for _, name := range packageFiles {
		t, ok := tables[name]
		if !ok {
			continue
		}
		columns := Headers[name]
		rows := [][]string{columns}
		for _, values := range t.Rows {
			row := make([]string, len(columns))
			for i, c := range columns {
				row[i] = values[c]
			}
			rows = append(rows, row)
		}
		if err := writeCSV(archive, name, rows); err != nil {
			return err
		}
	}
	return archive.Close()
}

func writeCSV(archive *zip.Writer, name string, rows [][]string) error {
	f, err := archive.Create(name + ".csv")
	if err != nil {
		return fmt.Errorf("writing %s.csv: %w", name, err)
	}
	w := csv.NewWriter(f)
	w.UseCRLF = true
	if err := w.WriteAll(rows); err != nil {
		return fmt.Errorf("writing %s.csv: %w", name, err)
	}
	return nil
}
