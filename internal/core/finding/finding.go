// Package finding is the one catalogue of everything Kanban can notice about
// people, sections, pairings and interfaces. The API, the command line
// (`kanban explain CODE`) and the documentation take their text from it, so a
// code means the same everywhere.
//
//	entry, ok := finding.Lookup(finding.AddressShared)
//	fmt.Println(entry.Explanation, entry.Remedy)
package finding

import (
	"slices"
	"sort"
	"strconv"
)

// Code names one kind of finding. Codes are stable: scripts may depend on them.
type Code string

// Severity says how much a finding matters.
type Severity string

const (
	// Note is for information: it never asks anybody to act.
	Note Severity = "note"
	// Warn asks a person to look; the run goes on.
	Warn Severity = "warn"
	// Block stops what it is about until a person has mended it.
	Block Severity = "block"
)

// Owner is who can mend a finding.
type Owner string

// The people and places that can mend something.
const (
	OwnerNobody        Owner = "nobody"
	OwnerAdministrator Owner = "administrator"
	OwnerTeacher       Owner = "teacher"
	OwnerLearner       Owner = "learner"
	OwnerRegister      Owner = "register office"
	OwnerService       Owner = "service administrator"
)

// Entry is the catalogue text of one code.
type Entry struct {
	Code        Code     `json:"code"`
	Severity    Severity `json:"severity"`
	Title       string   `json:"title" doc:"A few words, fit for a table cell"`
	Explanation string   `json:"explanation" doc:"What was noticed and why it matters"`
	Remedy      string   `json:"remedy" doc:"What to do next"`
	Owner       Owner    `json:"owner" doc:"Who can mend it"`
}

// Lookup returns the entry of code; ok is false for a code not in the catalogue.
func Lookup(code Code) (entry Entry, ok bool) {
	entry, ok = byCode[code]
	return entry, ok
}

// Title is the short text of code, or the code itself when it is unknown.
func Title(code Code) string {
	if e, ok := byCode[code]; ok {
		return e.Title
	}
	return string(code)
}

// All lists the catalogue ordered by code.
func All() []Entry {
	all := slices.Concat(catalogue, scoreCatalogue)
	sort.Slice(all, func(i, j int) bool { return all[i].Code < all[j].Code })
	return all
}

var byCode = func() map[Code]Entry {
	m := make(map[Code]Entry, len(catalogue)+len(scoreCatalogue))
	for _, e := range slices.Concat(catalogue, scoreCatalogue) {
		m[e.Code] = e
	}
	return m
}()

// Number says how many there are of something, as "1 score" or "2 scores".
func Number(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}
