package findings

import (
	"context"
	"encoding/json"
	"fmt"

	"kanban/internal/adapter"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/settingstore"
)

// Rest says what is not in step, or not known to be, beside what needs a person: nothing
// connected, interfaces that do not work or were not tested, registers not read, sections
// not paired, held, never run, out of step, paused or being run. It is empty only when
// everything else is known to be in step. Sections are some, or all when within is nil.
func (s *Service) Rest(ctx context.Context, within *permission.Reach) (said []string, err error) {
	interfaces, err := connectionstore.Interfaces(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	if len(interfaces) == 0 {
		return []string{"nothing is connected yet"}, nil
	}
	if said, err = s.notWorking(ctx, interfaces); err != nil {
		return nil, err
	}
	m, err := settingstore.FindMaintenance(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	if m.Since != nil {
		said = append(said, "everything is paused")
	}
	if s.Sections == nil {
		return said, nil
	}
	inStates, err := s.notInStep(ctx, within)
	return append(said, inStates...), err
}

// notWorking says which interfaces are paused, do not work or are not known to, and which
// registers were not read.
func (s *Service) notWorking(ctx context.Context, interfaces []connectionstore.Interface) (said []string,
	err error,
) {
	registers := 0
	for _, c := range interfaces {
		works := len(c.Probe) > 0
		var reports []adapter.Report
		if works && json.Unmarshal(c.Probe, &reports) == nil {
			for _, r := range reports {
				works = works && (r.State == adapter.Works || r.State == adapter.Unproven)
			}
		}
		switch {
		case c.Paused():
			said = append(said, c.Name+" is paused")
		case c.ProbedAt == nil:
			said = append(said, c.Name+" was not tested")
		case !works || c.Trouble != "":
			said = append(said, c.Name+" does not work")
		}
		if adapter.IsRegister(c.Kind) {
			registers++
			read, err := runstore.LastRead(ctx, s.Store, c.ID)
			if err != nil {
				return nil, err
			}
			if read == nil {
				said = append(said, c.Name+" was not read yet")
			}
		}
	}
	if registers == 0 {
		said = append(said, "no register is connected")
	}
	return said, nil
}

// notInStep counts the sections that are not in step.
func (s *Service) notInStep(ctx context.Context, within *permission.Reach) (said []string, err error) {
	states, running, err := s.Sections.States(ctx, within)
	if err != nil {
		return nil, err
	}
	sections := func(n int, what string) {
		switch {
		case n == 1:
			said = append(said, "1 section is "+what)
		case n > 1:
			said = append(said, fmt.Sprintf("%d sections are %s", n, what))
		}
	}
	for _, state := range []struct {
		state roster.State
		what  string
	}{
		{roster.OutOfStep, "out of step"}, {roster.NeverRun, "paired and never run"}, {
			roster.Held,
			"held",
		}, {roster.Paused, "paused"}, {roster.NotPaired, "not paired"},
	} {
		sections(states[state.state], state.what)
	}
	sections(running, "being run now")
	return said, nil
}
