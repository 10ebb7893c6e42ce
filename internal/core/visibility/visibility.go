// Package visibility leaves sections out of lists by rules, so that the lists stay
// short: sections of other terms, hours that are no teaching, empty ones. Only
// sections that are not paired are ever hidden.
//
//	name, ok := visibility.Rules{{Name: "Advisory", ClassType: "homeroom"}}.Of(section, true)
package visibility

import (
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"kanban/internal/core/roster"
)

// SectionRule hides whatever fulfils all conditions that it names.
type SectionRule struct {
	Name       string `json:"name" doc:"Shown beside the number of sections that it hides"`
	CourseCode string `json:"courseCode,omitempty" doc:"A pattern: * stands for any letters, ? for one"`
	Title      string `json:"title,omitempty" doc:"A pattern on the section's title"`
	ClassType  string `json:"classType,omitempty" doc:"As the register gives it, such as homeroom"`
	Empty      bool   `json:"empty,omitempty" doc:"Sections without learners"`
	OtherTerms bool   `json:"otherTerms,omitempty" doc:"Sections whose terms do not run today, as long as any section's does"`
}

// Rules are tried in order; the first that fits counts.
type Rules []SectionRule

// Default hides the sections of other terms.
func Default() Rules { return Rules{{Name: "Other terms", OtherTerms: true}} }

// Section is what rules look at.
type Section struct {
	Title      string
	CourseCode string
	ClassType  string
	Learners   int
	Begins     *time.Time // first day of its terms
	Ends       *time.Time // last day of its terms
	Paired     bool
}

// Runs reports whether a section's terms run on the day of a moment. One without
// dates always does.
func (s Section) Runs(at time.Time) bool {
	return (s.Begins == nil || !at.Before(*s.Begins)) && !roster.Over(s.Ends, at)
}

// Of gives the name of the rule that hides a section at a moment. some
// tells whether any section runs then: between two terms nothing is hidden for
// being of another one.
func (r Rules) Of(s Section, at time.Time, some bool) (name string, ok bool) {
	if s.Paired {
		return "", false
	}
	for _, x := range r {
		if x.fits(s, at, some) {
			return x.Name, true
		}
	}
	return "", false
}

func (x SectionRule) fits(s Section, at time.Time, some bool) bool {
	switch {
	case x == (SectionRule{Name: x.Name}),
		x.ClassType != "" && !strings.EqualFold(x.ClassType, s.ClassType),
		x.Empty && s.Learners > 0,
		x.OtherTerms && (!some || s.Runs(at)):
		return false
	}
	return like(x.CourseCode, s.CourseCode) && like(x.Title, s.Title)
}

// like reports whether a text fits a pattern, ignoring case; no pattern fits all.
func like(pattern, text string) bool {
	ok, err := path.Match(strings.ToLower(pattern), strings.ToLower(text))
	return pattern == "" || ok && err == nil
}

// Check reports everything that is wrong.
func (r Rules) Check() error {
	var errs []error
	names := map[string]bool{}
	for i, x := range r {
		switch {
		case strings.TrimSpace(x.Name) == "" || names[x.Name]:
			errs = append(errs, fmt.Errorf("rule %d needs a name of its own", i+1))
		case x == (SectionRule{Name: x.Name}):
			errs = append(errs, fmt.Errorf("rule %q names no condition and would hide everything", x.Name))
		}
		names[x.Name] = true
		for _, pattern := range []string{x.CourseCode, x.Title} {
			if _, err := path.Match(pattern, ""); err != nil {
				errs = append(errs, fmt.Errorf("rule %q: %q is no pattern", x.Name, pattern))
			}
		}
	}
	return errors.Join(errs...)
}
