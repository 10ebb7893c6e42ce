package connections_test

import (
	"encoding/json"
	"testing"
	"time"

	"kanban/internal/app/connections"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/standin/fault"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/webhook"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestProbeTellsCausesApart_C2(t *testing.T) {
	w := apptest.New(t)
	register, workspace, contacts, mail := w.Register(), w.Workspace(), w.Contacts(), w.Mail()
	probe := func(c connectionstore.Interface) map[adapter.Capability]adapter.State {
		t.Helper()
		reports, err := w.Connections.Probe(t.Context(), c.ID)
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
	assert.Equal(t, map[adapter.Capability]adapter.State{
		adapter.PeopleIn:  adapter.Works,
		adapter.PeopleOut: adapter.Works,
	}, probe(workspace))
	assert.Equal(t, works, probe(contacts))
	assert.Equal(t, works, probe(mail))

	for status, want := range map[int]adapter.State{
		401: adapter.WrongCredential, 403: adapter.NotAllowed,
		501: adapter.NotEnabled, 404: adapter.NotThere, 500: adapter.Broken,
	} {
		require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Status, Status: status}))
		assert.Equal(t, want, probe(workspace)[adapter.PeopleOut], status)
	}
	w.Standins.ClearFaults()
	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Status, Status: 403, Path: "/Groups"}))
	assert.Equal(t, map[adapter.Capability]adapter.State{
		adapter.PeopleIn:  adapter.Works,
		adapter.PeopleOut: adapter.NotAllowed,
	}, probe(workspace), "each capability on its own")
	w.Standins.Stop()
	for _, c := range []connectionstore.Interface{register, workspace, contacts, mail} {
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

	label := "Chat"
	c, err = w.Connections.Update(t.Context(), "test", c.ID, c.Version, connections.Change{Label: &label})
	require.NoError(t, err)
	opened, err := w.Connections.Open(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, "potting-shed", opened.Secret["token"], "what is not given stays")
	c, err = w.Connections.Update(t.Context(), "test", c.ID, c.Version,
		connections.Change{Values: map[string]string{"token": "  new-token  "}})
	require.NoError(t, err)
	opened, err = w.Connections.Open(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, "new-token", opened.Secret["token"])
	_, err = w.Connections.Update(t.Context(), "test", c.ID, c.Version-1, connections.Change{Label: &label})
	assert.ErrorIs(t, err, db.ErrStale)

	var trail string
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(),
		`SELECT string_agg(detail::text, ' ') FROM audit_entries`).Scan(&trail))
	assert.NotContains(t, trail, "new-token")
	assert.Contains(t, trail, "token", "the trail says which value changed")
}

func TestPlatformsAuthenticate(t *testing.T) {
	w := apptest.New(t)
	c, made := w.ConnectMade("xapi", "Platform", nil)
	require.NotEmpty(t, made["secret"])
	got, ok, err := w.Connections.Authenticate(t.Context(), made["key"], made["secret"])
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, c.ID, got.ID)
	for _, wrong := range [][2]string{{made["key"], "no"}, {"no", made["secret"]}, {"", ""}} {
		_, ok, err := w.Connections.Authenticate(t.Context(), wrong[0], wrong[1])
		require.NoError(t, err)
		assert.False(t, ok)
	}
}

// Removing what something depends on is refused with what that is. Where it is meant, it
// hides and stops everything that hangs on it, loses nothing, and can be undone.
func TestRemovedConnectionsComeBackWhole(t *testing.T) {
	w := apptest.New(t)
	register, workspace := w.Register(), w.Workspace()
	w.Read(register, false)
	p, err := w.Pairings.Pair(t.Context(), "test", wish(w, workspace))
	require.NoError(t, err)
	person, section := w.Person("stu-014"), w.Section("PROP-A")
	refused := func(id, name, says string) {
		t.Helper()
		err := w.Connections.Remove(t.Context(), "test", id, name)
		_, ok := refusal.As(err)
		require.True(t, ok, "%v", err)
		assert.ErrorContains(t, err, says)
	}
	refused(workspace.ID, "", "the pairing")
	refused(register.ID, "", "9 sections")
	refused(register.ID, "", "people")
	refused(register.ID, "register", `give "Register"`)
	require.NoError(t, w.Connections.Remove(t.Context(), "test", w.Contacts().ID, ""), "nothing depends on it")

	require.NoError(t, w.Connections.RemoveConnection(t.Context(), "test", register.ConnectionID, "Register"))
	sections, err := rosterstore.Sections(t.Context(), w.Store)
	require.NoError(t, err)
	assert.Empty(t, sections)
	people, err := rosterstore.People(t.Context(), w.Store, "", 100, nil)
	require.NoError(t, err)
	assert.Zero(t, people)
	pairings, err := pairingstore.Listed(t.Context(), w.Store)
	require.NoError(t, err)
	assert.Empty(t, pairings)
	_, err = w.Connections.Open(t.Context(), register.ID)
	require.ErrorIs(t, err, db.ErrNotFound)
	_, err = w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err, "it can still be looked at")
	again := w.Register() // its name is free
	w.Read(again, false)
	_, err = rosterstore.PersonByIdentifier(t.Context(), w.Store, "stu-014")
	require.NoError(t, err, "nobody is there twice")

	_, err = w.Connections.RestoreConnection(t.Context(), "test", register.ConnectionID, "")
	assert.ErrorContains(t, err, `called "Register" already`)
	_, err = w.Connections.Restore(t.Context(), "test", register.ID, "")
	assert.ErrorContains(t, err, "removed as a whole")
	require.NoError(t, w.Connections.RemoveConnection(t.Context(), "test", again.ConnectionID, "Register"))
	_, err = w.Connections.RestoreConnection(t.Context(), "test", register.ConnectionID, "")
	require.NoError(t, err)
	back, err := w.Connections.FindInterface(t.Context(), register.ID)
	require.NoError(t, err)
	assert.Equal(t, register.Secret, back.Secret)
	assert.Equal(t, person.ID, w.Person("stu-014").ID)
	assert.Equal(t, section.ID, w.Section("PROP-A").ID)
	pairings, err = pairingstore.Listed(t.Context(), w.Store)
	require.NoError(t, err)
	require.Len(t, pairings, 1)
	assert.Equal(t, p.ID, pairings[0].ID)

	names, err := connectionstore.DeleteInterfaces(t.Context(), w.Store, time.Now().Add(-connectionstore.RemovedFor))
	require.NoError(t, err)
	assert.Empty(t, names, "not before its time")
	names, err = connectionstore.DeleteInterfaces(t.Context(), w.Store, time.Now().Add(time.Minute))
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"Register", "Contacts"}, names)
	gone, err := connectionstore.RemovedInterfaces(t.Context(), w.Store)
	require.NoError(t, err)
	assert.Empty(t, gone)
	assert.Equal(t, person.ID, w.Person("stu-014").ID, "what was restored stays")
}

// A stored secret does not go to another host without being entered again.
func TestSecretsStayWithTheirHost_C5(t *testing.T) {
	w := apptest.New(t)
	c := w.Workspace()
	change := func(values map[string]string) error {
		_, err := w.Connections.Update(t.Context(), "test", c.ID, 0, connections.Change{Values: values})
		return err
	}
	require.NoError(t, change(map[string]string{"address": c.Settings["address"] + "/v2"}),
		"another path of the same host")
	err := change(map[string]string{"address": "https://elsewhere.example/scim/v2"})
	r, ok := refusal.As(err)
	require.True(t, ok, "%v", err)
	assert.Equal(t, "values.token", r.Field)
	require.NoError(t, change(map[string]string{"address": "https://elsewhere.example/scim/v2", "token": "another"}))
	mail := w.Connect("smtp", "Mail", map[string]string{
		"server": "mail.example:587", "from": "a@b.example",
		"userName": "u", "password": "p",
	})
	_, err = w.Connections.Update(t.Context(), "test", mail.ID, 0,
		connections.Change{Values: map[string]string{"server": "elsewhere.example:587"}})
	assert.ErrorContains(t, err, "enter it again")
}

// A new credential is tested before it replaces one that works.
func TestNewCredentialIsTestedFirst_C2(t *testing.T) {
	w := apptest.New(t)
	c := w.Workspace()
	_, err := w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	change := connections.Change{Values: map[string]string{"token": "wrong"}}
	_, err = w.Connections.Update(t.Context(), "test", c.ID, 0, change)
	require.ErrorContains(t, err, "the ones that work were kept")
	opened, err := w.Connections.Open(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, "potting-shed", opened.Secret["token"])
	change.Untested = true
	_, err = w.Connections.Update(t.Context(), "test", c.ID, 0, change)
	require.NoError(t, err)
	_, err = w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	_, err = w.Connections.Update(t.Context(), "test", c.ID, 0,
		connections.Change{Values: map[string]string{"token": "wrong-as-well"}})
	require.NoError(t, err, "what does not work can be replaced by anything")
}

// Rights to write are asked for without changing anything.
func TestProbeAsksForWriteRights_C2(t *testing.T) {
	w := apptest.New(t)
	c := w.Workspace()
	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Status, Status: 403, Method: "PATCH"}))
	reports, err := w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	require.Len(t, reports, 2)
	assert.Equal(t, []adapter.State{adapter.Works, adapter.NotAllowed},
		[]adapter.State{reports[0].State, reports[1].State}, reports[1].Detail)
	w.Standins.ClearFaults()
	reports, err = w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, adapter.Works, reports[1].State)
	assert.Contains(t, reports[1].Detail, "unproven until the first run")
}

// A register that speaks only OneRoster 1.1 is found out by a test, once, and read like any other.
func TestRegisterOfAnOlderVersionIsRead(t *testing.T) {
	w := apptest.New(t)
	w.Standins.Register.SpeakOnly11()
	c := w.Register()
	reports, err := w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, adapter.Works, reports[0].State, reports[0].Detail)
	c, err = w.Connections.FindInterface(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, "1.1", c.Settings["version"])
	r := w.Read(c, false)
	assert.Equal(t, 165, r.Counts["enrolments"])
	assert.Equal(t, 12, w.Section("PROP-A").Learners)
	version := c.Version
	_, err = w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	c, err = w.Connections.FindInterface(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, version, c.Version, "nothing changed")
}

// A signing secret that is replaced goes on as the earlier one until it is taken away.
func TestReplacedSigningSecretGoesOn(t *testing.T) {
	w := apptest.New(t)
	c := w.Contacts()
	first := "whsec_RmVybm1vb3ItR2FyZGVuLVNjaG9vbC1kZW1vLXNlY3JldA=="
	change := func(values map[string]string) map[string]string {
		_, err := w.Connections.Update(t.Context(), "test", c.ID, 0,
			connections.Change{Values: values, Untested: true})
		require.NoError(t, err)
		opened, err := w.Connections.Open(t.Context(), c.ID)
		require.NoError(t, err)
		return opened.Secret
	}
	second, third := webhook.NewSecret(), webhook.NewSecret()
	both := map[string]string{"secret": second, "earlier": first}
	assert.Equal(t, both, change(map[string]string{"secret": second}))
	assert.Equal(t, both, change(map[string]string{"secret": second}), "the same again changes nothing")
	assert.Equal(t, map[string]string{"secret": second}, change(map[string]string{"earlier": ""}))
	assert.Equal(t, map[string]string{"secret": third, "earlier": first},
		change(map[string]string{"secret": third, "earlier": first}), "as it was given")
}

// A secret that is taken away is gone, the only one of an interface too.
func TestEmptiedSecretIsGone(t *testing.T) {
	w := apptest.New(t)
	c := w.Connect(adapter.KindHTTP, "API", map[string]string{"address": "https://x.example/api", "token": "seed"})
	_, err := w.Connections.Update(t.Context(), "Maud", c.ID, 0, connections.Change{
		Values: map[string]string{"token": ""}, Untested: true,
	})
	require.NoError(t, err)
	opened, err := w.Connections.Open(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Empty(t, opened.Secret)
}
