// Package roster compares the people of a section with the members of its
// target and says, for every single person, what is to happen and why.
//
//	plan := roster.Compare(source, target, roster.DefaultPolicy(), roster.DefaultMatching())
//	for _, e := range plan.Entries {
//		fmt.Println(e.Name, e.Outcome, e.Reason)
//	}
//
// The package computes only: it reads no clock, no database and no network, and
// the order of its inputs does not matter.
package roster

import (
	"bytes"
	"strings"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/schedule"
)

// Role is a person's role in a section, in OneRoster's spelling (1.4
// "enrollment role"): student, teacher, administrator, proctor or ext:<token>.
type Role string

// Roles that the comparison itself knows.
const (
	Student Role = "student"
	Teacher Role = "teacher"
	// TestLearner is the extension role under which a course platform lists the
	// artificial learner that teachers use to look at a course.
	TestLearner Role = "ext:preview"
)

// Member is one person enrolled in the section.
type Member struct {
	PersonID   string
	Role       Role
	GivenName  string
	FamilyName string
	Email      string // as the register gives it; compared by AddressKey
	UserName   string
	Identifier string // the institution's own identifier
	Enabled    bool
	// UserIDs are the person's identifiers in other systems (OneRoster userIds).
	UserIDs []string
	// Org is the sourced id of the person's organisation, OrgName its name.
	Org, OrgName string
	// Account is the id of the account stored for this person at the service,
	// empty when none is known. Chosen says that somebody chose it by hand.
	Account string
	Chosen  bool
	// SwitchedOff says that Kanban itself switched that account off, so that it
	// may switch it on again when the person comes back.
	SwitchedOff bool
	// NotAccounts are accounts of which somebody said that they are not this
	// person's.
	NotAccounts []string
	// SecondOf is the PersonID whose second account this record is, or empty.
	SecondOf string
	// Group is the section of a linked set in which this enrolment is: the target
	// has a group for each. Empty when the pairing is about one section.
	Group string
	// SharesAddressWith names another person of the institution, enrolled here
	// or not, who has the same address; empty when nobody does.
	SharesAddressWith string
	// Begins is the first day of an enrolment that has not begun; nil when it has.
	Begins *time.Time
}

// Name is how the person is shown.
func (m Member) Name() string {
	switch {
	case m.GivenName == "":
		return m.FamilyName
	case m.FamilyName == "":
		return m.GivenName
	}
	return m.GivenName + " " + m.FamilyName
}

// Account is one person's record at the service.
type Account struct {
	ID         string
	UserName   string
	Email      string
	Emails     []string // all addresses, Email among them
	ExternalID string   // the register's identifier, when Kanban wrote one
	GivenName  string
	FamilyName string
	Active     bool
	InTarget   bool // is a member of the pairing's target
	// Groups of the target in which the account is, by section.
	Groups []string
}

// Placement records that Kanban itself put a person into the target. Only
// placed people are ever taken out again (unless the policy owns the target).
type Placement struct {
	PersonID  string
	AccountID string
	Name      string
	// Elsewhere says that another pairing of the same service has put them into
	// its target too.
	Elsewhere bool
}

// Source is the section's side of a pairing.
type Source struct {
	Members []Member
	Placed  []Placement
	// TakesOver says that Kanban minds the places of those members of the section, from
	// this run on, who were in the target already.
	TakesOver bool
	// Grouped are the groups into which Kanban itself put accounts. Only out of
	// these are they ever taken again (unless the policy owns the target).
	Grouped []Grouping
	// Others are members of the target, by account, whom the register has in other sections
	// of the course.
	Others map[string]Other
}

// Strangers lists the members of a target that are no account known of the source's people,
// and that nobody was placed with.
func (s Source) Strangers(t Target) (accounts []string) {
	known := make(map[string]bool, len(s.Members)+len(s.Placed))
	for i := range s.Members {
		known[s.Members[i].Account] = true
	}
	for _, p := range s.Placed {
		known[p.AccountID] = true
	}
	for i := range t.Accounts {
		if a := &t.Accounts[i]; a.InTarget && !known[a.ID] {
			accounts = append(accounts, a.ID)
		}
	}
	return accounts
}

// Other is somebody of other sections of the course.
type Other struct {
	PersonID string
	Name     string
	Sections []string // titles
}

// Grouping is one account in one group of the target.
type Grouping struct {
	AccountID string
	Group     string
}

// Lookups gives everything by which accounts of these people could be found at a
// service: what a service can be asked for, and ids of accounts already known.
func (s Source) Lookups(m Matching) (wanted []Wanted, accounts []string) {
	for _, p := range s.Members {
		today := m.Address(p.Email, p.Role)
		wanted = append(wanted, Wanted{
			Identifier: p.Identifier, Email: today,
			UserName: strings.TrimSpace(p.UserName),
		})
		for _, older := range []string{strings.TrimSpace(p.Email), key(today), key(p.Email)} {
			if older != "" && !strings.EqualFold(older, today) {
				wanted = append(wanted, Wanted{Email: older})
			}
		}
		for _, id := range p.UserIDs {
			wanted = append(wanted, Wanted{Identifier: id})
		}
		if p.Account != "" {
			accounts = append(accounts, p.Account)
		}
	}
	return wanted, accounts
}

func key(email string) string {
	k, _ := AddressKey(email)
	return k
}

// Target is the service's side: every account that could match, members or not.
type Target struct {
	Accounts []Account
}

// Leavers says what happens to people who left the section.
type Leavers string

// The choices for leavers.
const (
	LeaversRemove     Leavers = "remove"     // out of the target; the account stays
	LeaversDeactivate Leavers = "deactivate" // out of the target and the account is switched off
	LeaversKeep       Leavers = "keep"       // left where they are
)

// Policy is what a pairing wants.
type Policy struct {
	// Roles that are carried over. Everyone else is left out on purpose.
	Roles []Role `json:"roles"`
	// Leavers: remove (default), deactivate or keep.
	Leavers Leavers `json:"leavers"`
	// Hold keeps learners back until the class is opened; teachers go in at once.
	Hold bool `json:"hold"`
	// OwnTarget also takes out members whom Kanban did not put in.
	OwnTarget bool `json:"ownTarget"`
	// Notify asks the service to tell newcomers about it. Services that cannot
	// be told to keep quiet are not asked either way.
	Notify bool `json:"notify"`
	// RemovalNumber and RemovalShare guard removals: a run that would take out
	// more people than the number, or more than the share (0 to 1) of the
	// target, stops for a person. One single removal never trips the share.
	RemovalNumber int     `json:"removalNumber"`
	RemovalShare  float64 `json:"removalShare"`
	// Schedule says when the pairing runs by itself; the first run is by hand.
	Schedule schedule.Schedule `json:"schedule,omitzero"`
}

// DefaultPolicy carries students and teachers, removes leavers, and stops for a
// person above 10 removals or a fifth of the target.
func DefaultPolicy() Policy {
	return Policy{
		Roles:         []Role{Student, Teacher},
		Leavers:       LeaversRemove,
		RemovalNumber: 10,
		RemovalShare:  0.2,
	}
}

// Outcome is where a person ends; everyone ends in exactly one.
type Outcome string

// The outcomes.
const (
	OutcomeInStep      Outcome = "in-step"
	OutcomeAdd         Outcome = "to-add"
	OutcomeUpdate      Outcome = "to-update"
	OutcomeRemove      Outcome = "to-remove"
	OutcomeWaiting     Outcome = "waiting"
	OutcomeLeftOut     Outcome = "left-out"
	OutcomeNeedsPerson Outcome = "needs-person"
)

// Outcomes in the order in which they are shown, the ones that need somebody first.
var Outcomes = []Outcome{
	OutcomeNeedsPerson, OutcomeAdd, OutcomeUpdate, OutcomeRemove, OutcomeWaiting, OutcomeInStep,
	OutcomeLeftOut,
}

// LeftForLater is the result of people about whom a run was not to do anything yet.
const LeftForLater = "left-for-later"

// Results are what can have become of people in a run, as its counts name it, what it did
// first.
var Results = []string{
	"added", "updated", "removed", "refused", "not-arrived", LeftForLater,
	string(OutcomeNeedsPerson), string(OutcomeWaiting), string(OutcomeLeftOut), string(OutcomeInStep),
}

// Changes reports whether the outcome makes a run do something.
func (o Outcome) Changes() bool {
	return o == OutcomeAdd || o == OutcomeUpdate || o == OutcomeRemove
}

// Entry is the decision about one person, or about one member of the target
// whom nobody in the register matches (then PersonID is empty).
type Entry struct {
	PersonID  string       `json:"personId"`
	AccountID string       `json:"accountId"`
	Name      string       `json:"name"`
	Role      Role         `json:"role"`
	Outcome   Outcome      `json:"outcome"`
	Reason    finding.Code `json:"reason"`
	// Detail completes the reason for this person, e.g. who shares the address.
	Detail string `json:"detail"`
	// Want is what the account should say after the change, set for additions
	// and updates.
	Want Wanted `json:"want,omitzero"`
	// Was is what the account said before, set for updates and removals, so that
	// they can be reverted.
	Was Wanted `json:"was,omitzero"`
	// Deactivate also switches the account off; set for removals only.
	Deactivate bool `json:"deactivate,omitempty"`
	// Activate also switches the account on; set for additions of people whose
	// account Kanban had switched off.
	Activate bool `json:"activate,omitempty"`
	// Join and Quit are groups of the target into which and out of which the
	// account goes with the change, by section, ordered.
	Join []string `json:"join,omitempty"`
	Quit []string `json:"quit,omitempty"`
	// TakeOver says that Kanban minds this person's place in the target from the run on,
	// though somebody else has put them in.
	TakeOver bool `json:"takeOver,omitempty"`
	// Refused is why the service refused the same change last time: the person needs
	// somebody, and only a run by hand tries it again. It is told, and is no part of what a
	// run has to keep.
	Refused finding.Code `json:"refused,omitempty"`
}

// Same reports whether two entries decide and say the same.
func (e Entry) Same(o Entry) bool { return bytes.Equal(e.append(nil), o.append(nil)) }

// Wanted is what Kanban keeps at the service about a person.
type Wanted struct {
	GivenName  string `json:"givenName"`
	FamilyName string `json:"familyName"`
	Email      string `json:"email"`
	UserName   string `json:"userName"`
	Identifier string `json:"identifier"`
}

// Key identifies the entry inside its plan.
func (e Entry) Key() string {
	if e.PersonID != "" {
		return e.PersonID
	}
	return "account:" + e.AccountID
}
