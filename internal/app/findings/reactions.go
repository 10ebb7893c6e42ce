package findings

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"strings"

	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/reportstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/settingstore"
	"kanban/internal/store/taskstore"
)

// deliveries gives those that wait for a person.
func (s *Service) deliveries(ctx context.Context) ([]Finding, error) {
	groups, err := deliverystore.WaitingGroups(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	var list []Finding
	for _, g := range groups {
		if g.Own && g.Count > 1 {
			where, query := g.Rule, url.Values{"state": {deliverystore.DeliveryWaiting}, "person": {g.PersonID}}
			if g.Origins > 1 {
				where = fmt.Sprintf("%d rules", g.Origins)
			}
			f := noticed(Mend, finding.Code(g.Code), g.Person, "deliveries", g.LastError,
				"/deliveries?"+query.Encode())
			f.Where, f.Person, f.Count = fmt.Sprintf("%d deliveries of %s", g.Count, where), g.PersonID, g.Count
			list = append(list, f)
			continue
		}
		if g.Count == 1 {
			f := noticed(Mend, finding.Code(g.Code), g.Person, g.Rule, g.LastError, "/events/"+g.EventID)
			f.Person = g.PersonID
			list = append(list, f)
			continue
		}
		query := url.Values{"state": {deliverystore.DeliveryWaiting}}
		for name, id := range map[string]string{"rule": g.RuleID, "interface": g.InterfaceID} {
			if id != "" {
				query.Set(name, id)
			}
		}
		// The key stays the same while their number changes.
		f := noticed(Mend, finding.Code(g.Code), "deliveries of "+g.Origin+" to "+g.InterfaceID, g.Rule, g.LastError,
			"/deliveries?"+query.Encode())
		f.Subject, f.Count = fmt.Sprintf("%d deliveries", g.Count), g.Count
		list = append(list, f)
	}
	return list, nil
}

// lacking gives the rules that need something at a service that is not there.
func (s *Service) lacking(ctx context.Context) (list []Finding, err error) {
	all, err := rulestore.RulesLacking(ctx, s.Store)
	for _, r := range all {
		list = append(list, noticed(Mend, finding.NeededGone, r.Name, "", strings.Join(r.Missing, ", "),
			"/rules/"+r.ID))
	}
	return list, err
}

// reversals gives what hangs on completions that hold no longer, in one finding for all
// people of whom the same is to be said.
func (s *Service) reversals(ctx context.Context) (list []Finding, err error) {
	if s.Progress == nil {
		return nil, nil
	}
	all, err := s.Progress.Reversals(ctx)
	if err != nil {
		return nil, err
	}
	type same struct{ courseID, what, done string }
	type once struct {
		personID string
		same
	}
	at := map[same]int{}
	people := map[once]bool{}
	for _, r := range all {
		key := same{r.CourseID, r.What, r.Done}
		once := once{r.PersonID, key}
		if people[once] {
			continue
		}
		people[once] = true
		i, there := at[key]
		if !there {
			at[key] = len(list)
			f := noticed(Mend, finding.Reversed, r.Person, r.What, r.Done, "/people/"+r.PersonID)
			f.Person = r.PersonID
			list = append(list, f)
			continue
		}
		n := list[i].Count + 1
		list[i] = noticed(Mend, finding.Reversed, "people of "+r.CourseID, r.What, r.Done,
			"/events?"+url.Values{"type": {strings.Replace(r.Kind, ".completed", ".reopened", 1)}}.Encode())
		list[i].Subject, list[i].Count = fmt.Sprintf("%d people", n), n
	}
	return list, nil
}

// accesses gives where access and enrolment disagree, and what was bought and leads
// nowhere.
func (s *Service) accesses(ctx context.Context) (list []Finding, err error) {
	if s.Purchases == nil {
		return nil, nil
	}
	all, err := s.Purchases.Disagreements(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range all {
		f := noticed(Mend, d.Code, d.Person, d.Section, d.Offer, "/access/"+d.OfferID)
		f.Person = d.PersonID
		list = append(list, f)
	}
	troubled, err := purchasestore.TroubledAccesses(ctx, s.Store)
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
	unmapped, err := purchasestore.UnmappedOffers(ctx, s.Store)
	for _, u := range unmapped {
		list = append(list, noticed(Mend, finding.OfferUnknown, u.Offer, u.Interface,
			fmt.Sprintf("%d buyers", u.Buyers), "/access"))
	}
	return list, err
}

// miscounted says when kept progress was found to differ from what is recorded.
func (s *Service) miscounted(ctx context.Context) (list []Finding, err error) {
	c, err := settingstore.FindProgressCheck(ctx, s.Store)
	if err == nil && c.Wrong > 0 && !c.Mended {
		f := noticed(Mend, finding.ProgressDiffers, "progress", strings.Join(c.Courses, ", "), "", "/reports/completion")
		f.Subject, f.Count, f.Since = "progress of "+peopleOf(c.Wrong), c.Wrong, c.EndedAt
		list = append(list, f)
	}
	return list, err
}

// unsent gives the reports that the mail server did not take for everybody the last time.
func (s *Service) unsent(ctx context.Context) (list []Finding, err error) {
	all, err := reportstore.ReportMails(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	last, err := reportstore.LastSent(ctx, s.Store)
	for _, m := range all {
		var to []string
		trouble := ""
		for _, x := range last {
			if x.MailID == m.ID && x.SentAt == nil && m.PausedAt == nil {
				to, trouble = append(to, x.Recipient), x.Trouble
			}
		}
		if to != nil {
			list = append(list, noticed(Mend, finding.ReportNotSent, "the report "+m.Report, strings.Join(to, ", "),
				trouble, "/report-mails"))
		}
	}
	return list, err
}

// tasks gives what rules have given people to do.
func (s *Service) tasks(ctx context.Context) (list []Finding, err error) {
	open, err := taskstore.Tasks(ctx, s.Store, false, 0, nil)
	for _, t := range open {
		detail := t.Detail
		if t.DueAt != nil {
			detail = strings.TrimSpace("due " + t.DueAt.Format("2 January") + "; " + detail)
		}
		f := noticed(Mend, finding.TaskOpen, t.Title, cmp.Or(t.Person, t.Rule),
			strings.TrimSuffix(strings.TrimSpace(detail), ";"), "/tasks")
		f.Key, f.Of, f.ID = "task-"+t.ID, permission.OfTask, t.ID
		list = append(list, f)
	}
	return list, err
}
