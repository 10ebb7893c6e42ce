package scenario

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// Names of the demo's gradebooks, and credentials. The stand-ins have the same.
const (
	MarksName = platformSystem + ": gradebook"
	BookName  = RegisterName + ": gradebook"

	marksSecret = "red-ink"
	marksClass  = "propagation"
	cuttings    = "Report on cuttings"
)

// PlayScores plays how scores are carried, on top of what Play has left.
func (s *Story) PlayScores(ctx context.Context) error {
	for _, step := range []func(context.Context) error{s.Gradebooks, s.Marking, s.LinkScores, s.Carry, s.CarryAgain} {
		if err := step(ctx); err != nil {
			return fmt.Errorf("step %d: %w", s.step, err)
		}
	}
	return nil
}

// Gradebooks connects where work is marked, and the book of record.
func (s *Story) Gradebooks(ctx context.Context) error {
	s.heading("Connecting the gradebooks: where work is marked, and the book of record")
	for _, x := range []struct {
		name, beside, address, secret string
		more                          map[string]string
	}{
		{
			MarksName, PlatformName, s.At.Platform, marksSecret,
			map[string]string{"itemPage": s.At.Platform + "/marking?item={id}"},
		},
		{BookName, RegisterName, s.At.Register, registerSecret, map[string]string{
			"needsDue": "yes", "needsPeriod": "yes", "needsPoints": "yes", "needsCategory": "yes", "decimals": "1",
			"longestComment": "200", "locks": "yes", "termCategories": "Term grades",
		}},
	} {
		values := map[string]string{
			"address": x.address, "tokenAddress": x.address + "/oauth/token", "clientId": "kanban",
			"clientSecret": x.secret,
			"late":         "2",
		}
		for k, v := range x.more {
			values[k] = v
		}
		made, err := client.Post[api.Interface](ctx, s.Client,
			"/connections/"+s.Interfaces[x.beside].ConnectionID+"/interfaces",
			api.NewInterface{Kind: "oneroster-gradebook", Label: "gradebook", Values: values})
		if err != nil {
			return err
		}
		s.Interfaces[made.Name] = made
		r, err := s.probe(ctx, x.name, "works")
		if err != nil {
			return err
		}
		s.tell("%-25s %-18s %s: %s", x.name, r.Capability, r.State, r.Detail)
	}
	return nil
}

// mark enters a score where work is marked, as a teacher does.
func (s *Story) mark(ctx context.Context, item, learner, score string, more url.Values) error {
	values := url.Values{"item": {item}, "learner": {learner}, "score": {score}}
	for k, v := range more {
		values[k] = v
	}
	return s.form(ctx, s.At.Platform+"/marking", values)
}

var (
	released = url.Values{"release": {"1"}}
	draft    = url.Values{}
)

// Marking enters scores as teachers do: some final, some drafts, some with something said beside them.
func (s *Story) Marking(ctx context.Context) error {
	s.heading("Teachers mark work at the course platform")
	for _, m := range []struct {
		item, learner, score string
		more                 url.Values
	}{
		{"cuttings-report", "stu-001", "18", released},
		{"cuttings-report", "stu-002", "15.25", released},
		{"cuttings-report", "stu-003", "11", draft},
		{"cuttings-report", "stu-004", "", url.Values{"flag": {"exempt"}}},
		{"cuttings-report", "stu-006", "9", url.Values{
			"release": {"1"}, "flag": {"late"},
			"comment": {"Good, but late."},
		}},
		{"cuttings-report", "stu-007", "24", released}, // above the maximum
		{"cuttings-report", "stu-012", "13", released}, // moved from B to A
		{"cuttings-report", "stu-020", "16", released},
		{"cuttings-report", "stu-030", "12,5", released},
		{"cuttings-test", "stu-001", "21", released},
		{"cuttings-test", "stu-002", "19", draft},
		{"cuttings-test", "stu-021", "25", released},
		{"cuttings-test", "stu-031", "17", draft},
		{"tool-care", "stu-001", "10", released},
		{"herbarium", "stu-001", "44", released},
		{"garden-walk", "stu-001", "0", released},
	} {
		if err := s.mark(ctx, m.item, m.learner, m.score, m.more); err != nil {
			return err
		}
	}
	s.tell("5 assignments in one class of three sections: final scores, drafts, one exempt, one late, one above the maximum")
	return nil
}

// LinkScores links the three sections, and makes the score link for all of them at once.
func (s *Story) LinkScores(ctx context.Context) error {
	s.heading("One score link for the three sections of Propagation")
	all, err := client.All[api.Section](ctx, s.Client, "/sections?text=PROP-")
	if err != nil {
		return err
	}
	var n api.NewSet
	for _, x := range all {
		if x.Code == sectionCode {
			n.LeadID = x.ID
		} else {
			n.Sections = append(n.Sections, x.ID)
		}
	}
	set, err := client.Post[api.LinkedSet](ctx, s.Client, "/linked-sets", n)
	if err != nil {
		return err
	}
	link := api.NewScoreLink{
		SetID: set.ID, SourceInterfaceID: s.Interfaces[MarksName].ID, SourceClass: marksClass,
		BookInterfaceID: s.Interfaces[BookName].ID, Policy: &api.ScorePolicy{
			Mode: "fill-and-update", Content: "scores", Basis: "due", Comments: true, MakesCategories: true,
		},
	}
	overlap, err := client.Post[api.Page[api.ScoreOverlap]](ctx, s.Client, "/score-links/overlap", link)
	if err != nil {
		return err
	}
	for _, o := range overlap.Items {
		s.tell("%s and %s: %d learners in both", marksClass, o.Section, o.Both)
	}
	s.ScoreLink, err = client.Post[api.ScoreLink](ctx, s.Client, "/score-links", link)
	if err != nil {
		return err
	}
	rows, err := client.Get[api.Page[api.Assignment]](ctx, s.Client, "/score-links/"+s.ScoreLink.ID+"/assignments")
	if err != nil {
		return err
	}
	told := map[string]bool{}
	for _, a := range rows.Items {
		if told[a.Title] {
			continue
		}
		told[a.Title] = true
		var why []string
		for _, r := range a.Reasons {
			why = append(why, r.Title)
		}
		s.tell("%-28s %s", a.Title, cmp.Or(strings.Join(why, ", "), "ready"))
	}
	return nil
}

// carries previews the score link and runs it.
func (s *Story) carries(ctx context.Context) (p api.ScorePreview, r api.Run, err error) {
	p, err = client.Post[api.ScorePreview](ctx, s.Client, "/score-links/"+s.ScoreLink.ID+"/previews", nil)
	if err != nil || p.Changes+p.Makes == 0 {
		return p, r, err
	}
	if r, err = client.Post[api.Run](ctx, s.Client, "/score-previews/"+p.ID+"/run", api.NewScoreRun{}); err != nil {
		return p, r, err
	}
	r, err = s.Client.Wait(ctx, r.ID, func(api.Run) {})
	return p, r, err
}

// Carry carries the scores the first time.
func (s *Story) Carry(ctx context.Context) error {
	s.heading("Carrying scores: what is final goes to the book of each learner's section")
	p, r, err := s.carries(ctx)
	if err != nil {
		return err
	}
	for _, x := range p.Reasons {
		s.tell("%2d in %d: %-9s %s", x.Scores, x.Items, x.Outcome, x.Title)
	}
	for name, want := range map[string]int{"made": 6, "scored": 9, "refused": 0, "not-arrived": 0} {
		if r.Counts[name] != want {
			return fmt.Errorf("the run has %s %d, expected %d: %s %v", name, r.Counts[name], want, r.Error, r.Counts)
		}
	}
	s.tell("%d assignments made, %d scores carried, read back and there", r.Counts["made"], r.Counts["scored"])
	return nil
}

// CarryAgain shows a value that was edited in the book, and why nothing else is sent.
func (s *Story) CarryAgain(ctx context.Context) error {
	s.heading("Somebody changes a score in the book, and a teacher another one where work is marked")
	text, err := client.Get[api.Page[api.Assignment]](ctx, s.Client, "/score-links/"+s.ScoreLink.ID+"/assignments")
	if err != nil {
		return err
	}
	i := slices.IndexFunc(text.Items, func(a api.Assignment) bool {
		return a.Title == cuttings && a.Section == "Propagation A"
	})
	if i < 0 || text.Items[i].Book == nil {
		return fmt.Errorf("%q is not in the book of Propagation A", cuttings)
	}
	if err := s.form(ctx, s.At.Register+"/book", url.Values{
		"item": {text.Items[i].Book.ID}, "learner": {"stu-001"}, "score": {"20"},
	}); err != nil {
		return err
	}
	for learner, score := range map[string]string{"stu-001": "17", "stu-002": "16"} {
		if err := s.mark(ctx, "cuttings-report", learner, score, released); err != nil {
			return err
		}
	}
	p, r, err := s.carries(ctx)
	if err != nil {
		return err
	}
	if p.Counts["conflict"] != 1 || r.Counts["updated"] != 1 {
		return fmt.Errorf("expected one conflict and one update: %v %v %s", p.Counts, r.Counts, r.Error)
	}
	for _, item := range p.Items {
		for _, e := range item.Entries {
			if e.Outcome == "conflict" {
				s.tell("%s, %s: was %s, %s in the book, %s at the source: it stays until somebody decides", item.Title, e.Name,
					e.Was.Text, e.Theirs.Text, e.Ours.Text)
			}
		}
	}
	p, _, err = s.carries(ctx)
	if err != nil {
		return err
	}
	s.tell("Nothing new to carry:")
	for _, x := range p.Reasons {
		s.tell("   %d in %d: %s", x.Scores, x.Items, x.Title)
	}
	return nil
}
