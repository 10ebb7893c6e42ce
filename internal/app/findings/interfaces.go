package findings

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/learning"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/personstore"
	"kanban/internal/store/runstore"
)

// Resting is a service, or one operation of it, that fails in a row.
type Resting struct {
	deliverystore.Rest
	Waiting int // deliveries that wait for it
}

// worthTelling is how long a service may fail before that is told, if it does not rest.
const worthTelling = 30 * time.Second

// Rests gives what fails in a row, at one interface or (id empty) at all, with how many
// deliveries wait for it.
func (s *Service) Rests(ctx context.Context, interfaceID string) ([]Resting, error) {
	all, err := deliverystore.Rests(ctx, s.Store, interfaceID)
	if err != nil {
		return nil, err
	}
	list := make([]Resting, len(all))
	for i, r := range all {
		list[i].Rest = r
		if list[i].Waiting, err = deliverystore.WaitingFor(ctx, s.Store, r.InterfaceID, r.Operation); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// resting gives the services and operations that are left alone for a while, or have done
// nothing but fail for some time.
func (s *Service) resting(ctx context.Context) ([]Finding, error) {
	all, err := s.Rests(ctx, "")
	if err != nil || len(all) == 0 {
		return nil, err
	}
	names, err := connectionstore.Interfaces(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	now := s.Clock.Now()
	var list []Finding
	for _, r := range all {
		i := slices.IndexFunc(names, func(c connectionstore.Interface) bool { return c.ID == r.InterfaceID })
		rests := r.RestsUntil != nil && r.RestsUntil.After(now)
		if i < 0 || !rests && (r.Operation != "" || r.Since == nil || now.Sub(*r.Since) < worthTelling) {
			continue
		}
		code, subject := finding.ServiceResting, "service"
		if r.Operation != "" {
			code, subject = finding.OperationResting, r.Title
		}
		// Neither times nor counts that change by themselves are in it: what was
		// acknowledged would come back every few seconds.
		list = append(list, noticed(Mend, code, subject, names[i].Name, r.Reason,
			"/connections/"+names[i].ConnectionID))
		list[len(list)-1].Detail = describeRest(r, rests)
	}
	return list, nil
}

func describeRest(r Resting, rests bool) string {
	text := r.Reason
	if r.Waiting > 0 {
		text += fmt.Sprintf("; deliveries waiting: %d", r.Waiting)
	}
	if rests {
		text += "; tried again at " + r.RestsUntil.UTC().Format("15:04 UTC")
	}
	return text
}

// layLong is how long a statement may lie before that is told.
const layLong = 24 * time.Hour

// statements gives those from which nothing has followed for a day.
func (s *Service) statements(ctx context.Context) ([]Finding, error) {
	all, err := eventstore.UnresolvedStatements(ctx, s.Store, learning.NoMeaning, s.Clock.Now().Add(-layLong))
	var list []Finding
	for _, u := range all {
		f := noticed(Mend, finding.StatementWaits, "statements of the platform", u.Interface, u.Note, "/connections")
		f.Detail = fmt.Sprintf("%s: %d since %s", u.Note, u.N, u.Since.Format("2 January 2006"))
		list = append(list, f)
	}
	return list, err
}

// refusedFor is for how many days it is said what was refused of what services reported.
const refusedFor = 7

// refused gives what services reported that could not be taken.
func (s *Service) refused(ctx context.Context) ([]Finding, error) {
	all, err := eventstore.RefusedSince(ctx, s.Store, s.Clock.Now().AddDate(0, 0, 1-refusedFor))
	var list []Finding
	for _, r := range all {
		code, what := finding.EventUnusable, "events"
		if r.Kind == eventstore.RefusedSignature {
			code, what = finding.SignatureRefused, "requests"
		}
		// The number is not in the key, so that what was acknowledged stays so while it grows.
		f := noticed(Mend, code, "what it reported", r.Interface, "", "/connections")
		f.Count = r.Count
		f.Detail = fmt.Sprintf("%d %s in the last %d days; the latest, at %s: %s", r.Count, what, refusedFor,
			r.At.UTC().Format("2 January 15:04 UTC"), r.Detail)
		list = append(list, f)
	}
	return list, err
}

// twice gives how many people two registers have, it seems.
func (s *Service) twice(ctx context.Context) ([]Finding, error) {
	n, err := personstore.CountSame(ctx, s.Store)
	if err != nil || len(n) == 0 {
		return nil, err
	}
	f := noticed(Remark, finding.PeopleTwice, "people", "", "", "/people/duplicates")
	f.Count = 0
	var parts []string
	for _, c := range roster.Certainties {
		if n[string(c)] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n[string(c)], c))
			f.Count += n[string(c)]
		}
	}
	f.Detail = strings.Join(parts, ", ")
	return []Finding{f}, nil
}

// interfaces gives what the probes found.
func (s *Service) interfaces(ctx context.Context) ([]Finding, error) {
	all, err := connectionstore.Interfaces(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	list, err := s.grants(ctx, all)
	if err != nil {
		return nil, err
	}
	twice, err := s.twice(ctx)
	if err != nil {
		return nil, err
	}
	list = append(list, twice...)
	for _, c := range all {
		if c.Trouble != "" && !c.Paused() {
			list = append(list, noticed(Mend, finding.Code(c.TroubleCode), "comparing", c.Name, c.Trouble,
				"/connections/"+c.ConnectionID))
		}
		if adapter.IsRegister(c.Kind) {
			proposed, err := matchstore.LatestProposals(ctx, s.Store, c.ID)
			if err != nil {
				return nil, err
			}
			if n, first := proposed.Count, proposed.First; n > 0 {
				f := noticed(Remark, finding.RecordsProposed, c.Name, "", "", "/interfaces/"+c.ID+"/proposals")
				f.Detail, f.Count = fmt.Sprintf("%d; the first is %s (%s): %s", n, first.Person, first.Identifier,
					first.Evidence), n
				list = append(list, f)
			}
		}
		if at, ok := adapter.EndOf(c.Settings, time.UTC); ok && !c.Paused() {
			if text := endsIn(at, s.Clock.Now()); text != "" {
				list = append(list, noticed(Mend, finding.CredentialEnds, text, c.Name,
					"its last day is "+at.AddDate(0, 0, -1).Format("2 January 2006"), "/connections/"+c.ConnectionID))
			}
		}
		var reports []adapter.Report
		if c.Paused() || len(c.Probe) == 0 || json.Unmarshal(c.Probe, &reports) != nil {
			continue
		}
		for _, r := range reports {
			if r.Code != "" && string(r.Code) != c.TroubleCode {
				list = append(list, noticed(Mend, r.Code, string(r.Capability), c.Name, r.Detail,
					"/connections/"+c.ConnectionID))
			}
		}
	}
	return list, nil
}

// grants gives the grants that have ended or end soon, and those that wait for a decision.
func (s *Service) grants(ctx context.Context, all []connectionstore.Interface) (list []Finding, err error) {
	granted, err := connectionstore.AllGrants(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	for _, c := range all {
		for _, g := range granted {
			if g.InterfaceID != c.ID || c.Paused() {
				continue
			}
			at, what := "/connections/"+c.ConnectionID, "signing in"
			switch {
			case g.Pending:
				list = append(list, noticed(Mend, finding.SignInPending, what, c.Name, g.Trouble, at))
			case g.Ended():
				list = append(list, noticed(Mend, finding.SignInEnded, what, c.Name, g.Trouble, at))
			case g.ExpiresAt != nil && !g.Renews:
				if text := endsIn(*g.ExpiresAt, s.Clock.Now()); text != "" {
					list = append(list, noticed(Mend, finding.CredentialEnds, text, c.Name,
						"the grant of "+cmp.Or(g.Account, "an unknown account")+" cannot be renewed; sign in again", at))
				}
			}
		}
	}
	return list, nil
}

// endsIn says how far away the end of a credential is, empty while it is more than 30 days.
// The text changes 30, 7 and 1 days before and when it is over, so that what was
// acknowledged shows again.
func endsIn(at, now time.Time) string {
	switch left := at.Sub(now); {
	case left <= 0:
		return "credential has ended"
	case left <= 24*time.Hour:
		return "credential ends within a day"
	case left <= 7*24*time.Hour:
		return "credential ends within a week"
	case left <= 30*24*time.Hour:
		return "credential ends within 30 days"
	}
	return ""
}

// registers gives what stopped the newest read of each register, and what was
// wrong with its records.
func (s *Service) registers(ctx context.Context) ([]Finding, error) {
	all, err := connectionstore.Interfaces(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	var list []Finding
	for _, c := range all {
		if !adapter.IsRegister(c.Kind) {
			continue
		}
		runs, err := runstore.Runs(ctx, s.Store, runstore.Wanted{InterfaceID: c.ID, Limit: 1})
		if err != nil {
			return nil, err
		}
		for _, r := range runs {
			link := "/runs/" + r.ID
			if r.State == runstore.Failed && !c.Paused() {
				list = append(list, noticed(Mend, finding.Code(r.ErrorCode), c.Name, "reading the register", r.Error,
					link))
			}
			for _, n := range r.Findings {
				group := Remark
				if e, ok := finding.Lookup(n.Code); ok && e.Severity == finding.Block {
					group = Mend
				}
				f := noticed(group, n.Code, n.Subject, c.Name, n.Detail, "")
				f.Link = link // the run is another one after each read, the finding is the same
				list = append(list, f)
			}
		}
	}
	return list, nil
}
