package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/reacting"
	"kanban/internal/store"
	"kanban/internal/wire/api"
)

func (s *Server) rules(a huma.API) {
	handle(a, "rules", "GET /rules list-rules List rules", func(ctx context.Context, _ *struct{}) (api.Page[api.Rule], error) {
		all, err := s.Store.Rules(ctx)
		if err != nil {
			return api.Page[api.Rule]{}, err
		}
		usage, err := s.usage(ctx)
		return api.Page[api.Rule]{Items: each(all, func(r store.Rule) api.Rule { return shownRule(r, usage[r.ID]) })}, err
	})
	handleTagged(a, "rules", "GET /rules/{id} get-rule Show a rule", func(ctx context.Context, in *byID) (api.Rule, int, error) {
		r, err := s.Store.Rule(ctx, in.ID)
		return s.taggedRule(ctx, r, err)
	})
	handleTagged(a, "rules", "POST /rules make-rule Make a rule, which is off at first", func(ctx context.Context, in *with[api.NewRule]) (api.Rule, int, error) {
		r, err := s.Reacting.Save(ctx, callerOf(ctx).Name, "", 0, draft(in.Body))
		return s.taggedRule(ctx, r, err)
	})
	handleTagged(a, "rules", "PUT /rules/{id} edit-rule Change a rule", func(ctx context.Context, in *edit[api.NewRule]) (api.Rule, int, error) {
		v, err := version(in.IfMatch)
		if err != nil {
			return api.Rule{}, 0, err
		}
		r, err := s.Reacting.Save(ctx, callerOf(ctx).Name, in.ID, v, draft(in.Body))
		return s.taggedRule(ctx, r, err)
	})
	handleTagged(a, "rules", "POST /rules/{id}/switch switch-rule Switch a rule on or off", func(ctx context.Context, in *withID[api.Switch]) (api.Rule, int, error) {
		r, err := s.Reacting.Switch(ctx, callerOf(ctx).Name, in.ID, in.Body.On)
		return s.taggedRule(ctx, r, err)
	})
}

func draft(r api.NewRule) reacting.Draft {
	return reacting.Draft{
		Name: r.Name, Trigger: r.Trigger, Scope: r.Scope, Condition: r.Condition, Once: r.Once == nil || *r.Once,
		Actions: each(r.Actions, func(a api.Action) store.Action { return store.Action(a) }),
	}
}

func (s *Server) usage(ctx context.Context) (map[string]store.RuleUsage, error) {
	all, err := s.Store.RuleUsage(ctx)
	byRule := make(map[string]store.RuleUsage, len(all))
	for _, u := range all {
		byRule[u.RuleID] = u
	}
	return byRule, err
}

func (s *Server) taggedRule(ctx context.Context, r store.Rule, err error) (api.Rule, int, error) {
	if err != nil {
		return api.Rule{}, 0, err
	}
	usage, err := s.usage(ctx)
	return shownRule(r, usage[r.ID]), r.Version, err
}

func shownRule(r store.Rule, u store.RuleUsage) api.Rule {
	return api.Rule{
		NewRule: api.NewRule{Name: r.Name, Trigger: r.Trigger, Scope: r.Scope, Condition: r.Condition, Once: &r.Once, Actions: each(r.Actions, func(a store.Action) api.Action { return api.Action(a) })},
		ID:      r.ID, On: r.OnSince != nil, OnSince: r.OnSince, Fired: u.Fired, Delivered: u.Delivered, Waiting: u.Waiting, Version: r.Version,
	}
}
