package findings

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
)

// Today lists what needs a person and has not been acknowledged, ordered by
// harm: interfaces that do not work, reads and runs that stopped, deliveries
// that wait, people to mend. What is the same about one person in several sections
// is one thing to do, and so is what has the same cause and remedy for many people. It is of some sections, or of all
// when within is nil.
func (s *Service) Today(ctx context.Context, within *permission.Reach) ([]Finding, error) {
	all, err := s.Findings(ctx, Filter{Group: Mend, Within: within})
	if err != nil {
		return nil, err
	}
	list := []Finding{}
	type same struct {
		personID string
		code     finding.Code
		detail   string
	}
	first := map[same]int{}
	for _, f := range all {
		key := same{f.Person, f.Code, f.Detail}
		if i, ok := first[key]; ok && f.Person != "" {
			list[i].Where += ", " + f.Where
			continue
		}
		first[key] = len(list)
		list = append(list, f)
	}
	return byCause(list), nil
}

// manyPeople is from how many people on one finding stands for all of one cause.
const manyPeople = 4

// cause is why something is as it is for a person: what lies with their record in the register
// is one cause whatever it says of each; anything else is the same when it says the same.
type cause struct {
	code   finding.Code
	detail string
}

func causeOf(f Finding) cause {
	if e, _ := finding.Lookup(f.Code); e.Owner == finding.OwnerRegister {
		return cause{code: f.Code}
	}
	return cause{f.Code, f.Detail}
}

// byCause puts findings about people that have one cause, and so one remedy, into one, at
// the place of the first.
func byCause(list []Finding) []Finding {
	people := map[cause]map[string]bool{}
	for _, f := range list {
		if c := causeOf(f); f.Person != "" {
			if people[c] == nil {
				people[c] = map[string]bool{}
			}
			people[c][f.Person] = true
		}
	}
	out := []Finding{}
	at := map[cause]int{}
	for _, f := range list {
		c := causeOf(f)
		n := len(people[c])
		if f.Person == "" || n < manyPeople {
			out = append(out, f)
			continue
		}
		i, there := at[c]
		if !there {
			i, at[c] = len(out), len(out)
			text := cmp.Or(c.detail, finding.Title(f.Code))
			g := noticed(f.Group, f.Code, "people", "", c.detail,
				"/findings?"+url.Values{"group": {string(f.Group)}, "text": {text}}.Encode())
			g.Subject, g.Count = fmt.Sprintf("%d people", n), 0
			out = append(out, g)
		}
		out[i].People = append(out[i].People, f)
		out[i].Count += f.Count
	}
	for i := range out {
		if places := placesOf(out[i].People); len(places) > 2 {
			out[i].Where = fmt.Sprintf("%d places", len(places))
		} else if len(places) > 0 {
			out[i].Where = strings.Join(places, ", ")
		}
	}
	return out
}

// placesOf gives where findings are, each place once.
func placesOf(list []Finding) (out []string) {
	for _, f := range list {
		for _, place := range strings.Split(f.Where, ", ") {
			if place != "" && !slices.Contains(out, place) {
				out = append(out, place)
			}
		}
	}
	return out
}
