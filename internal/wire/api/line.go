package api

import "strconv"

// LineColumns are the columns of a comparison as a table.
var LineColumns = []string{"outcome", "person", "role", "reason", "detail", "register name", "register address", "register identifier", "service account", "service name", "service address", "active", "member"}

// Cells are the line's values in the order of LineColumns.
func (l Line) Cells() []string {
	cells := []string{string(l.Outcome), l.Name, string(l.Role), l.Title, l.Entry.Detail, "", "", "", "", "", "", "", ""}
	if r := l.Register; r != nil {
		cells[5], cells[6], cells[7] = r.Name, r.Email, r.Identifier
	}
	if s := l.Service; s != nil {
		cells[8], cells[9], cells[10], cells[11], cells[12] = s.AccountID, s.Name, s.Email, strconv.FormatBool(s.Active), strconv.FormatBool(s.Member)
	}
	return cells
}
