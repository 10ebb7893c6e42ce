package connecting_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/standin/fault"
	"kanban/internal/store"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestProbeTellsCausesApart_C2(t *testing.T) {
	w := apptest.New(t)
	register, workspace, contacts, mail := w.Register(), w.Workspace(), w.Contacts(), w.Mail()
	probe := func(c store.Connection) map[adapter.Capability]adapter.State {
		t.Helper()
		reports, err := w.Connecting.Probe(t.Context(), c.ID)
		require.NoError(t, err)
		out := map[adapter.Capability]adapter.State{}
		for _, r := range reports {
			out[r.Capability] = r.State
			_, known := finding.Lookup(r.Code)
			assert.Equal(t, r.State != adapter.Works && r.State != adapter.Unproven, known, "%v has a remedy", r)
		}
		return out
	}
	works := map[adapter.Capability]adapter.State{adapter.MessagesOut: adapter.Works}
	assert.Equal(t, map[adapter.Capability]adapter.State{adapter.PeopleIn: adapter.Works}, probe(register))
	assert.Equal(t, map[adapter.Capability]adapter.State{adapter.PeopleIn: adapter.Works, adapter.PeopleOut: adapter.Works}, probe(workspace))
	assert.Equal(t, works, probe(contacts))
	assert.Equal(t, works, probe(mail))

	for status, want := range map[int]adapter.State{401: adapter.WrongCredential, 403: adapter.NotAllowed, 501: adapter.NotEnabled, 404: adapter.NotEnabled, 500: adapter.Broken} {
		require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Status, Status: status}))
		assert.Equal(t, want, probe(workspace)[adapter.PeopleOut], status)
	}
	w.Standins.ClearFaults()
	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Status, Status: 403, Path: "/Groups"}))
	assert.Equal(t, map[adapter.Capability]adapter.State{adapter.PeopleIn: adapter.Works, adapter.PeopleOut: adapter.NotAllowed}, probe(workspace), "each capability on its own")
	w.Standins.Stop()
	for _, c := range []store.Connection{register, workspace, contacts, mail} {
		for capability, state := range probe(c) {
			assert.Equal(t, adapter.Unreachable, state, "%s %s", c.Name, capability)
		}
	}
}

func TestSecretsAreKeptAndRotated_C5(t *testing.T) {
	w := apptest.New(t)
	c := w.Workspace()
	assert.NotContains(t, c.Settings, "token")
	text, err := json.Marshal(c)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "potting-shed")

	name := "Chat"
	c, err = w.Connecting.Update(t.Context(), "test", c.ID, c.Version, &name, nil, nil)
	require.NoError(t, err)
	opened, err := w.Connecting.Open(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, "potting-shed", opened.Secret["token"], "what is not given stays")
	c, err = w.Connecting.Update(t.Context(), "test", c.ID, c.Version, nil, map[string]string{"token": "  new-token  "}, nil)
	require.NoError(t, err)
	opened, err = w.Connecting.Open(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, "new-token", opened.Secret["token"])
	_, err = w.Connecting.Update(t.Context(), "test", c.ID, c.Version-1, &name, nil, nil)
	assert.ErrorIs(t, err, store.ErrStale)

	var trail string
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT string_agg(detail::text, ' ') FROM audit_entries`).Scan(&trail))
	assert.NotContains(t, trail, "new-token")
	assert.Contains(t, trail, "token", "the trail says which value changed")
}

func TestPlatformsAuthenticate(t *testing.T) {
	w := apptest.New(t)
	c, made, err := w.Connecting.Create(t.Context(), "test", "xapi", "Platform", nil)
	require.NoError(t, err)
	require.NotEmpty(t, made["secret"])
	got, ok, err := w.Connecting.Authenticate(t.Context(), made["key"], made["secret"])
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, c.ID, got.ID)
	for _, wrong := range [][2]string{{made["key"], "no"}, {"no", made["secret"]}, {"", ""}} {
		_, ok, err := w.Connecting.Authenticate(t.Context(), wrong[0], wrong[1])
		require.NoError(t, err)
		assert.False(t, ok)
	}
}

func TestConnectionInUseIsNotRemoved(t *testing.T) {
	w := apptest.New(t)
	register, workspace := w.Register(), w.Workspace()
	w.Read(register, false)
	p, err := w.Pairing.Pair(t.Context(), "test", wish(w, workspace))
	require.NoError(t, err)
	err = w.Connecting.Delete(t.Context(), "test", workspace.ID)
	r, ok := refusal.As(err)
	require.True(t, ok, "%v", err)
	assert.Equal(t, refusal.KindConflict, r.Kind)
	_, err = w.Store.Pairing(t.Context(), p.ID)
	require.NoError(t, err)
	assert.NoError(t, w.Connecting.Delete(t.Context(), "test", w.Contacts().ID))
}
