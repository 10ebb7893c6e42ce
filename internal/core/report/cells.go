package report

import (
	"fmt"
	"math"
	"strconv"
	"time"
)

// Say says a cell as people read it, in the zone; "" for none.
func (u Unit) Say(cell any, zone *time.Location) string {
	switch v := cell.(type) {
	case nil:
		return ""
	case string:
		if u == Day {
			if t, err := time.Parse(time.DateOnly, v); err == nil {
				return t.Format("2 Jan 2006")
			}
			if t, err := time.Parse("2006-01", v); err == nil {
				return t.Format("January 2006")
			}
		}
		return v
	case time.Time:
		return v.In(zone).Format("2 Jan 2006 15:04")
	case int:
		return strconv.Itoa(v)
	case float64:
		switch u {
		case Share:
			return share(v)
		case Days:
			if v < 1 {
				return fmt.Sprintf("%.0f h", v*24)
			}
			return fmt.Sprintf("%.1f d", v)
		case Span:
			return fmt.Sprintf("%.0f ms", v)
		}
		return strconv.FormatFloat(math.Round(v*10)/10, 'f', -1, 64)
	}
	return fmt.Sprint(cell)
}

// share says a share in percent; less than all is never 100 %, and more than none never 0 %.
func share(v float64) string {
	switch p := 100 * v; {
	case p > 0 && p < 1:
		return "< 1 %"
	case p < 100 && p > 99:
		return "> 99 %"
	default:
		return fmt.Sprintf("%.0f %%", p)
	}
}

// Raw writes a cell as programs read it: a share of 1, a time as RFC 3339; "" for none.
func (u Unit) Raw(cell any) string {
	switch v := cell.(type) {
	case nil:
		return ""
	case string:
		return v
	case time.Time:
		return v.UTC().Format(time.RFC3339)
	case float64:
		return strconv.FormatFloat(math.Round(v*1e4)/1e4, 'f', -1, 64)
	}
	return fmt.Sprint(cell)
}

// Number reports whether the unit's values are numbers, which stand at the right of their column.
func (u Unit) Number() bool { return u == Count || u == Share || u == Days || u == Span }
