package grade

import (
	"time"

	"kanban/internal/core/finding"
)

// Period is a grading period or another session of the book (OneRoster
// AcademicSession).
type Period struct {
	ID, Title string
	// Kind is the session's type, such as gradingPeriod or term; a term can hold
	// several periods of several kinds.
	Kind string
	// Begins and Ends are its first and last day, in UTC; zero for no bound.
	Begins, Ends time.Time
}

// Has reports whether a moment's day lies in the period.
func (p Period) Has(at time.Time) bool {
	return (p.Begins.IsZero() || !at.Before(p.Begins)) && (p.Ends.IsZero() || at.Before(p.Ends.AddDate(0, 0, 1)))
}

// FindPeriod gives the one period of a kind in which a date lies. Where there is
// none or more than one, the reason says so: none is ever taken because it is the
// first, or because it is today's.
func FindPeriod(date time.Time, kind string, periods []Period) (*Period, finding.Code) {
	if date.IsZero() {
		return nil, finding.ItemNotDue
	}
	var found *Period
	some := false
	for i, p := range periods {
		if p.Kind != kind {
			continue
		}
		some = true
		if !p.Has(date) {
			continue
		}
		if found != nil {
			return nil, finding.ItemPeriodUnclear
		}
		found = &periods[i]
	}
	switch {
	case found != nil:
		return found, ""
	case some:
		return nil, finding.ItemOutsidePeriod
	}
	return nil, finding.ItemNoPeriod
}
