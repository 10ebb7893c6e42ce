package reporting

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"strings"

	"kanban/internal/core/finding"
	"kanban/internal/store"
)

// deliveries gives those that wait for a person.
func (s *Service) deliveries(ctx context.Context) ([]Finding, error) {
	groups, err := s.Store.WaitingGroups(ctx)
	if err != nil {
		return nil, err
	}
	var list []Finding
	for _, g := range groups {
		if g.Count == 1 {
			f := noticed(Mend, finding.Code(g.Code), g.Person, g.Rule, g.LastError, "/events/"+g.EventID)
			f.Person = g.PersonID
			list = append(list, f)
			continue
		}
		query := url.Values{"state": {store.DeliveryWaiting}}
		for name, id := range map[string]string{"rule": g.RuleID, "connection": g.ConnectionID} {
			if id != "" {
				query.Set(name, id)
			}
		}
		// The key stays the same while their number changes.
		f := noticed(Mend, finding.Code(g.Code), "deliveries of "+g.Origin+" to "+g.ConnectionID, g.Rule, g.LastError, "/deliveries?"+query.Encode())
		f.Subject, f.Count = fmt.Sprintf("%d deliveries", g.Count), g.Count
		list = append(list, f)
	}
	return list, nil
}

// accesses gives where access and enrolment disagree, and what was bought and leads
// nowhere.
func (s *Service) accesses(ctx context.Context) (list []Finding, err error) {
	if s.Disagreements == nil {
		return nil, nil
	}
	all, err := s.Disagreements(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range all {
		f := noticed(Mend, d.Code, d.Person, d.Section, d.Offer, "/access/"+d.OfferID)
		f.Person = d.PersonID
		list = append(list, f)
	}
	troubled, err := s.Store.Troubled(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range troubled {
		f := noticed(Mend, finding.Code(t.Code), t.Buyer, t.Offer, "", "/access/"+t.OfferID)
		if t.PersonID != nil {
			f.Person = *t.PersonID
		}
		list = append(list, f)
	}
	unmapped, err := s.Store.Unmapped(ctx)
	for _, u := range unmapped {
		list = append(list, noticed(Mend, finding.OfferUnknown, u.Offer, u.Connection, fmt.Sprintf("%d buyers", u.Buyers), "/access"))
	}
	return list, err
}

// tasks gives what rules have given people to do.
func (s *Service) tasks(ctx context.Context) (list []Finding, err error) {
	open, err := s.Store.Tasks(ctx, false, 0)
	for _, t := range open {
		detail := t.Detail
		if t.DueAt != nil {
			detail = strings.TrimSpace("due " + t.DueAt.Format("2 January") + "; " + detail)
		}
		f := noticed(Mend, finding.TaskOpen, t.Title, cmp.Or(t.Person, t.Rule), strings.TrimSuffix(strings.TrimSpace(detail), ";"), "/tasks")
		f.Key = "task-" + t.ID
		list = append(list, f)
	}
	return list, err
}
