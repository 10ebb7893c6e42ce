package findings

import (
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/store/rosterstore"
)

// InClass says whether a person is in the class of a section.
type InClass struct {
	State   string // as in the interface: in, gone, not-in, waiting, left-out, next-run, not-known or no-class
	Service string
	Since   *time.Time   // when Kanban put them in
	Code    finding.Code // why they are not in it
	Why     string       // the same in words
	Remedy  string       // what to do
	Owner   string       // who can do it
	AsOf    *time.Time   // when the class was looked at last
}

// InClassOf says whether a person is in the class of a section, and if not, why not and what
// to do.
func InClassOf(w rosterstore.Whereabouts) InClass {
	out := InClass{State: "no-class", Service: w.Service, Since: w.PlacedAt, AsOf: w.ComparedAt}
	if w.PairingID == "" {
		return out
	}
	if e, ok := finding.Lookup(finding.Code(w.Code)); ok {
		out.Code, out.Why, out.Remedy, out.Owner = e.Code, e.Title, e.Remedy, string(e.Owner)
		if w.Detail != "" {
			out.Why += ": " + w.Detail
		}
	}
	halted := ""
	switch {
	case w.Paused:
		halted = "; it is paused"
	case w.Stopped:
		halted = "; the last run stopped"
	}
	switch {
	case w.PlacedAt != nil && w.LeftAt == nil:
		out.State = "in"
	case w.PlacedAt != nil:
		out.State, out.Why = "next-run", "left the section; the next run takes them out, as the policy says"+halted
	case w.LeftAt != nil:
		out = InClass{State: "gone", Service: w.Service, AsOf: w.ComparedAt}
	case w.Outcome == string(roster.OutcomeWaiting):
		out.State = "waiting"
	case w.Outcome == string(roster.OutcomeLeftOut):
		out.State = "left-out"
	case w.Code != "":
		out.State = "not-in"
	case w.ComparedAt == nil:
		out.State, out.Why, out.Remedy = "not-known", "the class was not looked at yet",
			"Open the preview: kanban pairings preview"
	case w.RanAt == nil:
		out.State, out.Why, out.Remedy = "next-run", "the pairing was never run"+halted, "Run it: kanban pairings run"
	case w.Undone:
		out.State, out.Why, out.Remedy = "next-run", "the next run puts them in"+halted, "Run it: kanban pairings run"
	case w.Unminded > 0:
		out.State, out.Why, out.Remedy = "not-known", "somebody else may have put them into the class",
			"Open the preview: kanban pairings preview"
	default:
		out.State, out.Why, out.Remedy = "not-known", "nothing was noticed, and Kanban did not put them in",
			"Open the preview: kanban pairings preview"
	}
	return out
}
