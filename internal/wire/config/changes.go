package config

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// ValueChange is one value that is another one in two readings of a thing.
type ValueChange struct {
	Path   string `json:"path" doc:"Such as actions[0].subject"`
	Before string `json:"before,omitempty" doc:"Absent for what was not there"`
	After  string `json:"after,omitempty" doc:"Absent for what is not there any more"`
}

// ValueChanges says how two things differ, value by value.
func ValueChanges(before, after json.RawMessage) []ValueChange {
	a, b := flat(before), flat(after)
	var out []ValueChange
	for path, was := range a {
		if b[path] != was {
			out = append(out, ValueChange{path, was, b[path]})
		}
	}
	for path, is := range b {
		if _, there := a[path]; !there {
			out = append(out, ValueChange{path, "", is})
		}
	}
	slices.SortFunc(out, func(x, y ValueChange) int { return comparePaths(x.Path, y.Path) })
	return out
}

// comparePaths orders paths as they stand, numbers by their value.
func comparePaths(a, b string) int {
	x, y := steps(a), steps(b)
	for i := range min(len(x), len(y)) {
		m, errM := strconv.Atoi(x[i])
		n, errN := strconv.Atoi(y[i])
		c := cmp.Compare(x[i], y[i])
		if errM == nil && errN == nil {
			c = cmp.Compare(m, n)
		}
		if c != 0 {
			return c
		}
	}
	return cmp.Compare(len(x), len(y))
}

// flat gives the plain values of a thing by their paths.
func flat(text json.RawMessage) map[string]string {
	out := map[string]string{}
	var x any
	d := json.NewDecoder(strings.NewReader(string(text)))
	d.UseNumber()
	if d.Decode(&x) != nil {
		return out
	}
	var walk func(path string, x any)
	walk = func(path string, x any) {
		switch v := x.(type) {
		case map[string]any:
			for name, inner := range v {
				walk(join(path, name), inner)
			}
		case []any:
			for i, inner := range v {
				walk(fmt.Sprintf("%s[%d]", path, i), inner)
			}
		default:
			out[path] = fmt.Sprint(v)
		}
	}
	walk("", x)
	return out
}

// Sort puts the lists of a set-up into the order in which they are exported.
func (s *Setup) Sort() {
	by(s.Connections, func(x Connection) string { return x.Name })
	by(s.Matching, func(x Matching) string { return x.Interface })
	by(s.Mappings, func(x Mapping) string { return x.Interface })
	by(s.Issuers, func(x Issuer) string { return x.Name })
	by(s.Badges, func(x Badge) string { return x.Name })
	by(s.Outlines, func(x Outline) string { return x.Course })
	by(s.Offers, func(x Offer) string { return x.Name })
	by(s.Rules, func(x Rule) string { return x.Name })
	by(s.StagePlans, func(x StagePlan) string { return x.Name })
}

func by[T any](list []T, name func(T) string) {
	slices.SortStableFunc(list, func(a, b T) int {
		return cmp.Or(cmp.Compare(strings.ToLower(name(a)), strings.ToLower(name(b))), cmp.Compare(name(a), name(b)))
	})
}
