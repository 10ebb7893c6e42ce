package scenario

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// Names and credentials of the story of the buyer.
const (
	PlacesName = platformSystem + ": places"
	LabelsName = contactsSystem + ": labels"
	ShopName   = "Garden shop"
	OfferName  = "A place in Propagation"

	placesToken = "garden-gate"
	labelsToken = "seed-packet"
	offerAtShop = "propagation-place"

	BuyerName  = "Basil Bough"
	BuyerEmail = "basil.bough@elsewhere.example"
)

var restOfCourse = []string{"act-softwood", "act-union", "act-first-graft"}

// Sell lets what is bought in the shop give access.
func (s *Story) Sell(ctx context.Context) error {
	s.heading("Letting what the shop sells give access")
	offers, err := client.All[api.Offer](ctx, s.Client, "/offers")
	if err != nil {
		return err
	}
	if len(offers) != 1 {
		return fmt.Errorf("there are %d offers, expected 1", len(offers))
	}
	if s.Offer, err = client.Post[api.Offer](ctx, s.Client, "/offers/"+offers[0].ID+"/switch",
		api.Switch{On: true}); err != nil {
		return err
	}
	x, err := s.section(ctx)
	s.tell("%s gives access to %s, and for %d days after it was cancelled", s.Offer.Name, x.Title, s.Offer.GraceDays)
	return err
}

// learnersRules are for what learners go through.
var learnersRules = []string{"Lesson finished", "To repeat", "Passed", "We miss you", "Course finished"}

// BuyersRules tries the rules for what a buyer goes through and switches each on.
func (s *Story) BuyersRules(ctx context.Context) error {
	s.heading("Trying the rules for what learners go through, and switching them on")
	for _, name := range learnersRules {
		r, err := s.rule(ctx, name)
		if err != nil {
			return err
		}
		t, err := client.Post[api.Trial](ctx, s.Client, "/rules/"+r.ID+"/trial", api.TrialRequest{})
		if err != nil {
			return err
		}
		for _, x := range t.Steps {
			if x.Problem != "" || x.Checked != "" && x.Checked != "exists" {
				return fmt.Errorf("trying %q: %s %s", r.Name, x.Problem, x.Checked)
			}
		}
		if _, err = client.Post[api.Rule](ctx, s.Client, "/rules/"+r.ID+"/switch",
			api.Switch{On: true, Untried: !t.Passed}); err != nil {
			return err
		}
		s.tell("%-16s when %-18s rendered and checked (%s), on", r.Name, r.Trigger+":", strings.Join(kinds(t), ", "))
	}
	return nil
}

// kinds are what a trial rendered.
func kinds(t api.Trial) (all []string) {
	for _, x := range t.Steps {
		all = append(all, strings.ReplaceAll(x.Kind, "-", " "))
	}
	return all
}

// Buy lets somebody who is not in the register buy a place: an account, an enrolment,
// and access and enrolment that agree.
func (s *Story) Buy(ctx context.Context) error {
	s.heading("%s, whom nobody knows yet, buys a place in the shop", BuyerName)
	if err := s.form(ctx, s.At.Shop+"/orders", url.Values{
		"offer": {offerAtShop}, "name": {BuyerName},
		"email": {BuyerEmail},
	}); err != nil {
		return err
	}
	if err := s.side(ctx, "on-its-way", "delivered"); err != nil {
		return err
	}
	s.tell("the platform has an account for them and a place in %s", sectionCode)
	read, err := s.Read(ctx)
	if err != nil {
		return err
	}
	s.tell("read: %d joined", read.Counts["joined"])
	if err := s.side(ctx, "agrees", ""); err != nil {
		return err
	}
	found, err := client.Get[api.Page[api.Person]](ctx, s.Client, "/people?text="+url.QueryEscape(BuyerName))
	if err != nil {
		return err
	}
	if len(found.Items) != 1 {
		return fmt.Errorf("%d people are called %s, expected 1", len(found.Items), BuyerName)
	}
	s.Buyer = found.Items[0]
	s.tell("access and enrolment agree; the register knows %s as %s", BuyerName, s.Buyer.Identifier)
	return s.labelled(ctx, "learns Propagation")
}

// side waits until access and enrolment of the buyer stand to each other as said.
func (s *Story) side(ctx context.Context, verdict, state string) error {
	return s.until(ctx, "access and enrolment that are "+verdict, func() (bool, error) {
		all, err := client.Get[[]api.Side](ctx, s.Client, "/sides?offer="+s.Offer.ID)
		for _, x := range all {
			if x.Person == BuyerName && x.Verdict == verdict && (state == "" || x.State == state) {
				return true, err
			}
		}
		return false, err
	})
}

// labelled waits until the buyer has exactly the labels in the contact list that begin
// with those that were there before.
func (s *Story) labelled(ctx context.Context, want ...string) error {
	slices.Sort(want)
	var got []string
	err := s.until(ctx, fmt.Sprintf("the labels %q", want), func() (bool, error) {
		var list []struct {
			Email  string
			Labels []string
		}
		err := s.get(ctx, s.At.Contacts+"/contacts", &list)
		for _, c := range list {
			if strings.EqualFold(c.Email, BuyerEmail) {
				got = slices.Sorted(slices.Values(c.Labels))
				return slices.Equal(got, want), err
			}
		}
		return false, err
	})
	if err != nil {
		return fmt.Errorf("%w; there are %q", err, got)
	}
	s.tell("contact list: %s", strings.Join(want, ", "))
	return nil
}

func (s *Story) tick(ctx context.Context, activity string, more url.Values) error {
	values := url.Values{"learner": {s.Buyer.Identifier}, "activity": {activity}}
	for k, v := range more {
		values[k] = v
	}
	return s.form(ctx, s.At.Platform+"/ticks", values)
}

// Stop lets the buyer finish one lesson and stop; there is one nudge, however often is
// looked.
func (s *Story) Stop(ctx context.Context) error {
	s.heading("%s finished a lesson nine days ago, and nothing since", BuyerName)
	if err := s.tick(ctx, moduleActivities[0], url.Values{"daysAgo": {"9"}}); err != nil {
		return err
	}
	if err := s.labelled(ctx, "learns Propagation", "learner"); err != nil {
		return err
	}
	for range 2 {
		if _, err := client.Post[client.Empty](ctx, s.Client, "/check-now", nil); err != nil {
			return err
		}
	}
	return s.mailed(ctx, "your plants miss you", 1)
}

// mailed waits until the buyer has got so many mails whose subject holds a text.
func (s *Story) mailed(ctx context.Context, text string, want int) error {
	return s.until(ctx, fmt.Sprintf("%d mails about %q", want, text), func() (bool, error) {
		var mails []struct{ To, Subject string }
		err := s.get(ctx, s.At.Inbox+"/mails", &mails)
		n := 0
		for _, m := range mails {
			if m.To == BuyerEmail && strings.Contains(m.Subject, text) {
				if n++; n == want {
					s.tell("inbox: %q to %s", m.Subject, m.To)
				}
			}
		}
		if n > want {
			return false, fmt.Errorf("%d mails about %q came, expected %d", n, text, want)
		}
		return n == want, err
	})
}

// FailThenPass lets the buyer fail the check and pass it: what the fail did is taken
// back.
func (s *Story) FailThenPass(ctx context.Context) error {
	s.heading("%s comes back, fails the check, then passes it", BuyerName)
	check := moduleActivities[2]
	if err := s.tick(ctx, check, url.Values{"failed": {"1"}}); err != nil {
		return err
	}
	if err := s.labelled(ctx, "learns Propagation", "learner", "to-repeat"); err != nil {
		return err
	}
	if err := s.tasks(ctx, 1); err != nil {
		return err
	}
	if err := s.tick(ctx, check, nil); err != nil {
		return err
	}
	if err := s.labelled(ctx, "learns Propagation", "learner", "passed"); err != nil {
		return err
	}
	return s.tasks(ctx, 0)
}

func (s *Story) tasks(ctx context.Context, want int) error {
	return s.until(ctx, fmt.Sprintf("%d tasks", want), func() (bool, error) {
		page, err := client.Get[api.Page[api.Task]](ctx, s.Client, "/tasks")
		if len(page.Items) == want {
			for _, t := range page.Items {
				s.tell("task for %s: %s", t.Owner, t.Title)
			}
		}
		return len(page.Items) == want, err
	})
}

// Finish lets the buyer finish the course while the contact list refuses: the delivery
// that waits is found and tried again, and arrives once.
func (s *Story) Finish(ctx context.Context) error {
	s.heading("%s finishes the course; the contact list refuses once, and the delivery is tried again", BuyerName)
	if _, err := s.call(ctx, http.MethodPut, s.At.Control+"/faults/contacts", "application/json", "",
		strings.NewReader(`{"kind":"status","status":422,"path":"/events"}`)); err != nil {
		return err
	}
	for _, a := range restOfCourse {
		if err := s.tick(ctx, a, nil); err != nil {
			return err
		}
	}
	if err := s.mailed(ctx, "You finished Propagation", 1); err != nil {
		return err
	}
	var waiting api.Delivery
	if err := s.until(ctx, "the delivery that waits for a person", func() (bool, error) {
		page, err := client.Get[api.Page[api.Delivery]](ctx, s.Client, "/deliveries?state=waiting")
		if len(page.Items) == 1 {
			waiting = page.Items[0]
		}
		return len(page.Items) == 1, err
	}); err != nil {
		return err
	}
	s.tell("waits for a person: %s to %s: %s", waiting.Rule, waiting.Interface, waiting.Error)
	if _, err := s.call(ctx, http.MethodDelete, s.At.Control+"/faults/contacts", "", "", nil); err != nil {
		return err
	}
	if _, err := client.Post[client.Empty](ctx, s.Client, "/deliveries/"+waiting.ID+"/retry", nil); err != nil {
		return err
	}
	if err := s.labelled(ctx, "learns Propagation", "learner", "passed", "finished Propagation"); err != nil {
		return err
	}
	var received map[string]int
	if err := s.get(ctx, s.At.Contacts+"/received", &received); err != nil {
		return err
	}
	if received[waiting.ID] != 1 {
		return fmt.Errorf("the delivery arrived %d times, expected once", received[waiting.ID])
	}
	s.tell("tried again: it arrived once, and offers %s the way to the badge", BuyerName)
	return s.until(ctx, "the row in the sheet", func() (bool, error) {
		text, err := s.Client.Download(ctx, "/sheets/Finished.csv")
		return err == nil && strings.Contains(string(text), BuyerName), nil
	})
}
