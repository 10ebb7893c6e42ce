package runs

import (
	"context"

	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
)

// ensureTarget makes the target when there is none yet, and the groups inside it.
// One that was made before, in a run that was cut off, is found by its key.
func (x *execution) ensureTarget(ctx context.Context) error {
	p := &x.pairing
	if p.TargetRef == "" {
		ref, err := x.target.EnsureTarget(ctx, p.TargetName, p.ID, p.Details)
		if err != nil {
			return err
		}
		p.TargetRef = ref
		if err := x.Store.InTx(ctx, func(tx *db.Tx) error {
			return pairingstore.SetTarget(ctx, tx, p.ID,
				ref)
		}); err != nil {
			return err
		}
	}
	if p.SetID == nil || x.run.Ends || x.run.Reverts != nil {
		return nil
	}
	set, err := linkstore.FindLinkedSet(ctx, x.Store, *p.SetID)
	if err != nil {
		return err
	}
	for _, section := range set.Sections {
		ref, err := x.target.EnsureTarget(ctx, groupName(p.TargetName, section.Title), p.ID+"/"+section.ID, p.Details)
		if err != nil {
			return err
		}
		if x.groups[section.ID] == ref {
			continue
		}
		x.groups[section.ID] = ref
		if err := x.Store.InTx(ctx, func(tx *db.Tx) error {
			return linkstore.SetGroup(ctx, tx, p.ID, section.ID,
				ref)
		}); err != nil {
			return err
		}
	}
	return nil
}

// groupName is the name of a section's group inside the target of a linked set.
func groupName(target, section string) string {
	return string([]rune(target + " – " + section)[:min(pairingstore.MaxTargetName,
		len([]rune(target+" – "+section)))])
}

// refs gives the service's ids of groups inside the target.
func (x *sides) refs(sections []string) (refs []string) {
	for _, s := range sections {
		if ref := x.groups[s]; ref != "" {
			refs = append(refs, ref)
		}
	}
	return refs
}
