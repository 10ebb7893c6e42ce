package e2e_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/scenario"
	"kanban/internal/standin/fault"
	"kanban/internal/wire/api"
)

// A service that keeps failing says so, with why and until when; an interface that is in
// use is removed only by its name, and comes back with all that was hidden with it.
func TestConsoleConnections(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	r, err := client.Post[api.Rule](t.Context(), w.Client, "/rules",
		api.NewRule{
			Name: "tell", Trigger: string(rule.SectionJoined),
			Actions: []api.Action{{
				Kind: rule.SendEvent, InterfaceID: w.Interfaces[scenario.ContactsName].ID,
				Fields: map[string]string{"email": "person.email", "label": `"learner"`},
			}},
		})
	require.NoError(t, err)
	_, err = client.Post[api.Rule](t.Context(), w.Client, "/rules/"+r.ID+"/switch",
		api.Switch{On: true, Untried: true})
	require.NoError(t, err)
	w.set("contacts", fault.Fault{Kind: fault.Status, Status: 429, RetryAfter: 600, Path: "/events"})
	w.office("enrolments", "person", "stu-030", "section", "sec-soil-a")
	_, err = w.Read(t.Context())
	require.NoError(t, err)

	b := w.browse("/connections")
	b.sees("The service rests until")
	b.sees("1 delivery waits")
	b.open("/")
	b.sees("service keeps failing and rests")
	w.clear("contacts")

	b.open("/connections")
	b.click("School register")
	b.sees("minded by School office")
	b.click("Remove…")
	b.sees("9 sections")
	b.fill("typed", "School register")
	b.click("Remove")
	b.sees("Restore")
	b.open("/sections")
	b.sees("No section")
	b.open("/connections")
	b.click("Restore")
	b.until(`!document.body.innerText.includes("Restore")`) // leaving the page would end the request
	b.open("/sections")
	b.sees("Propagation A")
}
