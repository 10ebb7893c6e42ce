package runs

import (
	"context"

	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/settingstore"
)

// DirectoryOf gives what answers for an interface's service in a work about so many
// pairings: the service itself, or for many what was read of it at once.
func (s *Service) DirectoryOf(ctx context.Context, interfaceID string, pairings int) (DirectoryReader, error) {
	c, err := s.Connections.Open(ctx, interfaceID)
	if err != nil {
		return nil, err
	}
	service := workspaces.New(c, s.Call)
	if pairings <= few {
		return service, nil
	}
	return service.Survey(ctx)
}

// Plan works out what a run of a pairing would do that need not be stored yet, or
// that is to be moved: its section or set are those in p.
func (s *Service) Plan(ctx context.Context, p pairingstore.Pairing, at DirectoryReader) (roster.Plan, error) {
	plan, _, err := s.plan(ctx, p, at)
	return plan, err
}

// Effects says what becomes of everybody when a pairing is about what p says, or with ends
// when nothing keeps its class in step any more.
func (s *Service) Effects(ctx context.Context, p pairingstore.Pairing, ends bool) ([]roster.Affected, error) {
	at, err := s.DirectoryOf(ctx, p.InterfaceID, 1)
	if err != nil {
		return nil, err
	}
	plan, target, err := s.plan(ctx, p, at)
	return plan.Effects(target, ends), err
}

// TakenOut says what becomes of everybody when whom Kanban put into a pairing's class is
// taken out of it.
func (s *Service) TakenOut(ctx context.Context, p pairingstore.Pairing) ([]roster.Affected, error) {
	both, err := s.sides(ctx, p)
	if err != nil {
		return nil, err
	}
	source, target, err := both.read(ctx)
	if err != nil {
		return nil, err
	}
	return both.emptied(source, target).Effects(target, false), nil
}

func (s *Service) plan(ctx context.Context, p pairingstore.Pairing, at DirectoryReader) (roster.Plan, roster.Target,
	error,
) {
	var none roster.Target
	c, err := connectionstore.FindInterface(ctx, s.Store, p.InterfaceID)
	if err != nil {
		return roster.Plan{}, none, err
	}
	x := &sides{pairing: p, matching: c.Recognise(), store: s.Store}
	if x.groups, err = linkstore.Groups(ctx, s.Store, p.ID); err != nil {
		return roster.Plan{}, none, err
	}
	source, err := pairingstore.Source(ctx, s.Store, p)
	if err != nil {
		return roster.Plan{}, none, err
	}
	target, err := x.look(ctx, at, &source)
	if err != nil {
		return roster.Plan{}, none, err
	}
	return roster.Compare(source, target, p.Policy, x.matching), target, nil
}

// MoveOn gives a pairing's class to another section or set, in a transaction of a
// larger work. Its people from before come out with the first run after that.
func (s *Service) MoveOn(ctx context.Context, tx *db.Tx, who string, p pairingstore.Pairing, sectionID string,
	setID *string,
) (pairingstore.Pairing, error) {
	before := p.SectionID
	p.NextAt = NextRun(p, s.Clock.Now(), s.Zone)
	if err := pairingstore.MovePairing(ctx, tx, &p, sectionID, setID); err != nil {
		return p, err
	}
	if err := tx.Audit(ctx, who, "moved a class to another section", "pairing/"+p.ID,
		map[string]any{"before": before, "after": sectionID, "target": p.TargetName}); err != nil {
		return p, err
	}
	return p, tx.Announce(ctx, "pairing", p.ID)
}

// Renew lets the next run make a class anew that was deleted at the service. Nobody
// counts as having been put in any more, and that run is the first.
func (s *Service) Renew(ctx context.Context, who, pairingID string) error {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
	if err != nil {
		return err
	}
	both, err := s.sides(ctx, p)
	if err != nil {
		return err
	}
	_, err = both.compare(ctx)
	if r, ok := refusal.As(err); !ok || r.Code != finding.TargetGone {
		if err != nil {
			return err
		}
		return refusal.Conflict("", "%s is still at the service; there is nothing to make anew", p.TargetName)
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := pairingstore.ForgetTarget(ctx, tx, p.ID); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "has a class made anew", "pairing/"+p.ID,
			map[string]any{"target": p.TargetName, "was": p.TargetRef}); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", p.ID)
	})
}

// Pause pauses everything, or ends that. What was due meanwhile happens once.
func (s *Service) Pause(ctx context.Context, who, note string, on bool) error {
	m := settingstore.Maintenance{}
	if on {
		at := s.Clock.Now()
		m = settingstore.Maintenance{Since: &at, By: who, Note: note}
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, "maintenance", m); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, map[bool]string{true: "paused everything", false: "resumed everything"}[on],
			"maintenance", m); err != nil {
			return err
		}
		return tx.Announce(ctx, "section", "")
	})
}
