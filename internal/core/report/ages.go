package report

import "time"

// Ages counts things by how old they are.
type Ages struct {
	Week    int // younger than a week
	Month   int // younger than 30 days
	Older   int
	Unknown int // it is not known since when they are
	Oldest  *time.Time
}

// Add counts n things that are so since a time, nil where that is not known.
func (a *Ages) Add(n int, since *time.Time, now time.Time) {
	if since == nil {
		a.Unknown += n
		return
	}
	switch age := now.Sub(*since); {
	case age < 7*24*time.Hour:
		a.Week += n
	case age < 30*24*time.Hour:
		a.Month += n
	default:
		a.Older += n
	}
	if a.Oldest == nil || since.Before(*a.Oldest) {
		a.Oldest = since
	}
}

// All is how many there are.
func (a *Ages) All() int { return a.Week + a.Month + a.Older + a.Unknown }

// AgeColumns are the headings of Cells.
var AgeColumns = []Column{
	{Title: "Up to a week", Unit: Count},
	{Title: "Up to a month", Unit: Count},
	{Title: "Longer", Unit: Count},
	{Title: "Not known", Unit: Count},
	{Title: "Oldest", Unit: Time},
}

// Cells are the numbers as cells.
func (a *Ages) Cells() []any {
	oldest := any(nil)
	if a.Oldest != nil {
		oldest = *a.Oldest
	}
	return []any{a.Week, a.Month, a.Older, a.Unknown, oldest}
}
