package e2e_test

import (
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/scenario"
	"kanban/internal/standin/fault"
	"kanban/internal/wire/api"
	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

// office changes something in the register, as the school office does.
func (w *world) office(path string, values ...string) {
	w.t.Helper()
	form := url.Values{}
	for i := 0; i < len(values); i += 2 {
		form.Set(values[i], values[i+1])
	}
	resp, err := http.PostForm(w.At.Register+"/office/"+path, form)
	require.NoError(w.t, err)
	resp.Body.Close()
	require.Less(w.t, resp.StatusCode, 400)
}

// pairNow pairs a section and gives the pairing's id.
func (w *world) pairNow(code string, change func(*roster.Policy)) string {
	w.t.Helper()
	all, err := client.All[api.Section](w.t.Context(), w.Client, "/sections?hidden=*")
	require.NoError(w.t, err)
	policy := roster.DefaultPolicy()
	change(&policy)
	for _, s := range all {
		if s.Code == code {
			p, err := client.Post[api.Pairing](w.t.Context(), w.Client, "/pairings",
				api.NewPairing{
					SectionID: s.ID, InterfaceID: w.Interfaces[scenario.WorkspaceName].ID,
					Policy: &policy,
				})
			require.NoError(w.t, err)
			return p.ID
		}
	}
	w.t.Fatalf("no section %s", code)
	return ""
}

// outcomes gives, for everybody in a pairing's preview, outcome and reason.
func (w *world) outcomes(pairingID string) map[string]string {
	w.t.Helper()
	p, err := client.Post[api.Preview](w.t.Context(), w.Client, "/pairings/"+pairingID+"/previews", nil)
	require.NoError(w.t, err)
	out := map[string]string{}
	for _, e := range p.Entries {
		out[e.Name] = string(e.Outcome) + " " + string(e.Reason)
	}
	require.Equal(w.t, len(p.Entries), roster.Counts(p.Counts).Total(), "the counts add up")
	return out
}

// Everyone ends in exactly one outcome with one reason: each of them can be
// produced with the demo school, and says in every place why.
func TestEveryOutcomeOfTheDemoSchool_P2(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	a := w.pairNow("PROP-A", func(*roster.Policy) {})
	got := w.outcomes(a)
	for name, want := range map[string]string{
		"Ada Alder": "to-add account-new", "Otto Onion": "to-add member-new",
		"Gwen Gorse":  "waiting account-not-active",
		"Cleo Clover": "needs-person address-shared", "Elsa Elder": "needs-person address-missing",
		"Preview Learner": "left-out test-learner",
	} {
		assert.Equal(t, want, got[name], name)
	}
	soil := w.outcomes(w.pairNow("SOIL-A", func(*roster.Policy) {}))
	assert.Equal(t, "needs-person two-candidates", soil["Nils Nettle"])
	assert.Equal(t, "left-out person-disabled", soil["Tilda Thyme"])
	held := w.outcomes(w.pairNow("PROP-C", func(p *roster.Policy) { p.Hold = true }))
	assert.Equal(t, "waiting held-back", held["Zora Zinnia"])
	assert.Equal(t, "to-add member-new", held["Pia Parsley"], "teachers go in at once")
	glass := w.outcomes(w.pairNow("GLAS-A", func(p *roster.Policy) { p.Roles = []roster.Role{roster.Student} }))
	assert.Equal(t, "left-out role-not-carried", glass["Theo Turnip"])

	// One run, with somebody refused; then the register changes.
	w.Pairing = api.Pairing{ID: a}
	r, err := w.Sync(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, r.Counts["refused"])
	guest := scim.NewClient(w.At.Workspace+"/scim/v2", "potting-shed", 0, call.Options{})
	shown, err := client.Get[api.Pairing](t.Context(), w.Client, "/pairings/"+a)
	require.NoError(t, err)
	stranger, err := guest.CreateUser(t.Context(), scim.User{
		UserName: "guest",
		Name:     scim.Name{GivenName: "Gus", FamilyName: "Guest"},
		Emails:   []scim.Email{{Value: "gus@elsewhere.example"}}, Active: true,
	})
	require.NoError(t, err)
	require.NoError(t, guest.AddMembers(t.Context(), shown.TargetRef, stranger.ID))
	w.office("people/stu-001", "givenName", "Adina", "familyName", "Alder")
	w.office("people/stu-005", "email", "elsa at home")
	w.office("withdrawals", "person", "stu-002", "section", "sec-prop-a")
	_, err = w.Read(t.Context())
	require.NoError(t, err)
	got = w.outcomes(a)
	for name, want := range map[string]string{
		"Adina Alder": "to-update details-differ", "Bram Birch": "to-remove no-longer-enrolled",
		"Hugo Hazel": "in-step member-in-step",
		"Gus Guest":  "left-out member-not-ours", "Elsa Elder": "needs-person address-invalid",
		"Finn Fennel": "needs-person refused-by-service",
	} {
		assert.Equal(t, want, got[name], name)
	}
	keep := roster.DefaultPolicy()
	keep.Leavers = roster.LeaversKeep
	_, err = client.Send[api.Pairing](t.Context(), w.Client, http.MethodPatch, "/pairings/"+a,
		api.EditPairing{Policy: &keep})
	require.NoError(t, err)
	m := roster.DefaultMatching()
	m.Exclude = append(m.Exclude, roster.Exclusion{Name: "Trial year", UserName: "ines.*"})
	_, err = client.Send[roster.Matching](t.Context(), w.Client, http.MethodPut,
		"/interfaces/"+w.Interfaces[scenario.WorkspaceName].ID+"/matching", m)
	require.NoError(t, err)
	got = w.outcomes(a)
	assert.Equal(t, "left-out leaver-kept", got["Bram Birch"])
	assert.Equal(t, "left-out leaver-kept", got["Ines Iris"], "she was put in before the rule")

	// A service that forgets is found out, and the finding says so everywhere.
	w.set("workspace", fault.Fault{Kind: fault.Swallow, Method: "PATCH", Path: "/Users/", Count: 1})
	r, err = w.Sync(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, r.Counts["not-arrived"])
	page, err := client.Get[api.Page[api.Finding]](t.Context(), w.Client, "/findings?limit=1000")
	require.NoError(t, err)
	codes := map[finding.Code]bool{}
	for _, f := range page.Items {
		codes[f.Code] = true
		assert.NotEmpty(t, f.Title)
		assert.NotEmpty(t, f.Remedy)
	}
	for _, code := range []finding.Code{
		finding.AddressShared, finding.AddressInvalid, finding.RefusedByService,
		finding.NotArrived, finding.AccountInactive, finding.HeldBack, finding.LeaverKept, finding.NotOurs,
		finding.RoleNotCarried, finding.PersonDisabled, finding.SecondAccount, finding.TestLearner,
	} {
		assert.True(t, codes[code], "%s is among the findings", code)
	}
	env := []string{
		"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir(),
		"KANBAN_TOKEN=" + w.freshToken(),
	}
	out, code := w.cli(env, "findings", "list", "--group", "mend")
	assert.Zero(t, code, out)
	for code := range codes {
		if e, _ := finding.Lookup(code); e.Severity == finding.Block {
			assert.Contains(t, out, e.Title)
		}
		explained, _ := w.cli(env, "explain", string(code))
		assert.Contains(t, explained, string(code))
	}
}

func (w *world) freshToken() string {
	w.t.Helper()
	token, err := client.Post[api.Token](w.t.Context(), w.Client, "/tokens", api.NewToken{Name: "test"})
	require.NoError(w.t, err)
	return token.Token
}

// What a person does by hand in the command line: recognise, decide, revert,
// acknowledge, stop.
func TestCommandLineForPeople(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair, w.FirstRun)
	env := []string{
		"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir(),
		"KANBAN_TOKEN=" + w.freshToken(),
	}
	expect := w.expecting(env)
	chat := scenario.WorkspaceName
	expect(0, "test learner", "matching", "show", chat)
	expect(0, "Nothing was saved", "matching", "edit", chat, "--domain", "old.fernmoor.example=fernmoor.example",
		"--leave-out", "Trial:user-name=ada.*")
	expect(2, "is no condition", "matching", "edit", chat, "--leave-out", "Trial:shoe=41")
	expect(2, "there is no rule", "matching", "edit", chat, "--drop", "nothing")
	expect(0, "Saved.", "matching", "edit", chat, "--domain", "old.fernmoor.example=fernmoor.example", "--save")
	expect(3, "1 added", "pairings", "run", "PROP-A", "--only", "Finn Fennel")
	expect(0, "nils.nettle2@chat", "people", "candidates", "Nils Nettle", chat)
	expect(2, "has no account", "people", "match", "Nils Nettle", chat, "nope")
	expect(0, "is the one of Nils Nettle", "people", "match", "Nils Nettle", chat, "u00003")
	expect(0, "said by Maud Marrow", "people", "show", "Nils Nettle")
	expect(0, "is not the one of", "people", "unmatch", "Nils Nettle", chat, "u00003")
	expect(0, "any more", "people", "forget", "Nils Nettle", chat)
	expect(0, "family.clover@post.example", "pairings", "compare", "PROP-A")
	expect(0, "needs-person,Elsa Elder", "pairings", "compare", "PROP-A", "--outcome", "needs-person", "-o", "csv")
	expect(0, "Nobody needs a person", "pairings", "show", "PROP-A")
	expect(0, "Changed.", "pairings", "edit", "PROP-A", "--leavers", "keep", "--notify")
	expect(2, "leavers", "pairings", "edit", "PROP-A", "--leavers", "vanish")
	expect(0, "Changed.", "pairings", "edit", "PROP-A", "--target", "Cuttings room")
	expect(0, "Cuttings room", "pairings", "list")
	spaces, err := http.Get(w.At.Workspace + "/")
	require.NoError(t, err)
	defer spaces.Body.Close()
	page, err := io.ReadAll(spaces.Body)
	require.NoError(t, err)
	assert.Contains(t, string(page), "Cuttings room", "renamed at the service too")
	expect(0, "Ada Alder", "sections", "roster", "PROP-A", "--at", "2026-11-01")
	expect(2, "neither a day", "sections", "roster", "PROP-A", "--at", "yesterday")
	expect(0, "Nobody", "sections", "roster", "PROP-A", "--movements")

	key := strings.Split(strings.TrimSpace(expect(0, "Elsa Elder", "findings", "list", "--find", "elsa", "-o",
		"csv")), ",")
	expect(0, "stays quiet", "findings", "acknowledge", key[len(key)-1], "the office knows")
	expect(0, "the office knows", "findings", "list", "--seen")
	expect(0, "shows again", "findings", "reopen", key[len(key)-1])
	expect(2, "there is no finding", "findings", "acknowledge", "nothing", "x")

	expect(0, "2 hidden: Other terms", "sections", "list")
	expect(0, "Beekeeping A", "sections", "list", "--hidden", "Other terms")
	expect(0, "homeroom", "sections", "hidden", "--add", "Advisory hours:class-type=homeroom")
	expect(0, "1 hidden: Advisory hours", "sections", "list")
	expect(0, "Advisory hour", "sections", "list", "--hidden", "*")
	expect(2, "is no condition", "sections", "hidden", "--add", "X:colour=red")
	expect(2, "names no condition", "sections", "hidden", "--add", "X:title=")
	expect(0, "Other terms", "sections", "hidden", "--drop", "Advisory hours")
	expect(0, "Changed.", "pairings", "edit", "PROP-A", "--schedule", "daily 06:30")
	expect(0, "runs next by itself", "pairings", "show", "PROP-A")
	expect(2, "is not one of", "pairings", "edit", "PROP-A", "--schedule", "hourly")
	expect(1, "open already", "pairings", "open", "PROP-A")
	expect(0, "is held back", "pairings", "hold", "PROP-A")
	expect(0, "opens", "pairings", "open", "PROP-A", "--at", "2099-09-01T08:00")
	expect(0, "is open", "pairings", "open", "PROP-A")
	expect(0, "Runs for 1 pairings", "pairings", "sync", "--course", "PROP")

	runs := expect(0, "sync", "runs", "list", "-o", "csv")
	last := strings.Split(strings.Split(runs, "\n")[1], ",")[0]
	expect(0, "Nothing was done", "runs", "revert", last)
	expect(3, "1 removed", "runs", "revert", last, "--apply")
	expect(0, "‖ paused", "pairings", "list")
	expect(1, "has ended already", "runs", "cancel", last)
	expect(0, "finished", "interfaces", "read", scenario.RegisterName, "--changes")
	expect(0, "Read at least once", "interfaces", "show", scenario.RegisterName)
	expect(2, "keep or remove", "pairings", "remove", "PROP-A", "--members", "burn")
	expect(0, "Nothing was done", "pairings", "remove", "PROP-A", "--members", "remove")
	expect(0, "removed", "pairings", "remove", "PROP-A", "--members", "remove", "--apply")
	expect(0, "No section is paired yet", "pairings", "list")
}

// Killed while a register is being read, Kanban goes on after the restart.
func TestReadResumesAfterKill_R10(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect)
	w.set("register", fault.Fault{Kind: fault.Latency, Millis: 300, Path: "/ims/"})
	r, err := client.Post[api.Run](t.Context(), w.Client,
		"/interfaces/"+w.Interfaces[scenario.RegisterName].ID+"/read", api.ReadRequest{})
	require.NoError(t, err)
	soon(t, "pages come", func() bool {
		r, err = client.Get[api.Run](t.Context(), w.Client, "/runs/"+r.ID)
		return err == nil && strings.HasPrefix(r.Step, "reading ")
	})
	w.service.Kill()
	w.clear("register")
	w.start()
	r, err = w.again(w.service.Address).Wait(t.Context(), r.ID, func(api.Run) {})
	require.NoError(t, err)
	assert.Equal(t, "finished", r.State)
	assert.Equal(t, 70, r.Counts["people"])
}
