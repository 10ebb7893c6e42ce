// Package linking says which sections can be handled as one, and why others
// cannot. Sections of one course and one term fit together; for any other an
// administrator may say why they are linked all the same.
//
//	for _, o := range linking.Obstacles(lead, section) {
//		fmt.Println(o.Code, o.Detail)
//	}
//
// It computes only: time comes in.
package linking

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
)

// Section is what linking looks at.
type Section struct {
	ID           string
	Title        string
	Code         string
	Register     string // the register it comes from
	CourseID     string
	Course       string
	TermIDs      []string // ordered
	Terms        []string // in words
	School       string   // its organisation
	Teachers     []string // persons
	TeacherNames []string
	Learners     int
	Ends         *time.Time // last day of its terms
	Gone         bool       // no longer in the register
	Set          string     // name of the set in which it is linked already
	// Targets are the services at which it is paired, on its own.
	Targets []string
}

// Ended reports whether the section's last day has passed.
func (s Section) Ended(at time.Time) bool {
	return roster.Over(s.Ends, at)
}

// Obstacle is a reason why a section cannot be linked under a lead.
type Obstacle struct {
	Code   finding.Code
	Detail string
	// Overridable says that an administrator may link it all the same, with a reason.
	Overridable bool
}

// Obstacles lists why x cannot be linked under lead at a moment; none when it can.
// What cannot be overridden comes first.
func Obstacles(lead, x Section, at time.Time) []Obstacle {
	var list []Obstacle
	add := func(code finding.Code, overridable bool, format string, args ...any) {
		list = append(list, Obstacle{code, fmt.Sprintf(format, args...), overridable})
	}
	switch {
	case x.ID == lead.ID:
		add(finding.LinkTwice, false, "it is the lead itself")
	case x.Set != "":
		add(finding.LinkTwice, false, "it is linked in %s already; unlink that first", x.Set)
	}
	if x.Gone {
		add(finding.SectionGone, false, "it is no longer in the register")
	}
	if len(x.Targets) > 0 {
		add(finding.AlreadyPaired, false,
			"it is paired on its own at %s; end that pairing first, or make it the lead",
			strings.Join(x.Targets, ", "))
	}
	if x.Register != lead.Register {
		add(finding.OtherCourse, false, "it comes from another register")
		return list
	}
	if x.CourseID != lead.CourseID {
		add(finding.OtherCourse, true, "it is of %s, not of %s", x.Course, lead.Course)
	}
	if !slices.Equal(x.TermIDs, lead.TermIDs) {
		add(finding.OtherTerm, true, "it is in %s, not in %s", named(x.Terms), named(lead.Terms))
	}
	if x.Ended(at) {
		add(finding.SectionEnded, true, "it ended on %s", x.Ends.Format("2 January 2006"))
	}
	return list
}

func named(terms []string) string {
	if len(terms) == 0 {
		return "no term"
	}
	return strings.Join(terms, ", ")
}

// Refusal says why several sections cannot be linked.
type Refusal struct {
	Section Section
	Obstacle
}

// Check lists what keeps sections from being linked under a lead. With a reason
// whatever can be overridden is. A section that is named twice is refused once.
func Check(lead Section, others []Section, reason string, at time.Time) []Refusal {
	var list []Refusal
	if lead.Set != "" {
		list = append(list, Refusal{lead, Obstacle{
			finding.LinkTwice,
			fmt.Sprintf("it is linked in %s already; unlink that first", lead.Set), false,
		}})
	}
	if lead.Gone {
		list = append(list, Refusal{lead, Obstacle{finding.SectionGone, "it is no longer in the register", false}})
	}
	seen := map[string]bool{}
	for _, x := range others {
		if seen[x.ID] {
			list = append(list, Refusal{x, Obstacle{finding.LinkTwice, "it is named twice", false}})
			continue
		}
		seen[x.ID] = true
		for _, o := range Obstacles(lead, x, at) {
			if !o.Overridable || strings.TrimSpace(reason) == "" {
				list = append(list, Refusal{x, o})
			}
		}
	}
	return list
}

// Proposal is sections that could be linked, the lead first.
type Proposal struct {
	Name     string
	Sections []Section
	// SharedTeachers are those who teach several of its sections, where nobody teaches all of
	// them. They are none where somebody teaches all, or nobody has to.
	SharedTeachers []SharedTeacher
}

// SharedTeacher is a teacher of several sections of a proposal.
type SharedTeacher struct {
	Teacher  string // person
	Sections []Section
}

// sharedTeachers finds who teaches several of sections that no one person teaches all of.
func sharedTeachers(sections []Section) (list []SharedTeacher) {
	var order []string
	taught := map[string][]Section{}
	for _, x := range sections {
		for _, t := range x.Teachers {
			if taught[t] == nil {
				order = append(order, t)
			}
			taught[t] = append(taught[t], x)
		}
	}
	for _, t := range order {
		switch n := len(taught[t]); {
		case n == len(sections):
			return nil
		case n > 1:
			list = append(list, SharedTeacher{t, taught[t]})
		}
	}
	return list
}

// Propose finds sections that could be linked: of one course and the same terms,
// running or to come, not linked yet. With sameTeacher they also share a teacher,
// directly or through another section of the proposal. A section that is paired
// leads; of several paired ones only the first is proposed. The proposals are
// ordered by name, and no section is in two.
func Propose(sections []Section, sameTeacher bool, at time.Time) []Proposal {
	sorted := slices.Clone(sections)
	slices.SortFunc(sorted, func(a, b Section) int {
		return cmp.Or(cmp.Compare(len(b.Targets), len(a.Targets)), cmp.Compare(a.Code, b.Code),
			cmp.Compare(a.ID, b.ID))
	})
	sorted = slices.CompactFunc(sorted, func(a, b Section) bool { return a.ID == b.ID })
	taken := make([]bool, len(sorted))
	alike := map[string][]int{}
	for i, x := range sorted {
		if x.Set != "" || x.Gone || x.Ended(at) || sameTeacher && len(x.Teachers) == 0 {
			continue
		}
		key := x.Register + " " + x.CourseID + " " + strings.Join(x.TermIDs, " ")
		alike[key] = append(alike[key], i)
	}
	var list []Proposal
	for i, lead := range sorted {
		group := alike[lead.Register+" "+lead.CourseID+" "+strings.Join(lead.TermIDs, " ")]
		if taken[i] || !slices.Contains(group, i) {
			continue
		}
		p := Proposal{Name: lead.Course, Sections: []Section{lead}}
		taken[i] = true
		teachers := slices.Clone(lead.Teachers)
		for grown := true; grown; { // until nobody shares a teacher with one who is in
			grown = false
			for _, n := range group {
				x := sorted[n]
				if taken[n] || len(x.Targets) > 0 || sameTeacher &&
					!slices.ContainsFunc(x.Teachers, func(t string) bool { return slices.Contains(teachers, t) }) {
					continue
				}
				p.Sections, teachers = append(p.Sections, x), append(teachers, x.Teachers...)
				taken[n], grown = true, true
			}
		}
		if len(p.Sections) > 1 {
			if sameTeacher {
				p.SharedTeachers = sharedTeachers(p.Sections)
			}
			list = append(list, p)
		}
	}
	slices.SortStableFunc(list, func(a, b Proposal) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Sections[0].Code, b.Sections[0].Code))
	})
	return list
}
