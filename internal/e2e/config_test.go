package e2e_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// A set-up is exported, changed in an editor, compared and taken in, in the console.
func TestConsoleSetUpFiles(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	expect := w.expecting(env)
	folder := t.TempDir()
	expect(0, "Wrote 11 files", "config", "export", folder)
	file := filepath.Join(folder, "rules.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	next := strings.Replace(string(text), "your plants miss you", "the greenhouse misses you", 1) + `  - name: Soil again
    trigger: module.completed
    scope: {course: NEXT-YEAR}
    actions: [{kind: award, badge: Cuttings}]
`
	require.NotEqual(t, string(text), next)

	b := w.browse("/settings/set-up")
	b.sees("Choose files to see what they would change here")
	require.NoError(t, os.WriteFile(file, []byte(next+"  - {name: Wrong, trigger: x, actions: []}\n"), 0o600))
	b.do(chromedp.SetUploadFiles(`#set-up-files`, []string{file}))
	b.sees("1 fault in the files")
	b.sees("rules.yaml:124 rules[8].trigger")
	require.NoError(t, os.WriteFile(file, []byte(next), 0o600))
	b.do(chromedp.SetUploadFiles(`#set-up-files`, []string{file}))
	b.sees("0 added, 1 changed, 1 waiting for a register; 6 as in the files already.")
	b.sees("is switched off: try it and switch it on")
	b.sees(`there is no course "NEXT-YEAR"; it comes in once a register has it`)
	b.click("Take in exactly this")
	b.sees("● Done: 0 added, 1 changed, 1 waiting")
	b.sees("Waiting for a register")
	expect(0, "Nothing to change: 8 things are", "config", "compare", file)
	b.click("Do not wait")
	b.until(`!document.body.innerText.includes('Waiting for a register')`)
	expect(0, "Nothing waits.", "config", "waiting")
	b.open("/rules")
	b.until(`document.querySelector('[aria-label="We miss you is on"]')?.checked === false`)
}

// What the demo has set up is the same in an empty installation, before and after its register is read.
func TestDemosSetUpIsTheSameElsewhere(t *testing.T) {
	w := newWorld(t)
	other := anotherWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	other.to()
	files := func(w *world) map[string]string {
		t.Helper()
		got, err := client.Get[api.ConfigFiles](t.Context(), w.Client, "/config")
		require.NoError(t, err)
		return got.Files
	}
	apply := func() api.ConfigComparison {
		t.Helper()
		c, err := client.Post[api.ConfigComparison](t.Context(), other.Client, "/config/apply",
			api.ConfigApply{ConfigFiles: api.ConfigFiles{Files: files(w)}})
		require.NoError(t, err)
		require.Empty(t, c.Faults)
		return c
	}
	require.NotEmpty(t, apply().Changes)
	require.Equal(t, files(w), files(other))
	require.Empty(t, apply().Changes, "once more changes nothing")

	all, err := client.All[api.Interface](t.Context(), other.Client, "/interfaces")
	require.NoError(t, err)
	for _, x := range all {
		assert.True(t, x.Paused, "%s acts for nobody", x.Name)
		if x.Name == scenario.RegisterName {
			other.Interfaces[x.Name] = x
			on := false
			_, err := client.Send[api.Interface](t.Context(), other.Client, "PATCH", "/interfaces/"+x.ID,
				api.EditInterface{Values: map[string]string{"clientSecret": "green-fingers"}, Paused: &on})
			require.NoError(t, err)
		}
	}
	_, err = other.Read(t.Context()) // that of the other world, whose address stands in the files
	require.NoError(t, err)
	soon(t, "what waited has come in", func() bool {
		waiting, err := client.Get[[]api.ConfigWaiting](t.Context(), other.Client, "/config/waiting")
		return err == nil && len(waiting) == 0
	})
	require.Equal(t, files(w), files(other))
	require.Empty(t, apply().Changes)
	rules, err := client.All[api.Rule](t.Context(), other.Client, "/rules")
	require.NoError(t, err)
	for _, r := range rules {
		assert.False(t, r.On, r.Name)
	}
}

// An interface is let in by signing in at its service, in the browser; another account is asked about.
func TestConsoleSigningIn(t *testing.T) {
	w := newWorld(t)
	w.to()
	c := w.connect("http-api", "Labels", map[string]string{
		"address": w.At.Contacts + "/api", "probe": "/labels", "letInBy": "signing in", "signInAt": w.At.Contacts,
		"clientId": "kanban-app", "clientSecret": "seed-tray", "scopes": "labels.read labels.write",
	})
	b := w.browse("/connections/" + c.ConnectionID)
	b.sees("Nobody has signed in at the service yet.")
	b.click("Sign in…")
	b.sees("An app called kanban-app asks for: labels.read labels.write")
	b.leaves("#refuse")
	b.sees("the service granted nothing: You refused.")
	b.leaves("main p a")
	b.click("Sign in…")
	b.leaves("#allow")
	b.sees("Access is granted by newsletter@fernmoor.example")
	b.leaves("main p a")
	b.sees("Let in as newsletter@fernmoor.example, with labels.read, labels.write.")
	b.sees("it renews itself")
	b.click("Test")
	b.sees("GET /labels was answered.")
	b.click("Sign in again…")
	b.choose("account", "maud@fernmoor.example")
	b.leaves("#allow")
	b.sees("that is another account than before")
	b.open(ask(b, chromedp.Evaluate[string](`location.pathname + location.search`))) // reloaded: a code counts once
	b.sees("was used already")
	b.open("/connections/" + c.ConnectionID)
	b.sees("Somebody signed in as maud@fernmoor.example")
	b.click("Take it")
	b.sees("Let in as maud@fernmoor.example")

	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	expect := w.expecting(env)
	expect(1, "waiting for a decision", "interfaces", "sign-in", "Labels", "--drop")
	expect(1, "nobody has signed in yet", "interfaces", "sign-in", "Labels", "--wait", "1ms")
	expect(0, "is given up", "interfaces", "sign-in", "Labels", "--end")
	expect(3, "nobody has signed in at the service yet", "interfaces", "probe", "Labels")
}

// A ready rule only has to be told what it needs.
func TestConsoleReadyRules(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	b := w.browse("/rules")
	b.click("Ready rules…")
	b.press(`[aria-label="Choose Badge for a module"]`)
	b.sees("The module that has to be finished")
	b.click("Make the rule")
	b.sees("is missing (the badge that is awarded): choose one of Cuttings, Grafter, Propagation")
	b.choose("ready-badge", "Grafter")
	b.choose("ready-module", "Propagation: Grafting")
	b.set("#ready-name", "Grafting badge")
	b.click("Make the rule")
	b.sees("Grafting badge")
	b.until(`location.pathname.startsWith('/rules/')`)
	rules, err := client.All[api.Rule](t.Context(), w.Client, "/rules")
	require.NoError(t, err)
	found := false
	for _, r := range rules {
		if r.Name == "Grafting badge" {
			found = true
			assert.False(t, r.On, "it arrives switched off")
			assert.Equal(t, "mod-grafting", r.Scope.Module)
			assert.NotEmpty(t, r.Scope.Course)
			require.Len(t, r.Actions, 2)
		}
	}
	assert.True(t, found)
}

// leaves presses what leads to another page, away from whoever presses.
func (b *browser) leaves(selector string) {
	b.t.Helper()
	b.until(`!!document.querySelector(` + quoted(selector) + `)`)
	_, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`document.querySelector(`+quoted(selector)+`).click() || true`))
	if err != nil && !gaveWay(err) {
		require.NoError(b.t, err)
	}
}
