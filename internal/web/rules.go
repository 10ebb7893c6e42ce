package web

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/rules"
	"kanban/internal/core/permission"
	"kanban/internal/core/rule"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type lookBackInput struct {
	ID   string `path:"id" doc:"The rule's id"`
	Days int    `query:"days" minimum:"1" maximum:"366" default:"30" doc:"How many days to look back"`
}

type schemaInput struct {
	Trigger string `path:"trigger" doc:"A trigger, such as module.completed"`
}

type triggerSamples struct {
	Trigger  string `path:"trigger"`
	Course   string `query:"course" doc:"Id of a course"`
	Section  string `query:"section" doc:"Id of a section"`
	Module   string `query:"module" doc:"Id of a module in the outline"`
	Activity string `query:"activity" doc:"Address of an activity"`
	Limit    int    `query:"limit" default:"30" minimum:"1" maximum:"200"`
}

type samplesInput struct {
	ID    string `path:"id" doc:"The rule's id"`
	Limit int    `query:"limit" minimum:"1" maximum:"50" default:"10"`
}

type subscriber struct {
	ID      string `path:"id" doc:"The rule's id"`
	Address string `path:"address" doc:"The e-mail address"`
}

var (
	listRulesOp = operation{
		ID: "list-rules", Act: permission.Look,
		Method: http.MethodGet, Path: "/rules", Status: http.StatusOK, Tag: "rules",
		Summary: "List rules",
	}
	getRuleOp = operation{
		ID: "get-rule", Act: permission.Look,
		Method: http.MethodGet, Path: "/rules/{id}", Status: http.StatusOK, Tag: "rules",
		Summary: "Show a rule",
	}
	makeRuleOp = operation{
		ID: "make-rule", Act: permission.Rules,
		Method: http.MethodPost, Path: "/rules", Status: http.StatusCreated, Tag: "rules",
		Summary: "Make a rule, which is off at first",
	}
	editRuleOp = operation{
		ID: "edit-rule", Act: permission.Rules,
		Method: http.MethodPut, Path: "/rules/{id}", Status: http.StatusOK, Tag: "rules",
		Summary: "Change a rule",
	}
	switchRuleOp = operation{
		ID: "switch-rule", Act: permission.Rules,
		Method: http.MethodPost, Path: "/rules/{id}/switch", Status: http.StatusOK, Tag: "rules",
		Summary: "Switch a rule on or off",
	}
	removeRuleOp = operation{
		ID: "remove-rule", Act: permission.Rules,
		Method: http.MethodDelete, Path: "/rules/{id}",
		Status: http.StatusNoContent, Tag: "rules",
		Summary: "Remove a rule that never made a delivery",
	}
	listUnsubscribedOp = operation{
		ID: "list-unsubscribed", Act: permission.Look,
		Method: http.MethodGet, Path: "/rules/{id}/unsubscribed",
		Status: http.StatusOK, Tag: "rules",
		Summary: "Who wants no more mails of a rule, the latest first",
	}
	subscribeAgainOp = operation{
		ID: "subscribe-again", Act: permission.Rules,
		Method: http.MethodDelete, Path: "/rules/{id}/unsubscribed/{address}",
		Status: http.StatusNoContent, Tag: "rules",
		Summary: "Let an address have a rule's mails again",
	}
	listRuleVersionsOp = operation{
		ID: "list-rule-versions", Act: permission.Look,
		Method: http.MethodGet, Path: "/rules/{id}/versions",
		Status: http.StatusOK, Tag: "rules",
		Summary: "What a rule was like, the newest first",
	}
	ruleChecklistOp = operation{
		ID: "rule-checklist", Act: permission.Look,
		Method: http.MethodGet, Path: "/rules/{id}/checklist",
		Status: http.StatusOK, Tag: "rules",
		Summary: "What of a rule is done, and the next step",
	}
	tryRuleOp = operation{
		ID: "try-rule", Act: permission.Rules,
		Method: http.MethodPost, Path: "/rules/{id}/trial", Status: http.StatusOK, Tag: "rules",
		Summary: "Render and check what a rule would do for one event",
	}
	tryDraftOp = operation{
		ID: "try-draft", Act: permission.Rules,
		Method: http.MethodPost, Path: "/trials", Status: http.StatusOK, Tag: "rules",
		Summary: "The same for a rule that is not saved",
	}
	ruleSamplesOp = operation{
		ID: "rule-samples", Act: permission.Look,
		Method: http.MethodGet, Path: "/rules/{id}/samples",
		Status: http.StatusOK, Tag: "rules",
		Summary: "Recent events that fit a rule, the newest first",
	}
	lookBackOp = operation{
		ID: "look-back", Act: permission.Look,
		Method: http.MethodGet, Path: "/rules/{id}/look-back", Status: http.StatusOK, Tag: "rules",
		Summary: "What a rule would have done in the last days",
	}
	catchUpOp = operation{
		ID: "catch-up", Act: permission.Rules,
		Method: http.MethodPost, Path: "/rules/{id}/catch-up", Status: http.StatusOK, Tag: "rules",
		Summary: "Let a rule do what the look back showed",
	}
	triggerSchemaOp = operation{
		ID: "trigger-schema", Act: permission.Look,
		Method: http.MethodGet, Path: "/triggers/{trigger}",
		Status: http.StatusOK, Tag: "rules",
		Summary: "What conditions, mappings and texts can refer to",
	}
	triggerSamplesOp = operation{
		ID: "trigger-samples", Act: permission.Look,
		Method: http.MethodGet, Path: "/triggers/{trigger}/samples",
		Status: http.StatusOK, Tag: "rules",
		Summary: "Recent events of a trigger within a scope, the newest first",
	}
	checkTextOp = operation{
		ID: "check-text", Act: permission.Look,
		Method: http.MethodPost, Path: "/texts", Status: http.StatusOK, Tag: "rules",
		Summary: "Check a condition, a value or a template while it is being typed",
	}
	checkNowOp = operation{
		ID: "check-now", Act: permission.Rules,
		Method: http.MethodPost, Path: "/check-now", Status: http.StatusNoContent, Tag: "rules",
		Summary: "Look now who stopped and whose access has ended, instead of at the next quarter of an hour, and whether what rules need at services is there",
	}
	getTestRecipientOp = operation{
		ID: "get-test-recipient", Act: permission.Look,
		Method: http.MethodGet, Path: "/test-recipient",
		Status: http.StatusOK, Tag: "rules",
		Summary: "Where test sends go",
	}
	setTestRecipientOp = operation{
		ID: "set-test-recipient", Act: permission.Rules,
		Method: http.MethodPut, Path: "/test-recipient",
		Status: http.StatusOK, Tag: "rules",
		Summary: "Say where test sends go",
	}
)

// rules registers the operations about rules.
func (s *Server) rules(a huma.API) {
	handle(a, listRulesOp, s.listRules)
	handleTagged(a, getRuleOp, s.getRule)
	handleTagged(a, makeRuleOp, s.makeRule)
	handleTagged(a, editRuleOp, s.editRule)
	handleTagged(a, switchRuleOp, s.switchRule)
	handleEmpty(a, removeRuleOp, s.removeRule)
	handle(a, listUnsubscribedOp, s.listUnsubscribed)
	handleEmpty(a, subscribeAgainOp, s.subscribeAgain)
	handle(a, listRuleVersionsOp, s.listRuleVersions)
	handle(a, ruleChecklistOp, s.ruleChecklist)
	handle(a, tryRuleOp, s.tryRule)
	handle(a, tryDraftOp, s.tryDraft)
	handle(a, ruleSamplesOp, s.ruleSamples)
	handle(a, lookBackOp, s.lookBack)
	handle(a, catchUpOp, s.catchUp)
	handle(a, triggerSchemaOp, s.triggerSchema)
	handle(a, triggerSamplesOp, s.triggerSamples)
	handle(a, checkTextOp, s.checkText)
	handleEmpty(a, checkNowOp, s.checkNow)
	handle(a, getTestRecipientOp, s.getTestRecipient)
	handle(a, setTestRecipientOp, s.setTestRecipient)
}

func (s *Server) listRules(ctx context.Context, _ *struct{}) (api.Page[api.Rule], error) {
	all, err := s.Rules.Rules(ctx)
	if err != nil {
		return api.Page[api.Rule]{}, err
	}
	shown, err := s.shownRules(ctx, all)
	return api.Page[api.Rule]{Items: shown}, err
}

func (s *Server) getRule(ctx context.Context, in *byID) (api.Rule, int, error) {
	r, err := s.Rules.FindRule(ctx, in.ID)
	return s.taggedRule(ctx, r, err)
}

func (s *Server) makeRule(ctx context.Context, in *with[api.NewRule]) (api.Rule, int, error) {
	r, err := s.Rules.Save(ctx, auth.Caller(ctx).Name, "", 0, draft(in.Body))
	return s.taggedRule(ctx, r, err)
}

func (s *Server) editRule(ctx context.Context, in *ruleEdit) (api.Rule, int, error) {
	v, err := version(in.IfMatch)
	if err != nil {
		return api.Rule{}, 0, err
	}
	r, err := s.Rules.Edit(ctx, auth.Caller(ctx).Name, in.ID, v, draft(in.Body), rules.ToCome(in.ToCome))
	return s.taggedRule(ctx, r, err)
}

func (s *Server) switchRule(ctx context.Context, in *withID[api.Switch]) (api.Rule, int, error) {
	if in.Body.On && !in.Body.Untried {
		if err := s.Rules.Tried(ctx, in.ID); err != nil {
			return api.Rule{}, 0, err
		}
	}
	if in.Body.On && !in.Body.Circle {
		if err := s.Rules.Ends(ctx, in.ID); err != nil {
			return api.Rule{}, 0, err
		}
	}
	r, err := s.Rules.Switch(ctx, auth.Caller(ctx).Name, in.ID, in.Body.On, rules.ToCome(in.Body.ToCome))
	return s.taggedRule(ctx, r, err)
}

func (s *Server) removeRule(ctx context.Context, in *byID) error {
	return s.Rules.Remove(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) listUnsubscribed(ctx context.Context, in *byID) (api.Page[api.Unsubscribed], error) {
	if _, err := s.Rules.FindRule(ctx, in.ID); err != nil {
		return api.Page[api.Unsubscribed]{}, err
	}
	all, err := s.Rules.Unsubscribes(ctx, in.ID)
	return api.Page[api.Unsubscribed]{Items: each(all,
		func(u rulestore.Unsubscribe) api.Unsubscribed {
			return api.Unsubscribed{
				Address: u.Address,
				At:      u.At,
			}
		})}, err
}

func (s *Server) subscribeAgain(ctx context.Context, in *subscriber) error {
	if _, err := s.Rules.FindRule(ctx, in.ID); err != nil {
		return err
	}
	return s.Deliveries.Subscribe(ctx, auth.Caller(ctx).Name, in.ID, in.Address, true)
}

func (s *Server) listRuleVersions(ctx context.Context, in *byID) ([]api.RuleVersion, error) {
	if _, err := s.Rules.FindRule(ctx, in.ID); err != nil {
		return nil, err
	}
	all, err := s.Rules.RuleVersions(ctx, in.ID)
	return each(all, func(v rulestore.RuleVersion) api.RuleVersion {
		return api.RuleVersion{Version: v.Version, Who: v.Who, At: v.At, Rule: newRule(v.Draft)}
	}), err
}

func (s *Server) ruleChecklist(ctx context.Context, in *byID) (api.Checklist, error) {
	r, err := s.Rules.FindRule(ctx, in.ID)
	if err != nil {
		return api.Checklist{}, err
	}
	list, err := s.Findings.Rule(ctx, r)
	return checklist(list), err
}

func (s *Server) tryRule(ctx context.Context, in *withID[api.TrialRequest]) (api.Trial, error) {
	t, err := s.Rules.Try(ctx, in.ID, trialOf(in.Body))
	return shownTrial(t), err
}

func (s *Server) tryDraft(ctx context.Context, in *with[api.TrialRequest]) (api.Trial, error) {
	if in.Body.Rule == nil {
		return api.Trial{}, huma.Error422UnprocessableEntity("rule: is missing")
	}
	t, err := s.Rules.TryDraft(ctx, draft(*in.Body.Rule), trialOf(in.Body))
	return shownTrial(t), err
}

func (s *Server) ruleSamples(ctx context.Context, in *samplesInput) (api.Page[api.Event], error) {
	r, err := s.Rules.FindRule(ctx, in.ID)
	if err != nil {
		return api.Page[api.Event]{}, err
	}
	all, err := s.Deliveries.Events(ctx, eventstore.EventFilter{Type: r.Trigger, Scope: r.Scope, Limit: in.Limit})
	return api.Page[api.Event]{Items: each(all, event)}, err
}

func (s *Server) lookBack(ctx context.Context, in *lookBackInput) (api.LookBack, error) {
	b, err := s.Rules.LookBack(ctx, in.ID, time.Now().UTC().AddDate(0, 0, -in.Days))
	return api.LookBack{
		Since: b.Since, Events: b.Events, Held: b.Held, Already: b.Already, Unclear: b.Unclear, More: b.More,
		Would: each(b.Would, func(w rules.WouldFire) api.WouldFire { return api.WouldFire(w) }),
	}, err
}

func (s *Server) catchUp(ctx context.Context, in *withID[api.CatchUp]) (api.CaughtUp, error) {
	n, err := s.Rules.CatchUp(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Since, in.Body.Count)
	return api.CaughtUp{Events: n}, err
}

func (s *Server) triggerSchema(_ context.Context, in *schemaInput) ([]rule.Attribute, error) {
	if err := knownTrigger(in.Trigger); err != nil {
		return nil, err
	}
	return rule.Schema(rule.Trigger(in.Trigger)), nil
}

func (s *Server) triggerSamples(ctx context.Context, in *triggerSamples) (api.Page[api.Event], error) {
	if err := knownTrigger(in.Trigger); err != nil {
		return api.Page[api.Event]{}, err
	}
	all, err := s.Deliveries.Events(ctx, eventstore.EventFilter{
		Type: in.Trigger,
		Scope: rule.Scope{
			Course: in.Course, Section: in.Section, Module: in.Module,
			Activity: in.Activity,
		}, Limit: in.Limit,
	})
	return api.Page[api.Event]{Items: each(all, event)}, err
}

func (s *Server) checkText(ctx context.Context, in *with[api.TextCheck]) (api.TextVerdict, error) {
	if err := s.Rules.CheckText(in.Body.Kind, in.Body.Text, in.Body.Trigger); err != nil {
		return api.TextVerdict{Problem: strings.TrimPrefix(err.Error(), rule.ErrExpression.Error()+": ")}, nil
	}
	sample, err := s.Rules.SampleOf(ctx, in.Body.Kind, in.Body.Text, in.Body.Trigger, in.Body.EventID)
	return api.TextVerdict{Fine: true, Sample: sample}, err
}

func (s *Server) checkNow(ctx context.Context, _ *struct{}) error {
	return errors.Join(s.Deliveries.Inactive(ctx), s.Purchases.Tick(ctx), s.Rules.AskNeeds(ctx, ""))
}

func (s *Server) getTestRecipient(ctx context.Context, _ *struct{}) (api.Recipient, error) {
	address, err := s.Rules.TestRecipient(ctx)
	return api.Recipient{Address: address}, err
}

func (s *Server) setTestRecipient(ctx context.Context, in *with[api.Recipient]) (api.Recipient, error) {
	return in.Body, s.Rules.SetTestRecipient(ctx, auth.Caller(ctx).Name, in.Body.Address)
}

func trialOf(q api.TrialRequest) rules.TrialRequest {
	return rules.TrialRequest{EventID: q.EventID, Made: q.Made, Send: q.Send, Anyway: q.Anyway}
}

func shownTrial(t rules.Trial) api.Trial {
	return api.Trial{
		EventID: t.EventID, Event: t.Event, Person: t.Person, Condition: t.Condition, Stops: t.Stops,
		SentTo: t.SentTo, Passed: t.Passed,
		Steps: each(t.Steps, func(x rules.TrialStep) api.TrialStep { return api.TrialStep(x) }),
	}
}

func draft(r api.NewRule) rule.Draft {
	return rule.Draft{
		Name: r.Name, Trigger: r.Trigger, Scope: r.Scope, Condition: r.Condition, Stop: r.Stop,
		OncePerPerson: r.OncePerPerson == nil || *r.OncePerPerson, Actions: r.Actions,
		UndoneBy: r.UndoneBy, Counts: rule.Counts(r.Counts), Days: r.Days, QuietHours: r.QuietHours, Limit: r.Limit,
		InOrder: r.InOrder,
	}
}

func newRule(d rule.Draft) api.NewRule {
	return api.NewRule{
		Name: d.Name, Trigger: d.Trigger, Scope: d.Scope, Condition: d.Condition, Stop: d.Stop,
		OncePerPerson: &d.OncePerPerson, Actions: d.Actions,
		UndoneBy: d.UndoneBy, Counts: string(d.Counts), Days: d.Days, QuietHours: d.QuietHours, Limit: d.Limit,
		InOrder: d.InOrder,
	}
}

func (s *Server) taggedRule(ctx context.Context, r rulestore.Rule, err error) (api.Rule, int, error) {
	if err != nil {
		return api.Rule{}, 0, err
	}
	shown, err := s.shownRules(ctx, []rulestore.Rule{r})
	if err != nil {
		return api.Rule{}, 0, err
	}
	return shown[0], r.Version, nil
}

// shownRules gives rules with how often they fired, and where they apply in words.
func (s *Server) shownRules(ctx context.Context, all []rulestore.Rule) ([]api.Rule, error) {
	usage, err := s.Rules.UsageOfRules(ctx, time.Now())
	if err != nil {
		return nil, err
	}
	byRule := make(map[string]rulestore.RuleUsage, len(usage))
	for _, u := range usage {
		byRule[u.RuleID] = u
	}
	places, err := s.Rules.TitlesOfScopes(ctx, each(all, func(r rulestore.Rule) rule.Scope { return r.Scope }))
	if err != nil {
		return nil, err
	}
	list := make([]api.Rule, len(all))
	for i, r := range all {
		list[i] = shownRule(r, byRule[r.ID])
		list[i].Where = where(r.Scope, places[i])
	}
	return list, nil
}

// where says a scope in words; what is not there any more goes by its id.
func where(s rule.Scope, p rulestore.ScopeTitles) string {
	var parts []string
	for _, x := range []struct{ id, title string }{
		{s.Course, p.Course},
		{s.Section, p.Section},
		{s.Module, p.Module},
		{s.Activity, p.Activity},
	} {
		if x.id != "" {
			parts = append(parts, cmp.Or(x.title, x.id))
		}
	}
	return strings.Join(parts, " · ")
}

func shownRule(r rulestore.Rule, u rulestore.RuleUsage) api.Rule {
	state := "draft"
	switch {
	case r.OnSince != nil:
		state = "on"
	case r.FirstOnAt != nil:
		state = "off"
	}
	return api.Rule{
		NewRule: newRule(r.Draft()), ID: r.ID, State: state, On: r.OnSince != nil, OnSince: r.OnSince,
		Fired: u.Fired, Delivered: u.Delivered, Waiting: u.Waiting, Calls: u.Calls, Unsubscribed: u.Unsubscribed,
		Version: r.Version,
	}
}

// ruleEdit is the input of a change to a rule.
type ruleEdit struct {
	ID      string `path:"id" doc:"The record's id"`
	IfMatch string `header:"If-Match" doc:"The ETag that was read; the change is refused when the record has another one by now"`
	ToCome  string `query:"toCome" enum:"stop,finish" doc:"When the actions change: what becomes of deliveries by the older ones that are still to come; refused while there are any when absent"`
	Body    api.NewRule
}

// knownTrigger refuses the name of a trigger that there is none of.
func knownTrigger(name string) error {
	if slices.Contains(rule.Triggers, rule.Trigger(name)) {
		return nil
	}
	return huma.Error404NotFound(fmt.Sprintf("there is no trigger %q; the description of make-rule lists them", name))
}
