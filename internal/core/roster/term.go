package roster

import "time"

// Over reports whether a last day has passed at a moment. Without a last day
// nothing is ever over.
func Over(lastDay *time.Time, at time.Time) bool {
	return lastDay != nil && !at.Before(lastDay.AddDate(0, 0, 1))
}
