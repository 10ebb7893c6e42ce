package roster

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
)

// Key is one way to recognise a person at the other side.
type Key string

// The keys, strongest first.
const (
	KeyAccount Key = "account" // the account stored for the person
	// the account's external id is the person's identifier, or one of their ids in other systems
	KeyIdentifier Key = "identifier"
	KeyEmail      Key = "email"     // equal addresses, see AddressKey
	KeyUserName   Key = "user-name" // equal user names, ignoring case
)

// Keys lists them all, strongest first.
var Keys = []Key{KeyAccount, KeyIdentifier, KeyEmail, KeyUserName}

// Matching is how people are recognised at one interface. It serves every
// pairing with that interface.
type Matching struct {
	// Keys in the order in which they are tried; the first key that finds an
	// account decides, and two accounts for one key are never chosen between. An
	// account chosen by hand comes before all of them.
	Keys []Key `json:"keys"`
	// Domains that changed: an old address and a new one are one person's.
	Domains []DomainRule `json:"domains"`
	// Exclude leaves people out on purpose; the first rule that fits gives the reason.
	Exclude []Exclusion `json:"exclude"`
}

// DomainRule says that addresses under From are now under To. Somebody is
// recognised by both, and what Kanban writes at the service is the new one; the
// register's own address is never rewritten.
type DomainRule struct {
	From string `json:"from" doc:"The old domain, for example old.school.example"`
	To   string `json:"to" doc:"The new domain"`
	Role Role   `json:"role,omitempty" doc:"Only for people who are this in the section; everybody when absent"`
}

// Exclusion leaves out whoever fulfils all conditions that it names.
type Exclusion struct {
	Name         string `json:"name" doc:"Shown as the reason"`
	Role         Role   `json:"role,omitempty"`
	UserName     string `json:"userName,omitempty" doc:"A pattern: * stands for any letters, ? for one"`
	Email        string `json:"email,omitempty" doc:"A pattern: * stands for any letters, ? for one"`
	Organisation string `json:"organisation,omitempty" doc:"The organisation's name or its id in the register"`
	// Second accounts are register records of a person who is in the section
	// with another record already.
	SecondAccounts bool `json:"secondAccounts,omitempty"`
	// Test learners are artificial: a course platform lists them under the
	// role ext:preview.
	TestLearners bool `json:"testLearners,omitempty"`
}

// DefaultMatching tries every key, strongest first, and leaves out second
// accounts and test learners.
func DefaultMatching() Matching {
	return Matching{
		Keys:    slices.Clone(Keys),
		Domains: []DomainRule{},
		Exclude: []Exclusion{
			{Name: "Second accounts", SecondAccounts: true},
			{Name: "Test learners", TestLearners: true},
		},
	}
}

// FieldError is something wrong with one field of a Matching.
type FieldError struct{ Field, Problem string }

func (e *FieldError) Error() string { return e.Field + " " + e.Problem }

// Check reports everything that is wrong, as joined *FieldErrors.
func (m Matching) Check() error {
	var errs []error
	fail := func(field, format string, args ...any) {
		errs = append(errs, &FieldError{field, fmt.Sprintf(format, args...)})
	}
	if len(m.Keys) == 0 {
		fail("keys", "must name at least one key")
	}
	for i, k := range m.Keys {
		if !slices.Contains(Keys, k) || slices.Contains(m.Keys[:i], k) {
			fail("keys", "has %q, which is unknown or stands twice; the keys are account, identifier, email and user-name", k)
		}
	}
	for i, d := range m.Domains {
		for name, domain := range map[string]string{"from": d.From, "to": d.To} {
			if key, err := AddressKey("x@" + domain); err != nil || key != "x@"+domain {
				fail(fmt.Sprintf("domains[%d].%s", i, name),
					"%q is not a domain in small letters, such as school.example", domain)
			}
		}
		if d.From == d.To {
			fail(fmt.Sprintf("domains[%d]", i), "leads to itself")
		}
		if slices.ContainsFunc(m.Domains[:i], func(o DomainRule) bool {
			return o.From == d.From &&
				o.Role == d.Role
		}) {
			fail(fmt.Sprintf("domains[%d].from", i), "%s has a rule already", d.From)
		}
	}
	for i, x := range m.Exclude {
		field := fmt.Sprintf("exclude[%d]", i)
		if strings.TrimSpace(x.Name) == "" {
			fail(field+".name", "is missing; it is shown as the reason")
		}
		if x == (Exclusion{Name: x.Name}) {
			fail(field, "names no condition and would leave out everybody")
		}
		for name, pattern := range map[string]string{"userName": x.UserName, "email": x.Email} {
			if _, err := path.Match(pattern, ""); err != nil {
				fail(field+"."+name, "%q is no pattern", pattern)
			}
		}
	}
	slices.SortFunc(errs, func(a, b error) int { return strings.Compare(a.Error(), b.Error()) })
	return errors.Join(errs...)
}

// Address gives the address that a person has today: their own, or the same one
// under its new domain.
func (m Matching) Address(email string, role Role) string {
	email = strings.TrimSpace(email)
	at := strings.LastIndexByte(email, '@')
	if at < 0 || len(m.Domains) == 0 {
		return email
	}
	for _, d := range m.Domains {
		if strings.EqualFold(email[at+1:], d.From) && (d.Role == "" || d.Role == role) {
			return email[:at+1] + d.To
		}
	}
	return email
}

// Excludes gives the first rule that leaves a person out; second tells whether
// they are in the section with another record.
func (m Matching) Excludes(who Member, second bool) (rule Exclusion, ok bool) {
	for _, x := range m.Exclude {
		if x.fits(who, second) {
			return x, true
		}
	}
	return Exclusion{}, false
}

func (x Exclusion) fits(who Member, second bool) bool {
	switch {
	case x == (Exclusion{Name: x.Name}),
		x.Role != "" && x.Role != who.Role,
		x.SecondAccounts && !second,
		x.TestLearners && who.Role != TestLearner,
		x.Organisation != "" && !strings.EqualFold(x.Organisation, who.OrgName) && x.Organisation != who.Org:
		return false
	}
	return like(x.UserName, who.UserName) && like(x.Email, who.Email)
}

// like reports whether a text fits a pattern, ignoring case; no pattern fits all.
func like(pattern, text string) bool {
	if pattern == "" {
		return true
	}
	ok, err := path.Match(strings.ToLower(pattern), strings.ToLower(strings.TrimSpace(text)))
	return ok && err == nil
}
