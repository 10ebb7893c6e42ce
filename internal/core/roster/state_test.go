package roster_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"kanban/internal/core/roster"
)

// every goes through all standings.
func every(each func(s roster.SectionStatus)) {
	counts := []roster.Counts{
		nil,
		{roster.OutcomeInStep: 3},
		{roster.OutcomeAdd: 1},
		{roster.OutcomeUpdate: 1},
		{roster.OutcomeRemove: 2},
		{roster.OutcomeWaiting: 1},
		{roster.OutcomeLeftOut: 4},
		{roster.OutcomeNeedsPerson: 1, roster.OutcomeAdd: 2},
	}
	for bits := range 1 << 8 {
		on := func(n int) bool { return bits>>n&1 == 1 }
		for _, c := range counts {
			each(roster.SectionStatus{
				Paired: on(0), Ended: on(1), Gone: on(2), Paused: on(3), Ran: on(4),
				Failed: on(5), Hold: on(6), Guarded: on(7), Latest: c,
			})
		}
	}
}

// first writes the machine the other way round: for each state, when it is.
func first(s roster.SectionStatus) roster.State {
	needs := s.Failed || s.Ran && (s.Guarded || s.Latest[roster.OutcomeNeedsPerson] > 0)
	running := s.Paired && !s.Ended && !s.Gone && !s.Paused
	changes := s.Latest[roster.OutcomeAdd]+s.Latest[roster.OutcomeUpdate]+s.Latest[roster.OutcomeRemove] > 0
	waits := s.Hold
	is := map[roster.State]bool{
		roster.Ended:       s.Ended,
		roster.NotPaired:   !s.Ended && !s.Paired,
		roster.NeedsPerson: !s.Ended && s.Paired && (s.Gone || running && needs),
		roster.Paused:      !s.Ended && s.Paired && !s.Gone && s.Paused,
		roster.NeverRun:    running && !needs && !s.Ran,
		roster.OutOfStep:   running && !needs && s.Ran && changes,
		roster.Held:        running && !needs && s.Ran && !changes && waits,
		roster.InStep:      running && !needs && s.Ran && !changes && !waits,
	}
	var found []roster.State
	for state, yes := range is {
		if yes {
			found = append(found, state)
		}
	}
	if len(found) != 1 {
		panic(fmt.Sprintf("%+v is in %v", s, found))
	}
	return found[0]
}

func TestEveryStandingHasItsOneState_S7(t *testing.T) {
	n := 0
	every(func(s roster.SectionStatus) {
		n++
		assert.Equal(t, first(s), roster.StateOf(s), "%+v", s)
	})
	assert.Equal(t, 2048, n)
}

// What can be done in each state, for pairings that have run, as a table.
func TestWhatCanBeDone_S7(t *testing.T) {
	ran := roster.SectionStatus{Paired: true, Ran: true}
	with := func(change func(*roster.SectionStatus)) roster.SectionStatus { s := ran; change(&s); return s }
	for _, c := range []struct {
		state roster.State
		s     roster.SectionStatus
		acts  string
	}{
		{roster.NotPaired, roster.SectionStatus{}, "pair"},
		{roster.Ended, roster.SectionStatus{Ended: true}, ""},
		{roster.NotPaired, roster.SectionStatus{Gone: true}, ""},
		{roster.NeverRun, roster.SectionStatus{Paired: true}, "run hold open pause next-term end"},
		{roster.InStep, ran, "run auto hold open pause next-term end"},
		{
			roster.OutOfStep, with(func(s *roster.SectionStatus) { s.Latest = roster.Counts{roster.OutcomeAdd: 1} }),
			"run auto hold open pause next-term end",
		},
		{roster.Held, with(func(s *roster.SectionStatus) {
			s.Hold, s.Latest = true,
				roster.Counts{roster.OutcomeWaiting: 1}
		}), "run auto hold open pause next-term end"},
		{
			roster.NeedsPerson, with(func(s *roster.SectionStatus) { s.Guarded = true }),
			"run auto hold open pause next-term end",
		},
		{roster.NeedsPerson, with(func(s *roster.SectionStatus) { s.Gone = true }), "run pause next-term end"},
		{roster.Paused, with(func(s *roster.SectionStatus) { s.Paused = true }), "hold open resume next-term end"},
		{roster.Ended, with(func(s *roster.SectionStatus) { s.Ended = true }), "run pause next-term end"},
		{
			roster.Ended, with(func(s *roster.SectionStatus) { s.Ended, s.Paused = true, true }),
			"resume next-term end",
		},
	} {
		var acts []string
		for _, a := range roster.Acts {
			if c.s.Allows(a) {
				acts = append(acts, string(a))
			}
		}
		assert.Equal(t, c.state, roster.StateOf(c.s))
		assert.Equal(t, c.acts, strings.Join(acts, " "), "%s %+v", c.state, c.s)
	}
}

func TestNothingRunsByItselfThatMustNot_R4(t *testing.T) {
	every(func(s roster.SectionStatus) {
		if s.Allows(roster.ActAuto) {
			assert.True(t, s.Paired && s.Ran && !s.Ended && !s.Gone && !s.Paused, "%+v", s)
		}
		assert.False(t, s.Allows(roster.ActPause) && s.Allows(roster.ActResume))
		assert.Equal(t, s.Paired, s.Allows(roster.ActEnd), "what is paired can always be ended")
	})
}

func TestEveryStateHasSignalWordAndNextStep_S7(t *testing.T) {
	var signals, words []string
	for _, state := range roster.States {
		a := state.About()
		assert.Equal(t, state, a.State)
		assert.NotEmpty(t, a.Word)
		assert.Len(t, []rune(a.Signal), 1)
		assert.Equal(t, state != roster.InStep, a.Next != "", state)
		assert.False(t, slices.Contains(signals, a.Signal) || slices.Contains(words, a.Word), state)
		signals, words = append(signals, a.Signal), append(words, a.Word)
	}
}
