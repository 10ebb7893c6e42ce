package web_test

import (
	"encoding/json"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/connections"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/wire/api"
)

// A person's page says for each section whether they are in the class, and if not, why not
// and what to do.
func TestPersonsPageSaysWhetherTheyAreIn_P1(t *testing.T) {
	x := open(t, nil)
	x.Read(x.Register(), false)
	workspace := x.Workspace()
	section := x.Section("PROP-A")
	where := func(who string) api.InClass {
		t.Helper()
		resp, text := x.ask(http.MethodGet, "/api/v1/people/"+x.Person(who).ID, "", x.bearer()...)
		require.Equal(t, http.StatusOK, resp.StatusCode, text)
		var page api.PersonPage
		require.NoError(t, json.Unmarshal([]byte(text), &page))
		for _, w := range page.Sections {
			if w.SectionID == section.ID {
				assert.NotZero(t, w.JoinedAt)
				return w.Class
			}
		}
		t.Fatalf("%s is not in the section", who)
		return api.InClass{}
	}
	assert.Equal(t, "no-class", where("stu-008").State)
	p := pairingstore.Pairing{
		ID: db.NewID(), SectionID: section.ID, InterfaceID: workspace.ID, TargetName: "Prop",
		Policy: roster.DefaultPolicy(),
	}
	require.NoError(t, x.Store.InTx(t.Context(), func(tx *db.Tx) error { return db.Create(tx, &p, "pairing") }))
	assert.Equal(t, "not-known", where("stu-008").State, "it was not looked at yet")
	x.Sync(p.ID, false)
	in := where("stu-008")
	assert.Equal(t, []any{"in", workspace.Name, true, ""}, []any{in.State, in.Service, in.Since != nil, in.Why})
	out := where("stu-005") // without an address
	assert.Equal(t, "not-in", out.State)
	assert.Equal(t, "address-missing", string(out.Code))
	assert.Contains(t, out.Remedy, "Enter the address")
	assert.Equal(t, "register office", out.Owner)
	assert.NotNil(t, out.AsOf)
}

// The list of runs stays whole when a register is removed that was read.
func TestRunsOfWhatWasRemovedAreListed(t *testing.T) {
	x := open(t, nil)
	register := x.Register()
	x.Read(register, false)
	require.NoError(t, x.Connections.Remove(t.Context(), "test", register.ID, register.Name))
	resp, text := x.ask(http.MethodGet, "/api/v1/runs", "", x.bearer()...)
	require.Equal(t, http.StatusOK, resp.StatusCode, text)
	var page api.Page[api.Run]
	require.NoError(t, json.Unmarshal([]byte(text), &page))
	require.Len(t, page.Items, 1)
	assert.Equal(t, register.Name+" (removed)", page.Items[0].About)
	assert.Empty(t, page.Items[0].InterfaceID, "it leads nowhere")
}

// What has a page at the other side leads there, once the interface says where; what has none does not.
func TestLinksToTheOtherSide(t *testing.T) {
	x := open(t, nil)
	register, workspace := x.Register(), x.Workspace()
	x.Read(register, false)
	section := x.Section("PROP-A")
	p := pairingstore.Pairing{
		ID: db.NewID(), SectionID: section.ID, InterfaceID: workspace.ID, TargetName: "Prop",
		Policy: roster.DefaultPolicy(),
	}
	require.NoError(t, x.Store.InTx(t.Context(), func(tx *db.Tx) error { return db.Create(tx, &p, "pairing") }))
	get := func(path string, into any) {
		t.Helper()
		resp, text := x.ask(http.MethodGet, "/api/v1"+path, "", x.bearer()...)
		require.Equal(t, http.StatusOK, resp.StatusCode, text)
		require.NoError(t, json.Unmarshal([]byte(text), into))
	}
	var plain api.Pairing
	get("/pairings/"+p.ID, &plain)
	assert.Empty(t, plain.Section.Page)
	templates := map[string]string{
		"classPage": "https://there.example/classes/{id}", "personPage": "https://there.example/people/{id}",
	}
	for _, id := range []string{register.ID, workspace.ID} {
		_, err := x.Connections.Update(t.Context(), "test", id, 0, connections.Change{Values: templates})
		require.NoError(t, err)
	}
	var shown api.Pairing
	get("/pairings/"+p.ID, &shown)
	assert.Equal(t, "https://there.example/classes/sec-prop-a", shown.Section.Page)
	assert.Empty(t, shown.Section.TargetPage, "the class is not made yet")
	x.Sync(p.ID, false)
	get("/pairings/"+p.ID, &shown)
	require.NotEmpty(t, shown.TargetRef)
	assert.Equal(t, "https://there.example/classes/"+shown.TargetRef, shown.Section.TargetPage)
	var list api.SectionPage
	get("/sections?text=Propagation+A", &list)
	require.Len(t, list.Items, 1)
	assert.Equal(t, shown.Section.TargetPage, list.Items[0].TargetPage)
	var person api.PersonPage
	get("/people/"+x.Person("stu-008").ID, &person)
	assert.Equal(t, "https://there.example/people/stu-008", person.Page)
	require.Len(t, person.Accounts, 1)
	assert.Equal(t, "https://there.example/people/"+person.Accounts[0].RemoteID, person.Accounts[0].Page)
}
