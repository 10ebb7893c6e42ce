package wiring

import (
	"context"
	"strings"

	"kanban/internal/app/findings"
	"kanban/internal/app/pipeline"
	"kanban/internal/app/scores"
	"kanban/internal/app/stages"
	"kanban/internal/core/grade"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/eventstore"
)

// reached tells findings how far somebody has come in stages.
type reached struct{ *stages.Service }

// StagesOf gives the stages of the plans that somebody is on.
func (r reached) StagesOf(ctx context.Context, personID string) (out []findings.StageAt, err error) {
	plans, err := r.Of(ctx, personID)
	for _, p := range plans {
		for _, x := range p.Stages {
			one := findings.StageAt{
				ID: p.ID + "/" + x.ID, Title: x.Title, Plan: p.Name, BadgeID: x.BadgeID, Reached: x.Reached,
				Open: x.Open,
				At:   x.ReachedAt, Asks: criteriaAt(x.Asks),
			}
			out = append(out, one)
		}
	}
	return out, err
}

func criteriaAt(all []stages.CriterionProgress) (out []findings.CriterionAt) {
	for _, c := range all {
		out = append(out, findings.CriterionAt{Text: c.Text, Met: c.Met})
	}
	return out
}

// Meets says what somebody meets of criteria that belong to no plan.
func (r reached) Meets(ctx context.Context, personID string, asks []stage.Criterion) ([]findings.CriterionAt, error) {
	standing, err := r.Standing(ctx, asks, []string{personID})
	return criteriaAt(standing[personID]), err
}

// inBook tells findings of somebody's scores.
type inBook struct{ *scores.Service }

// ScoresOf gives the scores of somebody, as they were compared last.
func (b inBook) ScoresOf(ctx context.Context, personID string) (out []findings.ScoreAt, err error) {
	all, err := b.OfPerson(ctx, personID)
	for _, x := range all {
		one := findings.ScoreAt{
			LinkID: x.LinkID, ItemID: x.ItemID, Assignment: x.Assignment, Section: x.Section, Reason: x.Reason,
			There: x.Outcome == grade.Unchanged,
		}
		if !x.Given.Blank() {
			one.Given = x.Given.String()
		}
		if !x.InBook.Blank() {
			one.InBook = x.InBook.String()
		}
		out = append(out, one)
	}
	return out, err
}

// verdicts works out conditions of rules for findings.
type verdicts struct{ *pipeline.Deliveries }

// Verdict says whether a condition holds for an event, and names the values that it looks at.
func (v verdicts) Verdict(ctx context.Context, e eventstore.Event, condition string) (holds bool, values string,
	err error,
) {
	all, err := v.Values(ctx, e, condition)
	if err != nil {
		return false, "", err
	}
	holds, err = v.Expressions.Holds(condition, all)
	var seen []string
	for _, x := range rule.EventValues(plain(all)) {
		if path := strings.TrimPrefix(x.Path, "event."); strings.Contains(condition, path) {
			seen = append(seen, path+" is "+x.Value)
		}
	}
	return holds, strings.Join(seen, ", "), err
}

// plain gives values as a tree.
func plain(v rule.Values) map[string]any {
	out := make(map[string]any, len(v))
	for name, x := range v {
		out[name] = x
	}
	return out
}
