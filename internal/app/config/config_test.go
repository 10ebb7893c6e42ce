package config_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	app "kanban/internal/app/config"
	"kanban/internal/app/connections"
	"kanban/internal/app/rules"
	"kanban/internal/apptest"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/config"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// garden is a set-up about the demo's register, whose addresses are those of its stand-ins.
func garden(w *apptest.World) map[string][]byte {
	a := w.Standins.Addresses
	return map[string][]byte{
		"systems.yaml": []byte(`connections:
  - name: School register
    owner: School office
    interfaces:
      - kind: oneroster
        values:
          address: ` + a.Register + `
          tokenAddress: ` + a.Register + `/oauth/token
          clientId: kanban
  - name: Plant news
    address: ` + a.Contacts + `
    interfaces:
      - kind: webhook
        label: events
        values: {address: ` + a.Contacts + `/events}
      - kind: http-api
        label: labels
        values:
          address: ` + a.Contacts + `/api
          probe: /labels
        operations:
          - name: add-label
            title: Add a label
            method: POST
            path: /contacts/{email}/labels
            fields:
              - {name: email, required: true}
              - {name: label, required: true}
            undo: remove-label
          - name: remove-label
            title: Remove a label
            method: DELETE
            path: /contacts/{email}/labels
            fields:
              - {name: email, required: true}
              - {name: label, required: true}
  - name: Garden shop
    interfaces: [{kind: cloudevents}]
  - name: Chat workspace
    interfaces:
      - {kind: scim, values: {address: ` + a.Workspace + `/scim/v2}}
mappings:
  - interface: Garden shop
    person: event.data.mail
matching:
  - interface: Chat workspace
    keys: [account, email]
    exclude: [{name: Test people, testLearners: true}]
`),
		"rest.yaml": []byte(`issuers: [{name: Fernmoor Garden School, email: office@fernmoor.example}]
badges:
  - {name: Cuttings, issuer: Fernmoor Garden School, description: Takes cuttings., criteria: Finish the module., asks: [{kind: module, course: PROP, module: mod-cuttings}]}
outlines:
  - course: PROP
    percentages: [25, 100]
    modules:
      - id: mod-cuttings
        title: Cuttings
        activities:
          - {id: "http://platform.example/a/1", title: Clean tools, kind: lesson}
          - {id: "http://platform.example/a/2", title: Check, kind: assessment, passMark: 0.6}
offers:
  - name: A place
    interface: Garden shop
    offer: propagation-place
    sections: [PROP-A]
    atEnd: unenrol
    graceDays: 14
rules:
  - name: Cuttings badge
    trigger: module.completed
    scope: {course: PROP, module: mod-cuttings}
    actions:
      - {kind: award, badge: Cuttings}
      - kind: call-operation
        interface: "Plant news: labels"
        operation: add-label
        fields: {email: person.email, label: '"cuttings"'}
      - {kind: enrol, interface: Chat workspace, section: PROP-B}
stagePlans:
  - name: Gardener
    course: PROP
    anyOrder: true
    stages:
      - title: Cutter
        badge: Cuttings
        criteria: [{kind: module, module: mod-cuttings}]
      - title: Sure hand
        criteria: [{kind: score, activity: "http://platform.example/a/2", atLeast: 0.8}, {kind: any, of: [{kind: approval, what: Shows it}]}]
templates:
  - name: Usual
    target: "{course} · {teacher}"
    policy: {roles: [student, teacher], leavers: keep, hold: true, ownTarget: false, notify: false, removalNumber: 5, removalShare: 0.1}
hiddenSections: []
settings:
  historyMonths: 12
  testRecipient: trial@fernmoor.example
  progressAcross: false
  fullComparison: {kind: daily, at: "03:30"}
  verbs: [{verb: "https://fernmoor.example/verbs/dug", says: completed}]
`),
	}
}

func apply(t *testing.T, w *apptest.World, files map[string][]byte) app.Comparison {
	t.Helper()
	shown, err := w.Config.Compare(t.Context(), "Maud", files)
	require.NoError(t, err)
	require.Empty(t, shown.Faults)
	done, err := w.Config.Apply(t.Context(), "Maud", files, shown.Fingerprint)
	require.NoError(t, err)
	assert.Equal(t, shown, done, "what was shown is what is done")
	return done
}

func exported(t *testing.T, w *apptest.World) map[string][]byte {
	t.Helper()
	setup, err := w.Config.Export(t.Context())
	require.NoError(t, err)
	texts, err := config.Files(setup)
	require.NoError(t, err)
	files := map[string][]byte{}
	for name, text := range texts {
		files[name] = []byte(text)
	}
	delete(files, config.SchemaFile)
	return files
}

func TestSetUpIsTheSameInAnEmptyInstallation(t *testing.T) {
	w := apptest.New(t)
	done := apply(t, w, garden(w))
	what := map[string]int{}
	for _, c := range done.Changes {
		what[c.What]++
	}
	assert.Equal(t, map[string]int{app.Add: 7, app.Change: 3, app.Wait: 5}, what, "%+v", done.Changes)
	first := exported(t, w)

	again := apply(t, w, first)
	assert.Empty(t, again.Changes, "applying twice changes nothing")
	other := apptest.New(t)
	apply(t, other, maps.Clone(first))
	assert.Equal(t, first, exported(t, other))
}

// named finds an interface by its name.
func named(t *testing.T, w *apptest.World, name string) connectionstore.Interface {
	t.Helper()
	all, err := w.Connections.Interfaces(t.Context())
	require.NoError(t, err)
	for _, x := range all {
		if x.Name == name {
			return x
		}
	}
	require.Fail(t, "there is no such interface", name)
	return connectionstore.Interface{}
}

// ruled finds a rule by its name.
func ruled(t *testing.T, w *apptest.World, name string) rulestore.Rule {
	t.Helper()
	all, err := rulestore.Rules(t.Context(), w.Store)
	require.NoError(t, err)
	for _, x := range all {
		if x.Name == name {
			return x
		}
	}
	require.Fail(t, "there is no such rule", name)
	return rulestore.Rule{}
}

// grown is a world whose register was read after the garden came in.
func grown(t *testing.T) *apptest.World {
	t.Helper()
	w := apptest.New(t)
	apply(t, w, garden(w))
	register := named(t, w, "School register")
	no := false
	_, err := w.Connections.Update(t.Context(), "Maud", register.ID, 0, connections.Change{
		Values: map[string]string{"clientSecret": "green-fingers"}, Paused: &no,
	})
	require.NoError(t, err)
	w.Read(register, false)
	require.NoError(t, w.Config.TakeWaiting(t.Context()))
	return w
}

func edited(t *testing.T, w *apptest.World, name, old, next string) map[string][]byte {
	t.Helper()
	text := string(exported(t, w)[name])
	require.Contains(t, text, old)
	return map[string][]byte{name: []byte(strings.ReplaceAll(text, old, next))}
}

func TestWhatWaitedComesInOnceTheRegisterIsRead(t *testing.T) {
	w := apptest.New(t)
	apply(t, w, garden(w))
	before := exported(t, w)
	all, err := w.Config.Waiting(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 5)
	assert.Equal(t, `there is no course "PROP"; the badge "Cuttings" waits too; there is no section "PROP-B"`, all[3].For)
	assert.Equal(t, "Maud", all[2].Who)

	w = grown(t)
	all, err = w.Config.Waiting(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
	after := exported(t, w)
	for _, name := range []string{"rules.yaml", "badges.yaml", "outlines.yaml", "offers.yaml", "stage-plans.yaml"} {
		assert.Equal(t, string(before[name]), string(after[name]), "it is what waited")
	}
	assert.Nil(t, ruled(t, w, "Cuttings badge").OnSince, "it arrives off")
	offers, err := purchasestore.Offers(t.Context(), w.Store)
	require.NoError(t, err)
	assert.NotNil(t, offers[0].OffSince)
}

func TestSomethingCanWaitNoLonger(t *testing.T) {
	w := apptest.New(t)
	apply(t, w, garden(w))
	require.NoError(t, w.Config.Forget(t.Context(), "Maud", config.Rules, "cuttings badge"))
	require.Error(t, w.Config.Forget(t.Context(), "Maud", config.Rules, "cuttings badge"))
	all, err := w.Config.Waiting(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 4)
	assert.NotContains(t, exported(t, w), "rules.yaml")
}

func TestEveryFaultIsNamedAndNothingComesIn(t *testing.T) {
	w := grown(t)
	second := w.Connect("oneroster", "Second register", map[string]string{
		"address":      w.Standins.Addresses.Register,
		"tokenAddress": w.Standins.Addresses.Register + "/oauth/token", "clientId": "kanban",
		"clientSecret": "green-fingers",
	})
	w.Read(second, false)
	before := exported(t, w)
	assert.Contains(t, string(before["outlines.yaml"]), "course: PROP of School register", "two are called PROP now")
	files := map[string][]byte{"a.yaml": []byte(`badges:
  - {name: Good one, issuer: Fernmoor Garden School, description: It is fine., criteria: None.}
rules:
  - name: Two courses
    trigger: module.completed
    scope:
      course: PROP
    actions:
      - kind: award
        badge: Nobody's
      - kind: mail
        interface: Chat workspace
        subject: Hello
        text: Hello
  - name: Wrong condition
    trigger: module.completed
    condition: event.colour ==
    actions: [{kind: award, badge: Good one}]
  - name: wrong condition
    trigger: module.completed
    actions: [{kind: award, badge: Good one}]
connections:
  - name: Leaky
    interfaces:
      - kind: scim
        values:
          address: https://chat.example/scim/v2
          token: not-here
settings:
  historyMonths: 1
`)}
	c, err := w.Config.Apply(t.Context(), "Maud", files, "")
	require.NoError(t, err)
	var said []string
	for _, f := range c.Faults {
		said = append(said, f.Error())
	}
	require.Len(t, said, 6, strings.Join(said, "\n"))
	for i, want := range []string{
		`a.yaml:7: rules[0].scope.course: "PROP" fits 2 courses; name one of them: PROP of School register, PROP of Second register`,
		`a.yaml:10: rules[0].actions[0].badge: there is no badge "Nobody's"`,
		`a.yaml:17: rules[1].condition: `,
		`a.yaml:19: rules[2]: "wrong condition" stands in a.yaml line 15 already`,
		`a.yaml:28: connections[0].interfaces[0].values.token: secrets`,
		`a.yaml:30: settings.historyMonths: history is kept for 3 to 240 months`,
	} {
		assert.True(t, strings.HasPrefix(said[i], want), said[i])
	}
	assert.Equal(t, before, exported(t, w), "all or nothing")
	good := strings.ReplaceAll(string(files["a.yaml"])[:strings.Index(string(files["a.yaml"]), "rules:")], "x", "x")
	done := apply(t, w, map[string][]byte{"a.yaml": []byte(good)})
	assert.Len(t, done.Changes, 1)
	assert.Equal(t, []app.Reference{{Kind: config.Badges, Name: "Cuttings"}}, done.Only, "it stays")
}

func TestChangedRuleIsSwitchedOffAndAnotherStaysOn(t *testing.T) {
	w := grown(t)
	apply(t, w, map[string][]byte{"more.yaml": []byte(
		"rules: [{name: Stays, trigger: course.completed, actions: [{kind: award, badge: Cuttings}]}]")})
	for _, name := range []string{"Stays", "Cuttings badge"} {
		_, err := w.Rules.Switch(t.Context(), "Maud", ruled(t, w, name).ID, true, rules.Ask)
		require.NoError(t, err)
	}
	stays := ruled(t, w, "Stays")
	done := apply(t, w, edited(t, w, "rules.yaml", `'"cuttings"'`, `'"roots"'`))
	require.Len(t, done.Changes, 1)
	assert.Equal(t, []config.ValueChange{{
		Path: "actions[1].fields.label", Before: `"cuttings"`, After: `"roots"`,
	}}, done.Changes[0].Fields)
	assert.Contains(t, done.Changes[0].Notes[0], "is switched off")
	assert.Nil(t, ruled(t, w, "Cuttings badge").OnSince)
	assert.Equal(t, stays, ruled(t, w, "Stays"), "what is the same is not touched, not even its version")
}

func TestInterfaceThatLeadsElsewhereLosesItsCredential(t *testing.T) {
	w := grown(t)
	id, no := named(t, w, "Chat workspace").ID, false
	_, err := w.Connections.Update(t.Context(), "Maud", id, 0, connections.Change{Paused: &no})
	refused, is := refusal.As(err)
	require.True(t, is, "it has no credential yet")
	assert.Contains(t, refused.Detail, "enter first: Bearer token")
	_, err = w.Connections.Update(t.Context(), "Maud", id, 0, connections.Change{
		Values: map[string]string{"token": "potting-shed"}, Paused: &no,
	})
	require.NoError(t, err)
	done := apply(t, w, edited(t, w, "connections.yaml", "owner: School office", "owner: The office"))
	require.Len(t, done.Changes, 1)
	opened, err := w.Connections.Open(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "potting-shed", opened.Secret["token"], "what stays where it is keeps its credential")

	done = apply(t, w, edited(t, w, "connections.yaml", w.Standins.Addresses.Workspace, "https://elsewhere.example"))
	require.Len(t, done.Changes, 1)
	assert.Contains(t, done.Changes[0].Notes[0], "leads to another host: it is paused until a person has entered: Bearer token")
	opened, err = w.Connections.Open(t.Context(), id)
	require.NoError(t, err)
	assert.Empty(t, opened.Secret["token"], "it is not sent to another host")
	assert.NotNil(t, named(t, w, "Chat workspace").PausedAt)
}

func TestWhatWasSeenIsWhatIsDone(t *testing.T) {
	w := grown(t)
	files := edited(t, w, "rules.yaml", `'"cuttings"'`, `'"roots"'`)
	shown, err := w.Config.Compare(t.Context(), "Maud", files)
	require.NoError(t, err)
	r := ruled(t, w, "Cuttings badge")
	d := r.Draft()
	d.Actions[1].Fields = map[string]string{"email": "person.email", "label": `"twigs"`}
	_, err = w.Rules.Save(t.Context(), "Otto", r.ID, 0, d)
	require.NoError(t, err)
	_, err = w.Config.Apply(t.Context(), "Maud", files, shown.Fingerprint)
	refused, is := refusal.As(err)
	require.True(t, is)
	assert.Contains(t, refused.Detail, "compare again")
	assert.Equal(t, `"twigs"`, ruled(t, w, "Cuttings badge").Actions[1].Fields["label"])
}

func TestStageThatGetsAnotherTitleInItsPlaceStaysTheSame(t *testing.T) {
	w := grown(t)
	ids := func() (out []string) {
		plans, err := w.Stages.StagePlans(t.Context())
		require.NoError(t, err)
		for _, s := range plans[0].Stages {
			out = append(out, s.ID)
			for c := range (stage.Criterion{Kind: stage.All, Of: s.Criteria}).Leaves {
				out = append(out, c.ApprovalID)
			}
		}
		return out
	}
	before := ids()
	require.NotEmpty(t, before[len(before)-1], "of the approval")
	apply(t, w, edited(t, w, "stage-plans.yaml", "title: Sure hand", "title: Surest hand"))
	assert.Equal(t, before, ids())
}

// Whatever files say, nothing is half taken in.
func TestDamagedFilesChangeNothing(t *testing.T) {
	w := grown(t)
	before := exported(t, w)
	random := rand.New(rand.NewPCG(1, 2))
	texts := garden(w)
	for n := range 150 {
		files := map[string][]byte{}
		for name, text := range texts {
			files[name] = damaged(random, text)
		}
		c, err := w.Config.Compare(t.Context(), "Maud", files)
		if _, refused := refusal.As(err); err != nil && !refused {
			require.NoError(t, err, "round %d", n)
		}
		for _, f := range c.Faults {
			assert.NotEmpty(t, f.Detail)
		}
	}
	assert.Equal(t, before, exported(t, w))
}

// damaged changes a text in a few places.
func damaged(random *rand.Rand, text []byte) []byte {
	out := append([]byte{}, text...)
	for range 1 + random.IntN(3) {
		at := random.IntN(len(out))
		switch random.IntN(5) {
		case 0:
			out = out[:max(at, 1)]
		case 1:
			out[at] = byte(random.IntN(256))
		case 2:
			out = append(out[:at], out[min(at+1+random.IntN(20), len(out)):]...)
		case 3:
			out = append(out[:at], append([]byte("\"'[]{}&*: \n\t-|>"[:1+random.IntN(14)]), out[at:]...)...)
		default:
			out = append(out[:at], append([]byte(strings.Repeat("9", random.IntN(400))), out[at:]...)...)
		}
		if len(out) == 0 {
			out = []byte(" ")
		}
	}
	return out
}

// What comes in is exported just so, whatever texts it is made of.
func TestRandomSetUpsAreTheSameElsewhere(t *testing.T) {
	for seed := range uint64(4) {
		random := rand.New(rand.NewPCG(seed, 7))
		w, other := apptest.New(t), apptest.New(t)
		done := apply(t, w, map[string][]byte{"all.yaml": []byte(written(t, anySetUp(random)))})
		require.NotEmpty(t, done.Changes)
		first := exported(t, w)
		apply(t, other, first)
		assert.Equal(t, first, exported(t, other), "seed %d", seed)
		assert.Empty(t, apply(t, w, first).Changes, "seed %d", seed)
	}
}

func written(t *testing.T, s config.Setup) string {
	t.Helper()
	text, err := config.Text(s)
	require.NoError(t, err)
	return text
}

// anyText is a text that is easily misread.
func anyText(random *rand.Rand, n int) string {
	odd := []string{
		"yes", "12:30", "null", "~", "1e3", "0x1F", "#no comment", "a: b", "- c", "'q'", `"q"`, "Grüße", "日本",
		"{x}", "[y]",
		"&a", "*b", "!c", "%d", "@e", "two\nlines", "trailing", "🌱", "2026-11-29", "|", ">", "a\tb", "it's",
	}
	return fmt.Sprintf("%s %d", odd[random.IntN(len(odd))], n)
}

func anySetUp(random *rand.Rand) (s config.Setup) {
	text := func(n int) string { return anyText(random, n) }
	for n := range 1 + random.IntN(5) {
		s.Issuers = append(s.Issuers, config.Issuer{Name: text(n), Description: text(n)})
		s.Badges = append(s.Badges, config.Badge{
			Name: text(n), Issuer: s.Issuers[n].Name, Description: text(n), Criteria: text(n),
		})
		s.Connections = append(s.Connections, config.Connection{
			Name: text(n), Owner: text(n), Notes: text(n), PerMinute: random.IntN(100),
			Interfaces: []config.Interface{
				{Kind: "smtp", Values: map[string]string{"server": "mail.example:587", "from": "a@x.example"}},
				{Kind: "http-api", Label: "API", Values: map[string]string{"address": "https://x.example/api"}},
			},
		})
		s.Rules = append(s.Rules, config.Rule{
			Name: text(n), Trigger: string(rule.Triggers[random.IntN(len(rule.Triggers)-1)]),
			Condition: fmt.Sprintf("%d == %d", n, n),
			Actions: []config.Action{
				{Kind: "award", Badge: s.Badges[n].Name},
				{Kind: "task", After: "2h", Subject: text(n), Text: text(n)},
				{
					Kind: "append-row", Sheet: "Sheet " + fmt.Sprint(n),
					Fields: map[string]string{"x y": `"` + fmt.Sprint(n) + `"`},
				},
			},
		})
		if rule.Trigger(s.Rules[n].Trigger).Waits() {
			s.Rules[n].Days = 1 + random.IntN(300)
		}
	}
	return s
}

// Every ready rule can be made and would work, and arrives switched off.
func TestReadyRulesOnlyHaveToBeToldWhatTheyNeed(t *testing.T) {
	w := grown(t)
	all, err := w.Config.ReadyRules(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 5)
	_, err = w.Config.AddReady(t.Context(), "Maud", "welcome", "", nil)
	refused, is := refusal.As(err)
	require.True(t, is)
	assert.Equal(t, "needs.mail", refused.Field)
	assert.Contains(t, refused.Detail, "connect one first: Mail (SMTP)")

	mail := map[string]string{"server": w.Standins.Addresses.SMTP, "from": "a@x.example", "security": "none"}
	w.Connect("smtp", "School mail", mail)
	for _, r := range all {
		needs := map[string]string{}
		for _, n := range r.Needs {
			if n.What == app.NeedsAddress {
				needs[n.Name] = "maud@fernmoor.example"
			}
		}
		made, err := w.Config.AddReady(t.Context(), "Maud", r.Key, "", needs) // there is one of each
		require.NoError(t, err, r.Key)
		assert.Equal(t, r.Title, made.Name)
		assert.Nil(t, made.OnSince)
		_, err = w.Rules.Switch(t.Context(), "Maud", made.ID, true, rules.Ask)
		require.NoError(t, err, "it can be switched on: %s", r.Key)
	}
	badge := ruled(t, w, "Badge for a module")
	assert.Equal(t, "mod-cuttings", badge.Scope.Module)
	assert.Equal(t, w.Section("PROP-A").CourseID, badge.Scope.Course, "a module of another course is another one")
	_, err = w.Config.AddReady(t.Context(), "Maud", "welcome", "", nil)
	require.ErrorContains(t, err, "another rule is called", "nothing is overwritten")

	w.Connect("smtp", "Other mail", mail)
	_, err = w.Config.AddReady(t.Context(), "Maud", "welcome", "Welcome again", nil)
	require.ErrorContains(t, err, "choose one of Other mail, School mail", "two that look alike are asked about")
	other := map[string]string{"mail": "Chat workspace"}
	_, err = w.Config.AddReady(t.Context(), "Maud", "welcome", "Welcome again", other)
	require.ErrorContains(t, err, `there is no "Chat workspace"`)
}
