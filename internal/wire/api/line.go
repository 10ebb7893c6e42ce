package api

import (
	"strconv"
)

// Line is one person on both sides of a pairing.
type Line struct {
	Decision
	Register *RegisterSide `json:"register,omitempty" doc:"As the section has them; absent for members whom nobody in the section is"`
	Service  *ServiceSide  `json:"service,omitempty" doc:"As the service has them; absent without an account"`
}

// RegisterSide is a person as the register has them.
type RegisterSide struct {
	Name       string `json:"name"`
	Email      string `json:"email"`
	UserName   string `json:"userName"`
	Identifier string `json:"identifier"`
}

// ServiceSide is a person as the service has them.
type ServiceSide struct {
	AccountID string `json:"accountId"`
	Name      string `json:"name"`
	Email     string `json:"email"`
	UserName  string `json:"userName"`
	Active    bool   `json:"active"`
	Member    bool   `json:"member" doc:"Is in the target"`
}

// LineColumns are the columns of a comparison as a table.
var LineColumns = []string{
	"outcome", "person", "role", "reason", "detail", "register name", "register address",
	"register identifier", "service account", "service name", "service address", "active", "member",
}

// Cells are the line's values in the order of LineColumns.
func (l Line) Cells() []string {
	cells := []string{
		string(l.Outcome), l.Name, string(l.Role), l.Title, l.Entry.Detail, "", "", "", "", "", "", "",
		"",
	}
	if r := l.Register; r != nil {
		cells[5], cells[6], cells[7] = r.Name, r.Email, r.Identifier
	}
	if s := l.Service; s != nil {
		cells[8], cells[9], cells[10], cells[11], cells[12] = s.AccountID, s.Name, s.Email,
			strconv.FormatBool(s.Active), strconv.FormatBool(s.Member)
	}
	return cells
}
