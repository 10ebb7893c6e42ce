// Package school is the fictional Fernmoor Garden School: the people, courses
// and sections that the stand-ins for the register and the course platform
// share. It is made anew at each start and changed through the office's page.
package school

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// Person is somebody in the register.
type Person struct {
	ID         string `json:"id"`
	GivenName  string `json:"givenName"`
	FamilyName string `json:"familyName"`
	Email      string `json:"email"`
	UserName   string `json:"userName"`
	Role       string `json:"role"` // student or teacher
	Master     string `json:"master,omitempty"`
	Secondary  bool   `json:"secondary,omitempty"`
	Disabled   bool   `json:"disabled,omitempty"`
	Modified   time.Time
}

// Name of the person.
func (p Person) Name() string { return p.GivenName + " " + p.FamilyName }

// Course of the school.
type Course struct {
	ID, Title, Code string
}

// Section of a course.
type Section struct {
	ID, Title, Code, CourseID, TermID string
	Homeroom                          bool
	Levels, Subjects                  []string
}

// Term of the school year.
type Term struct {
	ID, Title  string
	Start, End time.Time
}

// Enrolment of a person in a section.
type Enrolment struct {
	ID, SectionID, PersonID, Role string
	Begin                         time.Time
	Ended                         bool
	Modified                      time.Time
}

// School holds everything. Its methods are safe for concurrent use.
type School struct {
	Name    string
	Terms   []Term
	Courses []Course

	mu         sync.Mutex
	sections   []Section
	people     []Person
	enrolments []Enrolment
	now        func() time.Time
}

// People returns a copy of the register's people.
func (s *School) People() []Person {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.people)
}

// Sections returns a copy of the sections.
func (s *School) Sections() []Section {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.sections)
}

// Enrolments returns a copy of the enrolments, ended ones included.
func (s *School) Enrolments() []Enrolment {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.enrolments)
}

// SetEmail changes a person's address.
func (s *School) SetEmail(id, email string) error {
	return s.change(id, func(p *Person) { p.Email = email })
}

// SetName changes a person's name.
func (s *School) SetName(id, given, family string) error {
	return s.change(id, func(p *Person) { p.GivenName, p.FamilyName = given, family })
}

func (s *School) change(id string, change func(*Person)) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.people {
		if s.people[i].ID == id {
			change(&s.people[i])
			s.people[i].Modified = s.now()
			return nil
		}
	}
	return fmt.Errorf("the register has no person %q", id)
}

// Enrol puts a person into a section; being in it already is no error.
func (s *School) Enrol(personID, sectionID string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := slices.IndexFunc(s.people, func(p Person) bool { return p.ID == personID })
	if p < 0 {
		return fmt.Errorf("the register has no person %q", personID)
	}
	if !slices.ContainsFunc(s.sections, func(x Section) bool { return x.ID == sectionID }) {
		return fmt.Errorf("the register has no section %q", sectionID)
	}
	for _, e := range s.enrolments {
		if e.PersonID == personID && e.SectionID == sectionID && !e.Ended {
			return nil
		}
	}
	s.enrol(sectionID, personID, s.people[p].Role)
	return nil
}

// Admit puts somebody new into the register, as a learner, and gives their identifier;
// whoever has the address already is that person.
func (s *School) Admit(given, family, email string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.people {
		if strings.EqualFold(p.Email, email) {
			return p.ID
		}
	}
	id := fmt.Sprintf("stu-%03d", 100+len(s.people))
	s.people = append(s.people, Person{
		ID: id, GivenName: given, FamilyName: family, Email: email,
		UserName: strings.ToLower(given[:1] + family), Role: "student", Modified: s.now(),
	})
	return id
}

// Withdraw ends a person's enrolment in a section.
func (s *School) Withdraw(personID, sectionID string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, e := range s.enrolments {
		if e.PersonID == personID && e.SectionID == sectionID && !e.Ended {
			s.enrolments[i].Ended, s.enrolments[i].Modified = true, s.now()
			return nil
		}
	}
	return fmt.Errorf("person %q is not in section %q", personID, sectionID)
}

// Drop takes a section out of the register, with everybody's enrolment in it.
func (s *School) Drop(sectionID string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sections = slices.DeleteFunc(s.sections, func(x Section) bool { return x.ID == sectionID })
	s.enrolments = slices.DeleteFunc(s.enrolments, func(e Enrolment) bool { return e.SectionID == sectionID })
}

func (s *School) enrol(sectionID, personID, role string) {
	s.enrolments = append(s.enrolments, Enrolment{
		ID: fmt.Sprintf("enr-%04d", len(s.enrolments)+1), SectionID: sectionID, PersonID: personID,
		Role: role, Begin: s.now(), Modified: s.now(),
	})
}
