package rules

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/rulestore"
	"kanban/internal/wire/call"
)

// Choices lists the values that a service has for a field of an operation, or, with no
// operation, its groups.
func (s *Service) Choices(ctx context.Context, interfaceID, operation, field string) ([]string, error) {
	c, err := s.Connections.Open(ctx, interfaceID)
	if err != nil {
		return nil, err
	}
	if operation == "" {
		if c.Kind != adapter.KindSCIM {
			return nil, refusal.Invalid("operation", "is missing: only a workspace has groups")
		}
		return groupNames(ctx, c, s.Call)
	}
	o, err := connectionstore.FindOperation(ctx, s.Store, interfaceID, operation)
	if errors.Is(err, db.ErrNotFound) {
		return nil, refusal.Invalid("operation", "%s defines no operation %q", c.Name, operation)
	}
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(o.Fields, func(f rule.OperationField) bool { return f.Name == field })
	if i < 0 || o.Fields[i].ListPath == "" {
		return nil, refusal.Invalid("field", "the operation does not say how to list the values of %q", field)
	}
	all, err := s.Pipeline.ValuesThere(ctx, c, o.Fields[i])
	slices.Sort(all)
	return all, err
}

func groupNames(ctx context.Context, c adapter.Interface, o call.Options) ([]string, error) {
	spaces, err := workspaces.New(c, o).Spaces(ctx)
	var out []string
	for _, x := range spaces {
		out = append(out, x.Name)
	}
	slices.Sort(out)
	return slices.Compact(out), err
}

// AskNeeds asks services whether what rules need there exists: labels and groups that they
// name outright. An empty id asks for all rules. Where a service cannot be asked, what was
// known before stays. What waits because something was missing is tried again when that, or
// some of it, is there.
func (s *Service) AskNeeds(ctx context.Context, ruleID string) error {
	var rules []rulestore.Rule
	var err error
	if ruleID == "" {
		rules, err = rulestore.Rules(ctx, s.Store)
	} else {
		rules = make([]rulestore.Rule, 1)
		rules[0], err = rulestore.FindRule(ctx, s.Store, ruleID)
	}
	if errors.Is(err, db.ErrNotFound) {
		return nil // removed since
	}
	if err != nil {
		return err
	}
	asked := map[string]answerTo{}
	var errs []error
	for _, r := range rules {
		missing, err := s.missing(ctx, r, asked)
		if err != nil || missing == nil && r.AskedAt == nil {
			continue
		}
		errs = append(errs, s.Store.InTx(ctx, func(tx *db.Tx) error {
			if err := rulestore.KeepMissing(ctx, tx, r, missing); err != nil {
				return err
			}
			if slices.ContainsFunc(r.Missing, func(x string) bool { return !slices.Contains(missing, x) }) {
				if _, err := deliverystore.RequeueFound(ctx, tx, r.ID); err != nil {
					return err
				}
			}
			if slices.Equal(missing, r.Missing) && (missing == nil) == (r.AskedAt == nil) {
				return nil
			}
			return tx.Announce(ctx, "rule", r.ID)
		}))
	}
	return errors.Join(errs...)
}

// answerTo is what a service answered when it was asked for a list.
type answerTo struct {
	there []string
	err   error
}

// missing gives what a rule needs at services and is not there, nil when it names nothing of
// the kind; an error when a service could not be asked.
func (s *Service) missing(ctx context.Context, r rulestore.Rule, asked map[string]answerTo) (out []string,
	err error,
) {
	ask := func(a rule.Action, operation, field string) ([]string, error) {
		key := strings.Join([]string{a.InterfaceID, operation, field}, "\x00")
		if _, there := asked[key]; !there {
			all, err := s.Choices(ctx, a.InterfaceID, operation, field)
			asked[key] = answerTo{all, err}
		}
		return asked[key].there, asked[key].err
	}
	note := func(there bool, format string, args ...any) {
		if out == nil {
			out = []string{}
		}
		if !there {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	for _, a := range r.Actions {
		switch a.Kind {
		case rule.AddToGroup, rule.TakeFrom:
			if strings.Contains(a.Group, "{{") {
				continue
			}
			all, err := ask(a, "", "")
			if err != nil {
				return nil, err
			}
			note(slices.ContainsFunc(all, func(x string) bool { return strings.EqualFold(x, a.Group) }),
				"the group %q", a.Group)
		case rule.CallOperation:
			o, err := connectionstore.FindOperation(ctx, s.Store, a.InterfaceID, a.Operation)
			if errors.Is(err, db.ErrNotFound) {
				note(false, "the operation %q", a.Operation)
				continue
			}
			if err != nil {
				return nil, err
			}
			for _, f := range o.Fields {
				value, err := strconv.Unquote(strings.TrimSpace(a.Fields[f.Name]))
				if f.ListPath == "" || err != nil || value == "" {
					continue
				}
				all, err := ask(a, a.Operation, f.Name)
				if err != nil {
					return nil, err
				}
				note(slices.Contains(all, value), "the %s %q", f.Name, value)
			}
		}
	}
	return out, nil
}
