package findings_test

import (
	"context"
	"testing"

	"kanban/internal/app/connections"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/apptest"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
)

// "Everything else is in step" is said only when it is known.
func TestRestIsSaidOnlyWhenKnown_V1(t *testing.T) {
	w := apptest.New(t)
	states, running := map[roster.State]int{}, 0
	s := &findings.Service{Store: w.Store, Sections: standing{&states, &running}}
	said := func() []string {
		list, err := s.Rest(t.Context(), nil)
		require.NoError(t, err)
		return list
	}
	assert.Equal(t, []string{"nothing is connected yet"}, said())
	c := w.Workspace()
	assert.Equal(t, []string{"Workspace was not tested", "no register is connected"}, said())
	_, err := w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	register := w.Register()
	_, err = w.Connections.Probe(t.Context(), register.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"Register was not read yet"}, said())
	w.Read(register, false)
	assert.Empty(t, said())
	states, running = map[roster.State]int{
		roster.NotPaired: 3, roster.Held: 1, roster.OutOfStep: 2, roster.InStep: 9,
		roster.NeverRun: 1, roster.Paused: 1,
	}, 2
	assert.Equal(t, []string{
		"2 sections are out of step", "1 section is paired and never run", "1 section is held",
		"1 section is paused", "3 sections are not paired", "2 sections are being run now",
	}, said())
	states, running = nil, 0
	paused := true
	_, err = w.Connections.Update(t.Context(), "test", c.ID, 0, connections.Change{Paused: &paused})
	require.NoError(t, err)
	require.NoError(t, w.Runs.Pause(t.Context(), "test", "holidays", true))
	assert.Equal(t, []string{"Workspace is paused", "everything is paused"}, said())
	paused = false
	_, err = w.Connections.Update(t.Context(), "test", c.ID, 0,
		connections.Change{Values: map[string]string{"token": "wrong"}, Paused: &paused, Untested: true})
	require.NoError(t, err)
	_, err = w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	require.NoError(t, w.Runs.Pause(t.Context(), "test", "", false))
	assert.Equal(t, []string{"Workspace does not work"}, said())
}

// standing are sections by their state.
type standing struct {
	states  *map[roster.State]int
	running *int
}

func (s standing) States(context.Context, *permission.Reach) (map[roster.State]int, int, error) {
	return *s.states, *s.running, nil
}
