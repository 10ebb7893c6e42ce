// Package permission says what each role may do. There is one table, and nothing else decides it.
//
//	if !permission.May(role, permission.Rosters) {
//		return refusal
//	}
package permission

import "slices"

// Role is what somebody may be to an institution.
type Role string

// The roles, the one that may most first.
const (
	Administrator Role = "administrator" // everything
	Operator      Role = "operator"      // rosters, pairings, scores, rules, badges; no credentials, nobody's role
	Support       Role = "support"       // sees all, acknowledges findings, finishes tasks
	Reader        Role = "reader"        // sees reports
)

// Roles are all of them.
var Roles = []Role{Administrator, Operator, Support, Reader}

// Known reports whether there is such a role.
func (r Role) Known() bool { return slices.Contains(Roles, r) }

// Act is something that can be done; every operation of the API is one of them.
type Act string

// The acts.
const (
	Anyone      Act = "anyone"      // needs nobody signed in
	Own         Act = "own"         // about whoever does it: their session, password, tokens, views
	Look        Act = "look"        // at everything that is there, people's names and what became of them included
	Report      Act = "report"      // see reports
	Acknowledge Act = "acknowledge" // findings
	FinishTasks Act = "finish-tasks"
	Rosters     Act = "rosters"   // read registers, pair, link, run, hold and open
	Recognise   Act = "recognise" // say whose account it is, and who is one person
	CarryScores Act = "carry-scores"
	Learning    Act = "learning" // outlines, stage plans, approvals of stages
	Rules       Act = "rules"    // rules, deliveries, offers and access, test recipients, proofs
	Badges      Act = "badges"   // issuers and badges
	Award       Act = "award"    // award, revoke, suspend and restore badges
	SendReports Act = "send-reports"
	Connect     Act = "connect"  // connections, their values and credentials, keys of issuers, the set-up from files
	Settings    Act = "settings" // of the institution
	Users       Act = "users"    // who may sign in, and with which role
)

// Acts are all of them.
var Acts = []Act{
	Anyone, Own, Look, Report, Acknowledge, FinishTasks, Rosters, Recognise, CarryScores, Learning, Rules, Badges,
	Award,
	SendReports, Connect, Settings, Users,
}

// allowed is the table. Administrators may do everything, and whoever is signed in what is their own.
var allowed = map[Role][]Act{
	Operator: {
		Look, Report, Acknowledge, FinishTasks, Rosters, Recognise, CarryScores, Learning, Rules, Badges, Award,
		SendReports,
	},
	Support: {Look, Report, Acknowledge, FinishTasks},
	Reader:  {Report},
}

// May reports whether a role may do something. An act that is not known is done by nobody.
func May(r Role, a Act) bool {
	switch {
	case !slices.Contains(Acts, a):
		return false
	case a == Anyone:
		return true
	case !r.Known():
		return false
	case a == Own, r == Administrator:
		return true
	}
	return slices.Contains(allowed[r], a)
}

// MayGive reports whether somebody with a role may give another one: at most what they may do themselves.
func MayGive(own, given Role) bool {
	return given.Known() && !slices.ContainsFunc(Acts, func(a Act) bool { return May(given, a) && !May(own, a) })
}
