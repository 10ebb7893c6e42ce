package e2e_test

import (
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/roster"
	"kanban/internal/scenario"
	"kanban/internal/standin/platform"
	"kanban/internal/wire/api"
)

// An administrator finds out in the console what a read changed, whether somebody is in
// their classes and why not, says what records are, and gives access by hand.
func TestConsolePeople_P1(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	req, err := http.NewRequest(http.MethodPost, w.At.Platform+"/scim/v2/Users",
		strings.NewReader(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"pia@fernmoor.example","name":{"givenName":"Pia","familyName":"Preview"},"emails":[{"value":"pia@fernmoor.example"}]}`))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+platform.Token)
	req.Header.Set("Content-Type", "application/scim+json")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	require.Equal(t, http.StatusCreated, resp.StatusCode)
	w.office("people/stu-010", "email", "janosch@fernmoor.example")
	run, err := w.Read(t.Context())
	require.NoError(t, err)
	pairing := w.pairNow("PROP-A", func(*roster.Policy) {})
	w.Pairing.ID = pairing
	_, err = w.Sync(t.Context())
	require.NoError(t, err)

	b := w.browse("/runs/" + run.ID)
	b.sees("What changed in the register")
	b.sees("janosch@fernmoor.example")

	found, err := client.Get[api.Page[api.Person]](t.Context(), w.Client, "/people?text=stu-001")
	require.NoError(t, err)
	b.open("/people/" + found.Items[0].ID)
	b.sees("in the class since")
	found, err = client.Get[api.Page[api.Person]](t.Context(), w.Client, "/people?text=stu-005")
	require.NoError(t, err)
	b.open("/people/" + found.Items[0].ID)
	b.sees("▲ not in the class: no e-mail address")
	b.sees("Enter the address in the register.")

	register := w.Interfaces[scenario.RegisterName]
	b.open("/interfaces/" + register.ID + "/proposals")
	b.sees("Pia Preview")
	b.sees("its name is Pia Preview")
	b.click("Accept it")
	b.sees("1 decided")
	b.sees("No record looks like a second account")

	shop := w.connect("cloudevents", "Shop", nil)
	require.Equal(t, "Shop", shop.Name)
	b.open("/access")
	b.click("Make an offer…")
	b.fill("offer-name", "Soil place")
	b.choose("shop", "Shop")
	b.fill("sold-as", "soil")
	b.set(`input[aria-label="Sections"]`, "Soil sci")
	b.sees("Soil science A · SOIL-A First term")
	b.press(`li[aria-label="Soil science A · SOIL-A"]`)
	b.click("Save")
	b.until(`!document.querySelector('[role=dialog]')`)
	b.until(`[...document.querySelectorAll('tr')].some(r => r.innerText.includes('Soil place') && r.innerText.includes('1 section'))`)
	offers, err := client.Get[api.Page[api.Offer]](t.Context(), w.Client, "/offers")
	require.NoError(t, err)
	i := slices.IndexFunc(offers.Items, func(o api.Offer) bool { return o.Name == "Soil place" })
	require.GreaterOrEqual(t, i, 0)
	offer := offers.Items[i]
	require.Len(t, offer.SectionIDs, 1)
	b.open("/access/" + offer.ID)
	b.sees("Nothing was bought or given yet.")
	b.click("Give access by hand…")
	b.finds("name, address or identifier", "stu-030", "stu-030")
	b.fill("reason", "Won it at the fair")
	b.click("Give access")
	b.sees("by hand, Maud Marrow: Won it at the fair")
	b.press(`button[aria-label^="End the access of"]`)
	b.fill("reason", "The fair is over")
	b.click("End it")
	b.sees("□ ended")
	accesses, err := client.All[api.Access](t.Context(), w.Client, "/accesses")
	require.NoError(t, err)
	require.Len(t, accesses, 1)
	assert.Equal(t, "ended", accesses[0].State)
	assert.NotEmpty(t, pairing)
}
