package rules

import (
	"context"
	"time"

	"kanban/internal/core/rule"
	"kanban/internal/store/rulestore"
)

// FindRule finds one by id.
func (s *Service) FindRule(ctx context.Context, id string) (rulestore.Rule, error) {
	return rulestore.FindRule(ctx, s.Store, id)
}

// RuleVersions lists the versions of a rule, the newest first.
func (s *Service) RuleVersions(ctx context.Context, id string) ([]rulestore.RuleVersion, error) {
	return rulestore.RuleVersions(ctx, s.Store, id)
}

// Rules lists all, ordered by name.
func (s *Service) Rules(ctx context.Context) ([]rulestore.Rule, error) {
	return rulestore.Rules(ctx, s.Store)
}

// TitlesOfScopes gives the titles of what scopes name, in their order. What has no title goes by
// its id.
func (s *Service) TitlesOfScopes(ctx context.Context, scopes []rule.Scope) ([]rulestore.ScopeTitles, error) {
	return rulestore.TitlesOfScopes(ctx, s.Store, scopes)
}

// Unsubscribes lists who wants no more mails of a rule, the latest first.
func (s *Service) Unsubscribes(ctx context.Context, ruleID string) ([]rulestore.Unsubscribe, error) {
	return rulestore.Unsubscribes(ctx, s.Store, ruleID)
}

// UsageOfRules gives what each rule has done so far, and the calls that count against its
// limit.
func (s *Service) UsageOfRules(ctx context.Context, now time.Time) ([]rulestore.RuleUsage, error) {
	return rulestore.UsageOfRules(ctx, s.Store, now)
}
