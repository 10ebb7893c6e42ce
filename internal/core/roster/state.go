package roster

import "slices"

// State is the one state of a section or linked set with respect to its pairing
// (or to the lack of one). It is computed, never set by hand.
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

// About is what people see of a state.
type About struct {
	State  State
	Word   string
	Signal string // one character, on terminals and in texts
	Next   string // what to do next; empty when nothing is to be done
}

var about = map[State]About{
	NeedsPerson: {NeedsPerson, "needs a person", "▲", "see who or what has to be mended"},
	OutOfStep:   {OutOfStep, "out of step", "◐", "look at the preview and run it"},
	NeverRun:    {NeverRun, "paired, never run", "○", "look at the preview and make the first run"},
	Held:        {Held, "held", "◧", "open the class when it is ready"},
	Paused:      {Paused, "paused", "‖", "resume it"},
	InStep:      {InStep, "in step", "●", ""},
	NotPaired:   {NotPaired, "not paired", "·", "pair it with a class"},
	Ended:       {Ended, "ended", "□", "move its class to the next term, or end the pairing"},
}

// About gives what people see of a state.
func (s State) About() About { return about[s] }

// SectionStatus is what the state is computed from.
type SectionStatus struct {
	Paired bool
	Ended  bool // the section's last day has passed
	Gone   bool // the section vanished from the register
	Paused bool // the pairing, its interface or everything is paused
	Ran    bool // at least one run has finished
	Failed bool // the last run stopped before its end
	Hold   bool // learners wait until the class is opened
	// Guarded says that removals wait for somebody's approval.
	Guarded bool
	Latest  Counts
}

// StateOf gives the one state of a section. An earlier question wins over a
// later one: ended, vanished, paused, needs a person, never run, out of step, held.
func StateOf(s SectionStatus) State {
	switch {
	case s.Ended:
		return Ended
	case !s.Paired:
		return NotPaired
	case s.Gone:
		return NeedsPerson
	case s.Paused:
		return Paused
	case s.Failed, s.Ran && (s.Guarded || s.Latest[OutcomeNeedsPerson] > 0):
		return NeedsPerson
	case !s.Ran:
		return NeverRun
	case s.Latest.Changes() > 0:
		return OutOfStep
	case s.Hold:
		return Held
	}
	return InStep
}

// Act is something a person, or the clock, can do with a section and its pairing.
type Act string

// The acts.
const (
	ActPair   Act = "pair"      // with a class at a service
	ActRun    Act = "run"       // bring the class in step
	ActAuto   Act = "auto"      // the same, without anybody watching
	ActHold   Act = "hold"      // keep learners back
	ActOpen   Act = "open"      // let them in
	ActPause  Act = "pause"     // do nothing until resumed
	ActResume Act = "resume"    // go on
	ActMove   Act = "next-term" // the class goes to another section
	ActEnd    Act = "end"       // keep the pairing no longer
)

// Acts lists them all.
var Acts = []Act{ActPair, ActRun, ActAuto, ActHold, ActOpen, ActPause, ActResume, ActMove, ActEnd}

// possible says which acts each state allows. What depends on more than the state
// (that a class is held already, that a run is at work) is asked where it is done.
var possible = map[State][]Act{
	NotPaired:   {ActPair},
	NeverRun:    {ActRun, ActHold, ActOpen, ActPause, ActMove, ActEnd},
	Held:        {ActRun, ActAuto, ActHold, ActOpen, ActPause, ActMove, ActEnd},
	InStep:      {ActRun, ActAuto, ActHold, ActOpen, ActPause, ActMove, ActEnd},
	OutOfStep:   {ActRun, ActAuto, ActHold, ActOpen, ActPause, ActMove, ActEnd},
	NeedsPerson: {ActRun, ActAuto, ActHold, ActOpen, ActPause, ActMove, ActEnd},
	Paused:      {ActHold, ActOpen, ActResume, ActMove, ActEnd},
	Ended:       {ActRun, ActPause, ActResume, ActMove, ActEnd},
}

// Allows reports whether an act is possible in a state. Ended has two sides: a
// section that ended without a pairing allows nothing.
func (s SectionStatus) Allows(a Act) bool {
	state := StateOf(s)
	switch {
	case !s.Paired:
		return state == NotPaired && a == ActPair && !s.Gone
	case a == ActPause:
		return !s.Paused && slices.Contains(possible[state], a)
	case a == ActResume:
		return s.Paused && slices.Contains(possible[state], a)
	case s.Gone && (a == ActAuto || a == ActOpen || a == ActHold), s.Paused &&
		(a == ActRun || a == ActAuto), !s.Ran && a == ActAuto:
		return false // the first run is by hand; nobody is taken out because a section vanished
	}
	return slices.Contains(possible[state], a)
}
