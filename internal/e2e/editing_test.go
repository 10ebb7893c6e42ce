package e2e_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// Two who edit the same at the same time: nobody's change is overwritten unseen, and what was
// typed stays.
func TestTwoWhoEditAtOnce(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair)
	path := "/pairings/" + w.Pairing.ID
	number := func() int {
		p, err := client.Get[api.Pairing](t.Context(), w.Client, path)
		require.NoError(t, err)
		return p.Policy.RemovalNumber
	}
	other := func(n int) {
		p, err := client.Get[api.Pairing](t.Context(), w.Client, path)
		require.NoError(t, err)
		p.Policy.RemovalNumber = n
		_, err = client.Edit[api.Pairing](t.Context(), w.Client, http.MethodPatch, path, p.Version,
			api.EditPairing{Policy: &p.Policy})
		require.NoError(t, err)
	}
	b := w.browse(path)
	b.click("change…")
	b.fill("number", "7")
	other(11)
	b.click("Save")
	b.sees("Somebody changed this in the meantime; nothing was overwritten. It differs from yours: policy.removalNumber is 11 now")
	b.picture("two-edit")
	assert.Equal(t, 11, number(), "theirs stands")
	b.until(`document.getElementById('number').value === '7'`) // what was typed stays
	other(12)
	b.click("Save mine all the same")
	b.sees("nothing was overwritten") // changed once more since
	assert.Equal(t, 12, number())
	b.click("Save mine all the same")
	b.until(`!document.getElementById('number')`)
	assert.Equal(t, 7, number())

	// A page that follows what others do does not take away what is being typed.
	b.open("/settings")
	b.sees("The first is used wherever none is named")
	b.click("Add a template")
	templates, err := client.Get[[]api.Template](t.Context(), w.Client, "/templates")
	require.NoError(t, err)
	before := len(templates)
	templates = append(templates, api.Template{Name: "Theirs", Target: "{section}", Policy: templates[0].Policy})
	_, err = client.Send[[]api.Template](t.Context(), w.Client, http.MethodPut, "/templates", templates)
	require.NoError(t, err)
	b.set(`(//form//label[normalize-space(.)="Name"]/following-sibling::input)[last()]`, "Mine")
	b.click("Save")
	b.sees("Somebody changed this in the meantime")
	now, err := client.Get[[]api.Template](t.Context(), w.Client, "/templates")
	require.NoError(t, err)
	assert.Len(t, now, before+1)
	b.open("/settings") // read again: theirs is there
	b.until(`[...document.querySelectorAll('form input')].some(i => i.value === 'Theirs')`)
}

// Who wants no more mails of a rule is on its page, and can have them again.
func TestUnsubscribedAreOnTheRulesPage(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	r := w.ruleOn(api.NewRule{
		Name: "Greeting", Trigger: string(rule.SectionJoined),
		Actions: []api.Action{{
			Kind: rule.Mail, InterfaceID: w.Interfaces[scenario.MailName].ID, Subject: "Welcome",
			Text: "Dear {{.person.givenName}}",
		}},
	})
	w.office("enrolments", "person", "stu-040", "section", "sec-prop-a")
	_, err := w.Read(t.Context())
	require.NoError(t, err)
	link := w.mailedLink("/open/unsubscribe/")
	b := w.browse("/rules/" + r.ID)
	b.sees("Greeting")
	req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, w.service.Address+link,
		strings.NewReader("List-Unsubscribe=One-Click"))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	body(t, req)
	b.open("/rules/" + r.ID)
	b.sees("1 unsubscribed from its mails")
	b.picture("unsubscribed")
	b.click("Send them again")
	b.until(`!document.body.innerText.includes('unsubscribed from its mails')`)

	// Whether progress counts across the sections of a course is said where outlines are.
	b.open("/outlines")
	b.sees("Progress in a course counts in every section of it that somebody comes into")
	b.press("#across")
	soon(t, "it is off", func() bool {
		s, err := client.Get[api.LearningSettings](t.Context(), w.Client, "/learning-settings")
		return err == nil && !s.Across
	})
	b.picture("across")
}
