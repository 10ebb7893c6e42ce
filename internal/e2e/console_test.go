package e2e_test

import (
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// The console story: from the set-up link to a verified badge, in a browser, with
// no page ever refreshed by hand.
func TestConsoleStory(t *testing.T) {
	w := newWorld(t)
	b := newBrowser(t, w.service.Address)

	b.open("/setup?secret=" + w.service.SetupSecret)
	b.fill("name", "Maud Marrow")
	b.fill("email", scenario.Email)
	b.fill("password", "short")
	b.click("Set up")
	b.sees("use at least 12 characters")
	b.fill("password", scenario.Password)
	b.click("Set up")
	b.sees("First steps")
	b.sees("No register is connected.")

	connect(b, w)
	read(b)
	pair(b)
	makeRules(t, b, w)
	finish(t, b, w)

	uploadPackage(t, b, w)

	b.click("Sign out")
	b.sees("Sign in")
	b.open("/events")
	b.sees("Password")
	b.fill("email", scenario.Email)
	b.fill("password", "not the password")
	b.click("Sign in")
	b.sees("the e-mail address or the password is not right")
	b.fill("password", scenario.Password)
	b.click("Sign in")
	b.sees("What happened, once each")

	// Who could not be signed out is not shown as if they were.
	w.service.Stop()
	b.do(chromedp.Click("button.out")) // a page without its service does not come to rest
	b.sees("You are still signed in")
	b.sees("What happened, once each")
}

func connect(b *browser, w *world) {
	add := func(kind, name string, values ...string) {
		b.goes("Connections")
		b.click("Connect a system…")
		b.fill("name", name)
		b.choose("i0-kind", kind)
		for i := 0; i < len(values); i += 2 {
			b.fill("i0-"+values[i], values[i+1])
		}
		b.click("Save and test")
	}
	inOne := func(label string) string { return `//article//button[normalize-space(.)="` + label + `"]` }
	add("Register (OneRoster 1.2)", scenario.RegisterName, "address", w.At.Register, "tokenAddress", "oauth/token",
		"clientId", "kanban", "clientSecret", "red-fingers")
	b.sees("is not a full address")
	b.fill("i0-tokenAddress", w.At.Register+"/oauth/token")
	b.click("Save and test")
	b.sees("wrong credential")
	b.sees("Enter the credential again")
	b.press(inOne("Edit…"))
	b.fill("clientSecret", "green-fingers")
	b.click("Save and test")
	b.sees("A token was given out and people can be read.")

	add("Workspace (SCIM 2.0)", scenario.WorkspaceName, "address", w.At.Workspace+"/scim/v2", "token", "potting-shed",
		"notice", scenario.NoticeAttribute)
	b.sees("Groups can be read")

	// A second interface of a system that is connected already; the first one then needs a label.
	add("Service that takes signed events", "Plant news", "address", w.At.Contacts+"/events", "secret",
		"whsec_RmVybm1vb3ItR2FyZGVuLVNjaG9vbC1kZW1vLXNlY3JldA==")
	b.sees("A signed probe event was accepted.")
	b.click("Add an interface…")
	b.choose("kind", "Service with an API of its own (HTTP)")
	b.sees("call operations of its API when a rule says so")
	b.fill("address", w.At.Contacts+"/api")
	b.fill("token", "seed-packet")
	b.fill("probe", "/labels")
	b.click("Save and test")
	b.sees("API")
	b.press(`(` + inOne("Edit…") + `)[1]`)
	b.fill("label", "events")
	b.click("Save and test")
	b.sees("events")

	b.goes("Connections")
	b.click("Connect a system…")
	b.fill("name", scenario.MailName)
	b.choose("i0-kind", "Mail (SMTP)")
	b.fill("i0-server", w.At.SMTP)
	b.fill("i0-from", "kanban@fernmoor.example")
	b.choose("i0-security", "none")
	b.click("Save and test")
	b.sees("The server takes mail from")
	threeInterfaces(b, w)
}

// threeInterfaces connects a course platform with three interfaces on one page.
func threeInterfaces(b *browser, w *world) {
	b.goes("Connections")
	b.click("Connect a system…")
	b.fill("name", "Course platform")
	b.fill("site", w.At.Platform)
	b.choose("i0-kind", "Course platform (xAPI 1.0.3)")
	b.sees("what learners start, answer, pass, complete and score")
	b.click("Add another interface")
	b.fill("i0-label", "activity")
	b.fill("i1-label", "places")
	b.fill("i1-address", "scim/v2")
	b.fill("i1-token", "garden-gate")
	b.click("Add another interface")
	b.choose("i2-kind", "Course platform that picks enrolments up (OneRoster delta)")
	b.click("Save and test")
	b.sees("is not a full address")
	b.fill("i1-address", "/scim/v2")
	b.click("Save and test")
	b.sees("secrets are not shown again")
	b.sees("Course platform: pickup")
	shown := func(name string) string {
		return ask(b, chromedp.Evaluate[string](`[...document.querySelectorAll('.made')].find(x => x.innerText.startsWith('`+name+`')).querySelector('code').innerText`))
	}
	form := url.Values{}
	for _, name := range []string{"endpoint", "key", "secret"} {
		form.Set(name, shown(name))
	}
	resp, err := http.PostForm(w.At.Platform+"/reporting", form)
	require.NoError(b.t, err)
	resp.Body.Close()
	b.click("Done")
	b.sees("No statement has come yet")
	b.sees("Groups can be read")
	b.sees("Enrolments are kept for the platform to fetch.")
}

func read(b *browser) {
	b.goes("Connections")
	b.click("School register")
	b.click("Read now")
	b.sees("70 people")
	b.goes("Board")
	b.sees("Propagation A")
	b.goes("Sections")
	b.sees("Glasshouse climate A")
	b.picture("sections")
}

func pair(b *browser) {
	b.goes("Board")
	b.sees("not paired")
	card := `//a[contains(@class,"card")][.//span[normalize-space(.)="Propagation A"]]`
	b.press(card)
	b.sees("Pair Propagation A")
	b.choose("service", scenario.WorkspaceName) // of several none is chosen by itself
	b.fill("target", "Propagation, group A")
	b.click("Pair and preview")
	b.sees("e-mail address shared by two people (Dario Dill)")
	b.sees("no e-mail address")
	b.sees("test learner")
	b.sees("second account of a person already in")
	b.picture("preview")
	b.press(`[aria-label="Only Ada Alder"]`)
	b.sees("Run only these 1")
	b.press(`[aria-label="Only Ada Alder"]`)
	b.click("Run: 10 changes")
	b.sees("9 added")
	b.sees("1 refused")
	b.sees("Addresses of old.fernmoor.example are no longer accepted here.")
	b.picture("run-report")
	b.goes("Board")
	b.sees("4 things need a person today")
	b.picture("board")
}

// makeRules makes the badge and the second rule by hand, and the first through
// the API while the page is open: it appears by itself.
func makeRules(t *testing.T, b *browser, w *world) {
	w.Client = client.New(w.service.Address, "")
	_, err := w.Client.SignIn(t.Context(), api.SignIn{Email: scenario.Email, Password: scenario.Password})
	require.NoError(t, err)
	list, err := client.All[api.Section](t.Context(), w.Client, "/sections?hidden=*")
	require.NoError(t, err)
	for _, x := range list {
		if x.Code == "PROP-A" {
			w.Pairing.ID = x.PairingID
			require.NoError(t, w.Outline(t.Context(), x.CourseID))
		}
	}
	b.goes("Badges")
	b.sees("Nobody has been awarded yet.")
	b.click("Make a badge…")
	b.fill("badge-name", "Cuttings")
	b.fill("issuer", "Fernmoor Garden School")
	b.fill("description", "Takes softwood cuttings that root.")
	b.fill("criteria", "Finish every activity of the module Cuttings and pass its check.")
	b.click("Make")
	b.sees("Takes softwood cuttings that root.")

	b.goes("Rules")
	b.sees("No rule yet.")
	b.click("Make a rule…")
	b.fill("rule-name", "Cuttings badge")
	b.choose("trigger", "module completed")
	b.choose("scope-course", "Propagation")
	b.choose("scope-module", "Cuttings")
	b.click("+ award a badge")
	b.click("+ mail")
	b.fill("subject-2", "Well done, {{.person.givenName}}")
	b.fill("text-2", "Your badge for {{.module.title}}: {{.award.address}}")
	b.fill("condition", `event.percent >`)
	b.click("Save")
	b.sees("Syntax error")
	b.fill("condition", `event.percent > 0`)
	b.click("Save")
	b.sees("award a badge, then mail")
	b.sees("Propagation · Cuttings")
	b.press(`[aria-label="Cuttings badge is on"]`)
	b.sees("was not tried out as it is now")
	b.click("Switch it on all the same")
	soon(t, "the rule is on", func() bool {
		page, err := client.Get[api.Page[api.Rule]](t.Context(), w.Client, "/rules")
		return err == nil && len(page.Items) == 1 && page.Items[0].On
	})
	connections, err := client.Get[api.Page[api.Interface]](t.Context(), w.Client, "/interfaces")
	require.NoError(t, err)
	for _, c := range connections.Items {
		w.Interfaces[c.Name] = c
	}
	r, err := client.Post[api.Rule](t.Context(), w.Client, "/rules", api.NewRule{
		Name: "Greet new learners", Trigger: "section.joined", Condition: `event.role == "student"`,
		Actions: []api.Action{{
			Kind: "send-event", InterfaceID: w.Interfaces[scenario.ContactsName].ID,
			Fields: map[string]string{"email": "person.email", "label": `"learns " + course.title`},
		}},
	})
	require.NoError(t, err)
	_, err = client.Post[api.Rule](t.Context(), w.Client, "/rules/"+r.ID+"/switch",
		api.Switch{On: true, Untried: true})
	require.NoError(t, err)
	b.sees("Greet new learners")
}

func finish(t *testing.T, b *browser, w *world) {
	b.goes("Board")
	b.sees("4 things need a person today")
	require.NoError(t, w.Mend(t.Context()))
	b.sees("3 things need a person today") // without a refresh
	b.goes("Events")
	b.sees("run needs a person")
	require.NoError(t, w.Join(t.Context()))
	b.sees("section joined")
	b.sees("Tamsin Trial")
	require.NoError(t, w.Learn(t.Context()))
	b.sees("module completed")
	b.sees("badge awarded")
	b.sees("2 deliveries")
	row := `//tr/td[normalize-space(.)="module completed module.completed"]`
	b.press(row)
	b.sees("What followed from this event")
	b.sees("mail through School mail")
	b.press(`//details/summary`)
	b.picture("events")

	b.click("Tamsin Trial")
	b.sees("Sections, now and before")
	b.sees("Propagation, group A")
	b.sees("60 %")
	b.sees("signed event through Plant news")
	b.click("60 %")
	b.sees("Propagation A, activity by activity")
	b.sees("● passed")
	b.sees("○ not begun")

	b.goes("Connections")
	b.click("Course platform")
	b.sees("3 statements have come.")
	b.goes("Connections")
	b.sees("School register")
	b.picture("connections")
	b.goes("Badges")
	b.sees(w.Award.Address)
	b.do(chromedp.Navigate(w.Award.Address + "?address=tamsin.trial@fernmoor.example"))
	b.sees("Verified just now")
	b.sees("It was awarded to tamsin.trial@fernmoor.example")
	b.picture("badge")
	b.open("/awards")
	b.press(`[aria-label="Revoke Cuttings of Tamsin Trial"]`)
	b.click("Revoke")
	b.sees("whoever checks the badge is shown it")
	b.fill("reason", "Awarded to a test learner")
	b.click("Revoke")
	b.sees(": Awarded to a test learner")
	b.sees("0, revoked 1")
	b.do(chromedp.Navigate(w.Award.Address))
	b.sees("Revoked by the issuer on")
	b.open("/board")
	b.sees("3 things need a person today")
}

// uploadPackage connects a register of files and uploads one.
func uploadPackage(t *testing.T, b *browser, w *world) {
	req, err := http.NewRequest(http.MethodGet, w.At.Register+"/export.zip", nil)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "register.zip")
	require.NoError(t, os.WriteFile(file, []byte(body(t, req)), 0o600))
	b.goes("Connections")
	b.click("Connect a system…")
	b.choose("i0-kind", "Register as files (OneRoster CSV)")
	b.fill("name", "Register files")
	b.click("Save and test")
	b.sees("Packages are uploaded by hand.")
	b.do(chromedp.SetUploadFiles(`input[aria-label="Upload a package for Register files"]`, []string{file}))
	b.sees("Reading Register files")
	b.sees("70 people")
}
