package e2e_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// Switching a rule off asks about what it has still to come, in console, command line and
// API; what nobody wants any more is given up with a reason.
func TestOffMeansOff_E8(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	made := map[string]api.Rule{}
	for _, name := range []string{"Reminder", "Second reminder"} {
		made[name] = w.ruleOn(api.NewRule{Name: name, Trigger: string(rule.SectionJoined), Actions: []api.Action{{
			Kind: rule.Mail, InterfaceID: w.Interfaces[scenario.MailName].ID, Subject: "Welcome",
			Text: "Dear {{.person.givenName}}", After: "2d",
		}}})
	}
	w.office("enrolments", "person", "stu-040", "section", "sec-prop-a")
	_, err := w.Read(t.Context())
	require.NoError(t, err)
	planned := func(id, state string) int {
		all, err := client.All[api.Delivery](t.Context(), w.Client, "/deliveries?rule="+id+"&state="+state)
		require.NoError(t, err)
		return len(all)
	}
	soon(t, "both are planned", func() bool {
		return planned(made["Reminder"].ID, "queued") == 1 && planned(made["Second reminder"].ID, "queued") == 1
	})
	_, err = client.Post[api.Rule](t.Context(), w.Client, "/rules/"+made["Reminder"].ID+"/switch",
		api.Switch{On: false})
	var p *client.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, http.StatusConflict, p.Status)
	assert.Equal(t, "deliveries-still-to-come", p.Code())

	b := w.browse("/rules/" + made["Reminder"].ID)
	b.click("Switch off")
	b.sees("1 queued")
	b.picture("switch-off")
	b.click("Leave it on")
	b.sees("Switch off")
	b.click("Switch off")
	b.click("Stop them")
	b.sees("Switch on")
	assert.Equal(t, 1, planned(made["Reminder"].ID, "stopped"))
	b.click("Switch on")
	b.sees("was not tried out as it is now; try it first, or switch it on all the same")
	b.picture("untried")
	b.click("Leave it off")
	b.click("Switch on")
	b.click("Switch it on all the same")
	b.sees("Switch off")

	b.open("/deliveries?rule=" + made["Second reminder"].ID + "&state=queued")
	b.sees("Second reminder")
	b.click("Give these up…")
	b.fill("reason", "nobody wants it")
	b.picture("give-up")
	b.click("Give them up")
	b.sees("Given up: 1.")
	assert.Equal(t, 1, planned(made["Second reminder"].ID, "stopped"))

	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	cli := w.expecting(env)
	cli(0, "given up by Maud Marrow: nobody wants it", "deliveries", "list", "--state", "stopped")
	cli(0, "Given up: 0.", "deliveries", "give-up", "--rule", "Second reminder", "--reason", "again")
	cli(2, "Required flag", "deliveries", "give-up", "--rule", "Second reminder")
	cli(2, "exclude each other", "rules", "off", "Second reminder", "--stop", "--finish")
	cli(0, `"Second reminder" is off.`, "rules", "off", "Second reminder")
}
