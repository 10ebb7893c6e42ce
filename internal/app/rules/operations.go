package rules

import (
	"context"
	"errors"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/rulestore"
)

// KeepOperation makes or replaces an operation of an interface.
func (s *Service) KeepOperation(ctx context.Context, who, interfaceID string, o rule.Operation) error {
	if err := s.checkInterface(ctx, interfaceID, "operation", adapter.KindHTTP); err != nil {
		return err
	}
	if err := o.Check(); err != nil {
		return refusal.Invalid("operation", "%v", err)
	}
	if o.Title == "" {
		o.Title = o.Name
	}
	if err := s.Expressions.CheckCondition(o.Proof); err != nil {
		return refusal.Invalid("proof", "%v", err)
	}
	if err := s.Expressions.CheckCondition(o.Success); err != nil {
		return refusal.Invalid("success", "%v", err)
	}
	for _, f := range o.Fields {
		if f.List == "" {
			continue
		}
		if err := s.Expressions.CheckValue(f.List); err != nil {
			return refusal.Invalid("fields."+f.Name+".list", "%v", err)
		}
	}
	if o.Undo != "" && o.Undo != o.Name {
		if _, err := connectionstore.FindOperation(ctx, s.Store, interfaceID, o.Undo); errors.Is(err,
			db.ErrNotFound) {
			return refusal.Invalid("undo",
				"the interface defines no operation %q yet; define it first, or name it later", o.Undo)
		}
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.KeepOperation(ctx, tx, interfaceID, o); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "defined an operation", "interface/"+interfaceID, o); err != nil {
			return err
		}
		return tx.Announce(ctx, "interface", interfaceID)
	})
}

// DropOperation removes an operation that no rule which is on uses.
func (s *Service) DropOperation(ctx context.Context, who, interfaceID, name string) error {
	rules, err := rulestore.RulesOn(ctx, s.Store)
	if err != nil {
		return err
	}
	for _, r := range rules {
		for _, a := range r.Actions {
			if a.Kind == rule.CallOperation && a.InterfaceID == interfaceID && a.Operation == name {
				return refusal.Conflict("", "the rule %q uses it and is on; switch it off first", r.Name)
			}
		}
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.DropOperation(ctx, tx, interfaceID, name); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "removed an operation", "interface/"+interfaceID, map[string]string{"name": name})
	})
}

// Tried is what came back from calling an operation by hand.
type Tried struct {
	Worked          bool
	Status          int
	Request, Answer string
	Problem         string
}

// TryOperation calls an operation now, with values given by hand. It is for real.
func (s *Service) TryOperation(ctx context.Context, who, interfaceID, name string, values map[string]any) (Tried,
	error,
) {
	o, err := connectionstore.FindOperation(ctx, s.Store, interfaceID, name)
	if err != nil {
		return Tried{}, err
	}
	c, err := s.Connections.Open(ctx, interfaceID)
	if err != nil {
		return Tried{}, err
	}
	if _, err := o.Fill(values); err != nil {
		return Tried{}, refusal.Invalid("values", "%v", err)
	}
	out, err := s.Pipeline.CallOperation(ctx, c, o, values)
	t := Tried{Worked: err == nil, Status: out.Status, Request: out.Request, Answer: out.Answer}
	if err != nil {
		t.Problem = problemText(err)
	}
	return t, s.Store.InTx(ctx, func(tx *db.Tx) error {
		return tx.Audit(ctx, who, "called an operation by hand", "interface/"+interfaceID,
			map[string]any{"operation": name, "worked": t.Worked})
	})
}
