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
	b.sees("rules.yaml:118 rules[8].trigger")
	require.NoError(t, os.WriteFile(file, []byte(next), 0o600))
	b.do(chromedp.SetUploadFiles(`#set-up-files`, []string{file}))
	b.sees("0 added, 1 changed, 1 waiting for a register; 6 as in the files already.")
	b.sees("is switched off: try it and switch it on")
	b.sees(`there is no course "NEXT-YEAR"; it comes in once a register has it`)
	b.picture("set-up-files")
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
	for label, option := range map[string]string{
		"The badge that is awarded": "Grafter", "The module that has to be finished": "Propagation: Grafting",
	} {
		b.press(`[aria-label="` + label + `"]`)
		b.press(`//li[@role="option"][normalize-space(.)=` + xpath(option) + `]`)
	}
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
