package sheet_test

import (
	"os"

	"kanban/internal/wire/sheet"
)

func ExampleCSV() {
	_ = sheet.CSV(os.Stdout, []string{"person", "percent"}, [][]string{{"Ada Alder", "50"}, {"=1+1", "-3"}})
	// Output:
	// person,percent
	// Ada Alder,50
	// '=1+1,-3
}
