package e2e_test

import (
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/stage"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// Stages in the console: how far a group has come, who never opened the course, a
// stage plan made, looked at first, switched on and removed, and a badge that is held
// though its stage is open again.
func TestConsoleStages(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	b := w.browse("/stage-plans")
	b.sees("First cuttings → Badge in hand → First graft → Course and badge")
	b.sees("1 of 38")
	b.click(scenario.StagePlanName)
	b.sees("finish the module Grafting; score at least 80 % in Cuttings: what do you know? · gives the badge Grafter")
	b.sees("Basil Bough")
	b.picture("stages")
	b.press(`//button[contains(normalize-space(.), "First graft is next for")]`)
	b.sees("People for whom First graft is next")
	b.until(`document.querySelectorAll('tbody tr').length === 1`)
	b.sees("Tamsin Trial")
	b.press(`//button[contains(@class, "line")][.//span[normalize-space(.)="Never opened"]]`)
	b.until(`document.querySelectorAll('tbody tr').length === 36`)

	// One more, whose first stage gives a badge.
	b.open("/stage-plans")
	b.click("Make a stage plan…")
	b.fill("stage-plan-name", "Beginner")
	b.choose("stage-plan-course", "Propagation")
	b.set(`[aria-label="Title of stage 1"]`, "Clean hands")
	b.click("Whom would it find?")
	b.sees(`a criterion of stage "Clean hands" does not say which module`)
	b.label("Module 1.1", "Cuttings")
	b.label("Criterion 1.1", "any of")
	b.label("Module 1.1.2", "Grafting")
	b.label("Badge of stage 1", "Grafter")
	b.click("Whom would it find?")
	b.sees("Of 38 people 2 would have finished; 1 badge would be awarded at once.")
	b.click("Save")
	b.sees("○ off: nothing is worked out or awarded")
	b.click("Switch on…")
	b.sees("Clean hands: reached by 2")
	b.click("Switch on")
	b.sees("● on since")
	b.press(`//button[contains(normalize-space(.), "reached Clean hands")]`)
	b.sees("Tamsin Trial") // without a refresh

	// Somebody's stage is open again; the badge is for a person to decide.
	id, version := "", 0
	page, err := client.Get[api.Page[api.StagePlan]](t.Context(), w.Client, "/stage-plans")
	require.NoError(t, err)
	for _, p := range page.Items {
		if p.Name == "Beginner" {
			id, version = p.ID, p.Version
			require.Equal(t, stage.Any, p.Stages[0].Criteria[0].Kind)
			p.Stages[0].Criteria[0] = stage.Criterion{Kind: stage.Module, ModuleID: "mod-grafting"}
			require.Equal(t, 2, version)
			_, err := client.Send[api.StagePlan](t.Context(), w.Client, "PUT", "/stage-plans/"+id, p.NewStagePlan)
			require.NoError(t, err)
		}
	}
	found, err := client.Get[api.Page[api.Person]](t.Context(), w.Client,
		"/people?text="+url.QueryEscape("Tamsin Trial"))
	require.NoError(t, err)
	b.open("/people/" + found.Items[0].ID)
	b.sees("▲ holds the badge Grafter, though not reached")
	b.sees("· ahead")
	b.click("Revoke…")
	b.fill("reason", "The stage takes more now")
	b.click("Revoke")
	b.sees("gives the badge Grafter")
	b.sees(": The stage takes more now")

	// What somebody approves for those who are ticked, and withdraws for one.
	b.open("/stage-plans")
	b.click("Make a stage plan…")
	b.fill("stage-plan-name", "Shower")
	b.choose("stage-plan-course", "Propagation")
	b.set(`[aria-label="Title of stage 1"]`, "Shown")
	b.label("Criterion 1.1", "somebody approves")
	b.click("Whom would it find?")
	b.sees("does not say what is to be approved")
	b.set(`[aria-label="What is approved, 1.1"]`, "Shows a graft")
	b.press(`//label[normalize-space(.)="in any order"]`)
	b.sees("whatever stands before it")
	b.click("Save")
	b.sees("approved by somebody: Shows a graft")
	b.click("Switch on…")
	b.click("Switch on")
	b.sees("● on since")
	b.press(`//button[contains(normalize-space(.), "Shown is still open for")]`)
	b.sees("Tick whom you approve it for.")
	for _, who := range []string{"Basil Bough", "Tamsin Trial"} {
		b.press(`[aria-label="Tick ` + who + `"]`)
		b.until(`document.querySelector('[aria-label="Tick ` + who + `"]').checked`)
	}
	b.press(`//button[normalize-space(.)="Approve “Shows a graft” for 2 people"]`)
	b.until(`!document.querySelector('[aria-label="Tick Tamsin Trial"]')`)
	b.press(`//button[contains(normalize-space(.), "reached Shown")]`)
	b.until(`document.querySelectorAll('tbody tr').length === 2`)
	b.sees("median under a day, of 2")
	b.open("/people/" + found.Items[0].ID)
	b.press(`[aria-label="Withdraw: Shows a graft"]`)
	b.until(`!!document.querySelector('[aria-label="Approve Shows a graft"]')`)

	b.open("/stage-plans/" + id)
	b.click("Map")
	b.until(`document.querySelector("img.map")?.naturalWidth > 0`)
	b.click("Switch off")
	b.click("Remove")
	b.sees("1 of 38")
	b.until(`!document.body.innerText.includes('Beginner')`)
}

func TestCommandLineStages(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair, w.FirstRun, w.SecondRun, w.Mend, w.SwitchOn, w.Join, w.Learn)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	expect := w.expecting(env)
	expect(0, "Propagator", "stages", "list")
	made := []string{
		"stages", "add", "Gardener", "--course", "PROP", "--stage",
		"Cutter: module Cuttings; score Cuttings: what do you know? 80", "--stage", "Helper: badge Cuttings",
		"--stage", "Through: course", "--optional", "Helper",
	}
	expect(2, "is no criterion", "stages", "add", "X", "--course", "PROP", "--stage", "Sower: grow")
	expect(2, `has no module "Nope"`, "stages", "add", "X", "--course", "PROP", "--stage", "Sower: module Nope")
	expect(2, "does not end with a percentage", "stages", "add", "X", "--course", "PROP", "--stage",
		"Sower: score Check")
	expect(2, "not of the form TITLE", "stages", "add", "X", "--course", "PROP", "--stage", "Sower")
	expect(2, `no --stage called "Nobody"`, append(made, "--gives", "Nobody=Cuttings")...)
	expect(2, "asks for the badge that it gives", append(made, "--gives", "Helper=Cuttings")...)
	expect(0, "Badges that would be awarded at once: 0", append(made, "--preview")...)
	expect(2, "is not closed", "stages", "add", "X", "--course", "PROP", "--stage", "Sower: any of (module Cuttings")
	expect(2, "needs 3 of 2", "stages", "add", "X", "--course", "PROP", "--preview", "--stage",
		"Sower: 3 of (module Cuttings; course)")
	nested := []string{
		"stages", "add", "Either", "--course", "PROP", "--stage",
		"Ready: any of (badge Cuttings; all of (module Cuttings; module Grafting)); 1 of (course; module Cuttings)",
	}
	expect(0, "1 would have finished", append(nested, "--preview")...)
	expect(0, "It is off", nested...)
	expect(0, "kind: any", "stages", "show", "Either")
	expect(0, "It is off", append(made, "--gives", "Through=Cuttings")...)
	expect(2, "another stage plan is called", made...)
	expect(0, "off", "stages", "list")
	expect(0, "is on", "stages", "on", "gardener")
	soon(t, "Tamsin is found", func() bool {
		out, _ := w.cli(env, "stages", "people", "Gardener", "--reached", "Helper")
		return strings.Contains(out, "Tamsin Trial")
	})
	expect(0, "never opened the course, 0 finished", "stages", "group", "Gardener")
	expect(0, "12 people; 12 never opened", "stages", "group", "Gardener", "--section", "PROP-B")
	for form, begins := range map[string]string{".svg": "<svg", ".png": "\x89PNG", ".pdf": "%PDF-"} {
		file := filepath.Join(t.TempDir(), "map"+form)
		expect(0, "Drew Gardener", "stages", "map", "Gardener", file, "--section", "PROP-B")
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(string(content), begins), form)
	}
	expect(2, "ends with .svg", "stages", "map", "Gardener", "map.gif")
	expect(0, "Ada Alder", "stages", "people", "Gardener", "--state", "not-opened", "--missing", "Cutter")
	expect(0, "Nobody fits", "stages", "people", "Gardener", "--state", "finished")
	expect(2, `has no stage "Mower"`, "stages", "people", "Gardener", "--at", "Mower")
	expect(0, "● score at least 80 % in Cuttings: what do you know?", "stages", "person", "Tamsin Trial")
	expect(0, "Helper", "events", "list", "--type", "stage.reached")

	file := filepath.Join(t.TempDir(), "gardener.yaml")
	text := expect(0, `title: Cutter`, "stages", "show", "Gardener")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, `atLeast: 0.8`, `atLeast: 0.99`, 1)),
		0o600))
	expect(0, "atLeast: 0.8 → 0.99", "config", "compare", file)
	expect(0, "is switched off", "config", "apply", file)
	expect(0, "Nothing was changed", "stages", "preview", "Gardener")
	expect(0, "is on", "stages", "on", "Gardener")
	soon(t, "the stage is open again", func() bool {
		out, _ := w.cli(env, "events", "list", "--type", "stage.reopened")
		return strings.Contains(out, "Cutter")
	})
	expect(0, "It is off", "stages", "add", "Shower", "--course", "PROP", "--any-order", "--stage",
		"Shown: approval Shows a graft", "--stage", "Seen: any of (approval Shows a cutting; module Grafting)")
	expect(0, "is on", "stages", "on", "Shower")
	expect(2, "asks nobody to approve", "stages", "approve", "Gardener", "Ada Alder")
	expect(2, "say with --what which of these", "stages", "approve", "Shower", "Ada Alder")
	expect(2, "name the stage plan and the people", "stages", "approve", "Shower")
	expect(0, "Approved for 2 people: Shows a graft", "stages", "approve", "Shower", "Ada Alder", "Bram Birch", "--what",
		"shows a graft", "--note", "Seen on Monday")
	expect(0, "Bram Birch", "stages", "people", "Shower", "--reached", "Shown")
	expect(0, "Withdrawn for 1 person", "stages", "approve", "Shower", "Bram Birch", "--what", "Shows a graft", "--withdraw")
	expect(0, "under 1 day", "stages", "group", "Shower")
	expect(0, "Nobody fits", "stages", "people", "Shower", "--at-for", "3")
	expect(0, "what: Shows a cutting", "stages", "show", "Shower")
	expect(1, "switch it off first", "stages", "remove", "Gardener")
	expect(0, "is off", "stages", "off", "Gardener")
	expect(0, "Removed", "stages", "remove", "Gardener")

	expect(2, "does not hold", "badges", "revoke", "Cuttings", "Ada Alder", "--reason", "r")
	expect(0, "Its page says so", "badges", "revoke", "Cuttings", "Tamsin Trial", "--reason", "Only a test")
	expect(0, ": Only a test", "badges", "awards")
	expect(0, "revoked by Maud Marrow", "people", "show", "Tamsin Trial")
}
