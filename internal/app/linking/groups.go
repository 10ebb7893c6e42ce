package linking

import (
	"context"

	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/wire/call"
)

// LeftGroup is a group inside a class that is for no section any more, as it is at the
// service now.
type LeftGroup struct {
	linkstore.LeftGroup
	Name    string // at the service
	Members int
	Gone    bool  // it was removed there
	Problem error // why the service could not be asked; the rest is not known then
}

// LeftGroups lists them with how many are in them now. A service that cannot be asked is asked
// once.
func (s *Service) LeftGroups(ctx context.Context, interfaceID string) ([]LeftGroup, error) {
	kept, err := linkstore.LeftGroups(ctx, s.Store, interfaceID)
	if err != nil {
		return nil, err
	}
	list, down := make([]LeftGroup, 0, len(kept)), map[string]error{}
	for _, g := range kept {
		x := LeftGroup{LeftGroup: g, Problem: down[g.InterfaceID]}
		if x.Problem == nil {
			x = s.leftGroup(ctx, g)
			down[g.InterfaceID] = x.Problem
		}
		list = append(list, x)
	}
	return list, ctx.Err()
}

func (s *Service) leftGroup(ctx context.Context, g linkstore.LeftGroup) LeftGroup {
	x := LeftGroup{LeftGroup: g}
	service, err := s.service(ctx, g.InterfaceID)
	if err == nil {
		x.Name, x.Members, err = service.CountMembers(ctx, g.Ref)
	}
	if p, ok := call.As(err); ok && p.Kind == call.NotFound {
		x.Gone, err = true, nil
	}
	x.Problem = err
	return x
}

func (s *Service) service(ctx context.Context, interfaceID string) (*workspaces.Workspace, error) {
	c, err := s.Runs.Connections.Open(ctx, interfaceID)
	if err != nil {
		return nil, err
	}
	return workspaces.New(c, s.Runs.Call), nil
}

// RemoveGroup removes a group that is for no section any more at the service, if nobody is
// in it.
func (s *Service) RemoveGroup(ctx context.Context, who, interfaceID, ref string) error {
	kept, err := linkstore.LeftGroups(ctx, s.Store, interfaceID)
	if err != nil {
		return err
	}
	for _, g := range kept {
		if g.Ref != ref {
			continue
		}
		x := s.leftGroup(ctx, g)
		if x.Problem != nil {
			return x.Problem
		}
		if x.Members > 0 {
			return refusal.Conflict("", "%s is not empty (members: %d). Take them out there first, or leave it",
				x.Name, x.Members)
		}
		service, err := s.service(ctx, g.InterfaceID)
		if err != nil {
			return err
		}
		if err := service.RemoveGroup(ctx, ref); err != nil {
			return err
		}
		return s.Store.InTx(ctx, func(tx *db.Tx) error {
			if err := linkstore.ForgetGroup(ctx, tx, g); err != nil {
				return err
			}
			if err := tx.Audit(ctx, who, "removed an empty group", "pairing/"+g.PairingID,
				map[string]any{"group": x.Name, "ref": ref}); err != nil {
				return err
			}
			return tx.Announce(ctx, "pairing", g.PairingID)
		})
	}
	return refusal.Invalid("ref", "%q is no group that is left over; see which there are: kanban sections groups", ref)
}
