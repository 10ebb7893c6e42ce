package roster

// State is the one state of a section with respect to its pairing (or to the
// lack of one). It is computed, never set by hand.
type State string

// The states.
const (
	NotPaired   State = "not-paired"
	NeverRun    State = "never-run"
	Held        State = "held"
	InStep      State = "in-step"
	OutOfStep   State = "out-of-step"
	NeedsPerson State = "needs-person"
	Paused      State = "paused"
	Ended       State = "ended"
)

// States in the order in which they matter, the ones that need somebody first.
var States = []State{NeedsPerson, OutOfStep, NeverRun, Held, Paused, InStep, NotPaired, Ended}

// Standing is what the state is computed from.
type Standing struct {
	Paired bool
	Ended  bool // the section's or the pairing's last day has passed
	Paused bool // the pairing, its connection or everything is paused
	Ran    bool // at least one run has finished
	Failed bool // the last run stopped before its end
	Hold   bool // learners wait until the class is opened
	// Guarded says that removals wait for somebody's approval.
	Guarded bool
	Latest  Counts
}

// StateOf gives the one state of a section. An earlier question wins over a
// later one: ended, paused, never run, needs a person, out of step, held.
func StateOf(s Standing) State {
	switch {
	case !s.Paired && s.Ended:
		return Ended
	case !s.Paired:
		return NotPaired
	case s.Ended:
		return Ended
	case s.Paused:
		return Paused
	case s.Failed, s.Ran && (s.Guarded || s.Latest[OutcomeNeedsPerson] > 0):
		return NeedsPerson
	case !s.Ran:
		return NeverRun
	case s.Latest.Changes() > 0:
		return OutOfStep
	case s.Hold && s.Latest[OutcomeWaiting] > 0:
		return Held
	}
	return InStep
}
