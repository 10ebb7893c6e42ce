// Package similarity ranks the classes of a service by how likely each is the
// counterpart of a section, and says on what evidence.
//
//	for _, c := range similarity.Rank(section, spaces) {
//		fmt.Println(c.Space.Name, c.Score, c.Shared)
//	}
package similarity

import (
	"cmp"
	"slices"
	"strings"
	"unicode"
)

// Section is what a class is compared with.
type Section struct {
	Names    []string // title, code, course: whatever a class could be called after
	Terms    []string
	Accounts []string // at the service, of the section's people
	Teachers []string // of those, its teachers'
}

// Space is a class at the service.
type Space struct {
	Ref     string
	Name    string
	Members []string // accounts
}

// Candidate is a class with the evidence for it.
type Candidate struct {
	Space
	Score    int     // 0 to 100
	Name     float64 // how alike the names are, 0 to 1
	Shared   int     // members who are in the section
	Missing  int     // people of the section with an account who are no members
	Others   int     // members who are not in the section
	Teachers int     // members who teach the section
	Term     bool    // its name says the section's term
}

// Poor reports whether a class with members has little in common with the section.
func (c Candidate) Poor() bool { return c.Shared+c.Others > 0 && c.Shared < c.Others }

// weights of the evidence; they add up to 100.
const (
	byPeople   = 55
	byName     = 25
	byTeachers = 15
	byTerm     = 5
)

// Rank gives one candidate per class, the likeliest first; equals by name.
func Rank(s Section, spaces []Space) []Candidate {
	in, teaches := set(s.Accounts), set(s.Teachers)
	list := make([]Candidate, len(spaces))
	for i, space := range spaces {
		c := Candidate{Space: space}
		members := set(space.Members)
		for m := range members {
			if in[m] {
				c.Shared++
			} else {
				c.Others++
			}
			if teaches[m] {
				c.Teachers++
			}
		}
		c.Missing = len(in) - c.Shared
		for _, n := range s.Names {
			c.Name = max(c.Name, Alike(n, space.Name))
		}
		c.Term = slices.ContainsFunc(s.Terms, func(t string) bool {
			return t != "" && strings.Contains(strings.ToLower(space.Name), strings.ToLower(t))
		})
		score := byName * c.Name
		if union := c.Shared + c.Others + c.Missing; union > 0 {
			score += byPeople * float64(c.Shared) / float64(union)
		}
		if len(teaches) > 0 {
			score += byTeachers * float64(c.Teachers) / float64(len(teaches))
		}
		if c.Term {
			score += byTerm
		}
		c.Score = int(score + 0.5)
		list[i] = c
	}
	slices.SortFunc(list, func(a, b Candidate) int {
		return cmp.Or(cmp.Compare(b.Score, a.Score), cmp.Compare(a.Space.Name, b.Space.Name),
			cmp.Compare(a.Ref, b.Ref))
	})
	return list
}

func set(list []string) map[string]bool {
	m := make(map[string]bool, len(list))
	for _, x := range list {
		m[x] = true
	}
	return m
}

// Alike says how alike two names are, 0 to 1: the share of their pairs of
// neighbouring letters that they have in common (the Dice coefficient), whatever
// the case and the signs between words.
func Alike(a, b string) float64 {
	x, y := pairs(a), pairs(b)
	if len(x)+len(y) == 0 {
		return 0
	}
	count := map[string]int{}
	for _, p := range x {
		count[p]++
	}
	common := 0
	for _, p := range y {
		if count[p] > 0 {
			count[p]--
			common++
		}
	}
	return 2 * float64(common) / float64(len(x)+len(y))
}

// pairs lists the neighbouring letters within and at the edges of words.
func pairs(text string) (list []string) {
	words := strings.FieldsFunc(strings.ToLower(text),
		func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
	for _, w := range words {
		letters := []rune(" " + w + " ")
		for i := range len(letters) - 1 {
			list = append(list, string(letters[i:i+2]))
		}
	}
	return list
}
