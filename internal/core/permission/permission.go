// Package permission says what each role may do, and where. There is one table, and nothing else decides it.
//
//	if !permission.May(grants, permission.Sync) {
//		return refusal
//	}
//	where, all := permission.Where(grants, permission.Sync)
package permission

import (
	"maps"
	"slices"
)

// Role is what somebody may be.
type Role string

// The roles.
const (
	Administrator Role = "administrator" // everything
	Operator      Role = "operator"      // rosters, pairings, scores, rules, badges; no credentials, nobody's role
	Support       Role = "support"       // sees all, acknowledges findings, finishes tasks
	Reader        Role = "reader"        // sees reports
	Awarder       Role = "awarder"       // awards badges to people of their sections
	Teacher       Role = "teacher"       // minds the sections they teach; comes from the register
	Learner       Role = "learner"       // sees their own page; comes from the register
)

// Roles are all of them.
var Roles = []Role{Administrator, Operator, Support, Reader, Awarder, Teacher, Learner}

// Known reports whether there is such a role.
func (r Role) Known() bool { return slices.Contains(Roles, r) }

// FromRegister reports whether people have the role by what the register says of them; nobody gives it.
func (r Role) FromRegister() bool { return r == Teacher || r == Learner }

// ScopeKind is a kind of part of an institution.
type ScopeKind string

// The kinds of scopes.
const (
	Institution  ScopeKind = "institution"  // all of it
	Organisation ScopeKind = "organisation" // one, with all below it
	Course       ScopeKind = "course"       // its sections
	Section      ScopeKind = "section"
	Taught       ScopeKind = "taught" // the sections that a person teaches now, by the register
	Self         ScopeKind = "self"   // nobody but themselves
)

// Scope is where a grant holds: the institution, or the sections of a part of it.
type Scope struct {
	Kind ScopeKind
	ID   string // of the organisation, course, section or person; empty for the institution
}

// Grant is a role that somebody has in a scope.
type Grant struct {
	Role  Role
	Scope Scope
	// Issuer limits what is awarded to the badges of one; empty for all of them. It limits nothing else.
	Issuer string
}

// Everywhere is a role in the whole institution.
func Everywhere(r Role) []Grant { return []Grant{{Role: r, Scope: Scope{Kind: Institution}}} }

// Act is something that can be done; every operation of the API is one of them.
type Act string

// The acts.
const (
	Anyone      Act = "anyone"      // needs nobody signed in
	Own         Act = "own"         // about whoever does it: their session, password, tokens, own page
	Look        Act = "look"        // at everything that is there, people's names and what became of them included
	Report      Act = "report"      // see reports
	Acknowledge Act = "acknowledge" // findings
	FinishTasks Act = "finish-tasks"
	Sync        Act = "sync"      // preview, run, hold and open classes; link and unlink sections
	Rosters     Act = "rosters"   // read registers, pair, change what pairings do, batches
	Recognise   Act = "recognise" // say whose account it is, and who is one person
	CarryScores Act = "carry-scores"
	Learning    Act = "learning" // outlines, stage plans, approvals of stages
	Rules       Act = "rules"    // rules, deliveries, offers and access, test recipients, proofs
	Badges      Act = "badges"   // issuers and badges
	Award       Act = "award"    // award, revoke, suspend and restore badges
	SendReports Act = "send-reports"
	ViewAs      Act = "view-as"  // look as a teacher or a learner does
	Connect     Act = "connect"  // connections, their values and credentials, keys of issuers, the set-up from files
	Settings    Act = "settings" // of the institution
	Users       Act = "users"    // who may sign in, and with which role
)

// Acts are all of them.
var Acts = []Act{
	Anyone, Own, Look, Report, Acknowledge, FinishTasks, Sync, Rosters, Recognise, CarryScores, Learning, Rules,
	Badges, Award, SendReports, ViewAs, Connect, Settings, Users,
}

// allowed is the table. Administrators may do everything, and whoever is signed in what is their own.
var allowed = map[Role][]Act{
	Operator: {
		Look, Report, Acknowledge, FinishTasks, Sync, Rosters, Recognise, CarryScores, Learning, Rules, Badges, Award,
		SendReports, ViewAs,
	},
	Support: {Look, Report, Acknowledge, FinishTasks, ViewAs},
	Reader:  {Report},
	Awarder: {Look, Award},
	Teacher: {Look, FinishTasks, Sync, CarryScores},
	Learner: {},
}

// inPart are the acts that can be done in a part of the institution. All others are for the whole of it: what they
// change holds for everybody.
var inPart = []Act{Look, Acknowledge, FinishTasks, Sync, Rosters, CarryScores, Award}

// holds are the kinds of scopes in which a role can be had.
var holds = map[Role][]ScopeKind{
	Administrator: {Institution},
	Operator:      {Institution, Organisation, Course, Section},
	Support:       {Institution, Organisation, Course, Section},
	Reader:        {Institution},
	Awarder:       {Institution, Organisation, Course, Section},
	Teacher:       {Taught},
	Learner:       {Self},
}

// Holds reports whether a role can be had in scopes of a kind.
func Holds(r Role, k ScopeKind) bool { return slices.Contains(holds[r], k) }

// ScopesOf are the kinds of scopes in which a role can be had, the widest first.
func ScopesOf(r Role) []ScopeKind { return holds[r] }

// Allows reports whether a grant allows an act somewhere.
func (g Grant) Allows(a Act) bool {
	if a != Own && g.Scope.Kind != Institution && !slices.Contains(inPart, a) {
		return false
	}
	return a == Own && g.Role.Known() || g.Role == Administrator && g.Scope.Kind == Institution ||
		slices.Contains(allowed[g.Role], a)
}

// May reports whether grants allow an act somewhere. An act that is not known is done by nobody.
func May(grants []Grant, a Act) bool {
	switch {
	case !slices.Contains(Acts, a):
		return false
	case a == Anyone:
		return true
	}
	return slices.ContainsFunc(grants, func(g Grant) bool { return g.Allows(a) })
}

// Where gives the scopes in which grants allow an act; all is true where that is the whole institution.
func Where(grants []Grant, a Act) (scopes []Scope, all bool) {
	if !slices.Contains(Acts, a) {
		return nil, false
	}
	for _, g := range grants {
		switch {
		case !g.Allows(a):
		case g.Scope.Kind == Institution:
			return nil, true
		default:
			scopes = append(scopes, g.Scope)
		}
	}
	return scopes, false
}

// Rights are what somebody may do: what they were granted, held to what the token by which they are known may.
type Rights struct {
	Grants []Grant
	Limit  []Grant // nil where nothing limits them
}

// May reports whether the rights allow an act somewhere.
func (r Rights) May(a Act) bool { return May(r.Grants, a) && (r.Limit == nil || May(r.Limit, a)) }

// Everywhere reports whether the rights allow an act in the whole institution.
func (r Rights) Everywhere(a Act) bool {
	_, all := Where(r.Grants, a)
	if all && r.Limit != nil {
		_, all = Where(r.Limit, a)
	}
	return all
}

// ForIssuer leaves of the rights those by which badges of an issuer are awarded.
func (r Rights) ForIssuer(issuer string) Rights {
	r.Grants = slices.DeleteFunc(slices.Clone(r.Grants), func(g Grant) bool {
		return g.Issuer != "" && g.Issuer != issuer
	})
	return r
}

// MayGive reports whether somebody may give a grant: at most what they may do themselves, in the whole institution.
func (r Rights) MayGive(given Grant) bool {
	return !given.Role.FromRegister() && Holds(given.Role, given.Scope.Kind) &&
		allOf(Everywhere(given.Role)[0], r.Everywhere)
}

// MayLimit reports whether a token of somebody's may be limited to a grant: what it allows they may do somewhere.
func (r Rights) MayLimit(most Grant) bool {
	return !most.Role.FromRegister() && Holds(most.Role, most.Scope.Kind) && allOf(most, r.May)
}

// allOf reports whether every act that a grant allows passes; what is one's own is everybody's.
func allOf(g Grant, may func(Act) bool) bool {
	return !slices.ContainsFunc(Acts, func(a Act) bool { return a != Anyone && a != Own && g.Allows(a) && !may(a) })
}

// Reach is which sections somebody may do an act to.
type Reach struct {
	All      bool            // of the institution, and what belongs to no section
	Sections map[string]bool // by id, unless it is all
}

// Covers reports whether it reaches a section.
func (r Reach) Covers(section string) bool { return r.All || r.Sections[section] }

// CoversAny reports whether it reaches one of them; what belongs to no section is the institution's.
func (r Reach) CoversAny(sections []string) bool {
	return r.All || slices.ContainsFunc(sections, r.Covers)
}

// CoversEach reports whether it reaches all of them; what belongs to no section is the institution's.
func (r Reach) CoversEach(sections []string) bool {
	return r.All || len(sections) > 0 && !slices.ContainsFunc(sections, func(s string) bool { return !r.Covers(s) })
}

// And is what both reach.
func (r Reach) And(o Reach) Reach {
	switch {
	case r.All:
		return o
	case o.All:
		return r
	}
	both := Reach{Sections: map[string]bool{}}
	for id := range r.Sections {
		if o.Sections[id] {
			both.Sections[id] = true
		}
	}
	return both
}

// IDs are the sections that it reaches, ordered.
func (r Reach) IDs() []string { return slices.Sorted(maps.Keys(r.Sections)) }

// Subject is what an operation is about; it belongs to sections.
type Subject string

// The subjects.
const (
	OfSection      Subject = "section"
	OfPairing      Subject = "pairing"
	OfRun          Subject = "run"
	OfPreview      Subject = "preview"
	OfSet          Subject = "linked-set"
	OfScoreLink    Subject = "score-link"
	OfScorePreview Subject = "score-preview"
	OfPerson       Subject = "person"
	OfTask         Subject = "task"
	OfAward        Subject = "award"
	OfCourse       Subject = "course"
	OfDelivery     Subject = "delivery"
	// Listed is about many things: the operation itself shows and changes only those of the caller's sections.
	Listed Subject = "listed"
)
