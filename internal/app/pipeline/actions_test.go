package pipeline_test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/standin/fault"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/taskstore"
)

func states(all []deliverystore.ListedDelivery) (out []string) {
	for i := len(all) - 1; i >= 0; i-- { // the oldest first
		out = append(out, all[i].State)
	}
	return out
}

func TestDelayedActionsLookAtWhereSomebodyStandsThen_E3(t *testing.T) {
	w, now := apptest.Clocked(t)
	mail := func(subject string) rule.Action {
		return rule.Action{
			Kind: rule.Mail, InterfaceID: w.Mail().ID, Subject: subject,
			Text: "{{.person.givenName}}",
		}
	}
	first, second := mail("at once"), rule.Action{}
	second = first
	second.Subject, second.After = "three days later", "3d"
	third := second
	third.Subject, third.If = "never", "progress.percent > 50"
	last := first
	last.Subject = "after what was skipped"
	w.Rule(rule.Draft{
		Name: "nudges", Trigger: "section.joined", Stop: "!progress.enrolled",
		Actions: []rule.Action{first, second, third, last},
	})
	ada := w.Record(w.Joined("k1", "stu-001", "PROP-A"))
	w.Deliver()
	require.Len(t, w.Standins.Inbox.Mails(), 1, "the second waits three days")
	again, err := w.Deliveries.Deliver(t.Context(), w.DeliveriesOf(ada.ID)[1].ID)
	require.NoError(t, err)
	assert.InDelta(t, (72 * time.Hour).Seconds(), again.Seconds(), 60)
	*now = now.Add(72*time.Hour + time.Second)
	w.Deliver()
	assert.Len(t, w.Standins.Inbox.Mails(), 2)
	*now = now.Add(72*time.Hour + time.Second)
	w.Deliver()
	require.Len(t, w.Standins.Inbox.Mails(), 3)
	assert.Equal(t, "after what was skipped", w.Standins.Inbox.Mails()[0].Subject, "the newest")
	assert.Equal(t, []string{"delivered", "delivered", "skipped", "delivered"},
		states(w.DeliveriesThat(deliverystore.DeliveryFilter{EventID: ada.ID})))

	// Whoever is not in the section any more gets nothing more.
	x := w.Joined("k2", "stu-002", "PROP-A")
	orchard := w.Section("BEES-A")
	x.SectionID = &orchard.ID
	bob := w.Record(x)
	w.Deliver()
	assert.Equal(t, []string{"stopped", "stopped", "stopped", "stopped"},
		states(w.DeliveriesThat(deliverystore.DeliveryFilter{EventID: bob.ID})))
}

// Pass after fail reverts what fail did, and what it would have done.
func TestPassRevertsWhatFailDid_E8(t *testing.T) {
	w, now := apptest.Clocked(t)
	labels, platform := w.Labels(), w.Platform()
	soil := w.Section("SOIL-A")
	nora := "stu-030" // in no section of soil science
	actions := []rule.Action{
		{
			Kind: rule.CallOperation, InterfaceID: labels.ID, Operation: "add-label",
			Fields: map[string]string{"email": "person.email", "label": `"to-repeat"`},
		},
		{Kind: rule.OpenTask, Subject: "Talk to {{.person.givenName}}", Owner: "maud@fernmoor.example", DueIn: "3d"},
		{Kind: rule.Enrol, InterfaceID: platform.ID, SectionID: soil.ID},
		{Kind: rule.AppendRow, Sheet: "Failed", Fields: map[string]string{
			"who":   "person.name",
			"score": "event.score",
		}},
		{
			Kind: rule.Mail, InterfaceID: w.Mail().ID, After: "3d", Subject: "Try again",
			Text: "Dear {{.person.givenName}}",
		},
	}
	r := w.Rule(rule.Draft{
		Name: "after a fail", Trigger: "assessment.failed", OncePerPerson: true,
		UndoneBy: []string{"assessment.passed"}, Actions: actions,
	})
	w.Record(w.About(rule.AssessmentFailed, "f1", nora))
	w.Deliver()
	contact := func() []string { return w.Standins.Contacts.Contacts()[0].Labels }
	assert.Equal(t, []string{"to-repeat"}, contact())
	tasks, err := taskstore.Tasks(t.Context(), w.Store, false, 10, nil)
	require.NoError(t, err)
	require.Len(t, tasks, 1)
	enrolled := func() bool {
		for _, e := range w.Standins.School.Enrolments() {
			if e.PersonID == nora && e.SectionID == "sec-soil-a" && !e.Ended {
				return true
			}
		}
		return false
	}
	assert.True(t, enrolled())

	other := w.About(rule.AssessmentPassed, "p0", nora)
	other.ActivityID = "another assessment"
	w.Record(other)
	w.Deliver()
	assert.True(t, enrolled(), "passing something else takes nothing back")

	passed := w.Record(w.About(rule.AssessmentPassed, "p1", nora))
	require.NoError(t, w.Deliveries.React(t.Context(), []string{passed.ID}, ""), "the job may come twice")
	w.Deliver()
	*now = now.Add(96 * time.Hour)
	w.Deliver()
	assert.Empty(t, contact(), "the label is gone")
	assert.False(t, enrolled())
	tasks, err = taskstore.Tasks(t.Context(), w.Store, false, 10, nil)
	require.NoError(t, err)
	assert.Empty(t, tasks, "the task is closed")
	assert.Empty(t, w.Standins.Inbox.Mails(), "the mail that was to come is not sent")
	undone := w.DeliveriesThat(deliverystore.DeliveryFilter{EventID: passed.ID})
	require.Len(t, undone, 4)
	byKind := map[string]string{}
	for _, d := range undone {
		byKind[d.Action.Kind] = d.State + " " + d.Code
	}
	assert.Equal(t, map[string]string{
		rule.CallOperation: "delivered ", rule.OpenTask: "delivered ", rule.Unenrol: "delivered ",
		rule.AppendRow: "skipped " + string(finding.CannotRevert),
	}, byKind)
	taken := 0
	for _, d := range w.DeliveriesThat(deliverystore.DeliveryFilter{State: deliverystore.DeliveryDelivered}) {
		if d.Reverted {
			taken++
		}
	}
	assert.Equal(t, 3, taken, "label, task and enrolment read as reverted")
	rows, err := deliverystore.SheetRows(t.Context(), w.Store, "failed")
	require.NoError(t, err)
	require.Len(t, rows, 1, "a row stays")
	assert.Equal(t, 0.5, rows[0].Cells["score"])

	// Once per person and target, but what was reverted may happen again.
	again := w.Record(w.About(rule.AssessmentFailed, "f2", nora))
	w.Deliver()
	assert.Equal(t, []string{"to-repeat"}, contact())
	assert.NotEmpty(t, w.DeliveriesOf(again.ID))
	usage, err := rulestore.UsageOfRules(t.Context(), w.Store, *now)
	require.NoError(t, err)
	assert.Equal(t, r.ID, usage[0].RuleID)
	assert.Equal(t, 2, usage[0].Fired, "two fails; reverting is no firing")
}

func TestOperationsTellSuccess(t *testing.T) {
	w, _ := apptest.Clocked(t)
	labels := w.Labels()
	field := func(label string) map[string]string {
		return map[string]string{"email": "person.email", "label": label}
	}
	w.Rule(rule.Draft{Name: "r", Trigger: "section.joined", Actions: []rule.Action{{
		Kind: rule.CallOperation, InterfaceID: labels.ID, Operation: "add-label", Fields: field("event.role"),
		Fallbacks: map[string]string{"label": "learner"},
	}}})
	e := w.Joined("k1", "stu-001", "PROP-A")
	e.Data["role"] = "weeds" // not a label that the list has
	d := w.DeliveriesOf(w.Record(e).ID)[0]
	w.Deliver()
	d, err := one(t, w, d.ID)
	require.NoError(t, err)
	assert.Equal(t, deliverystore.DeliveryWaiting, d.State,
		"200 with an error inside is no success, and again would not help")
	assert.Equal(t, string(finding.NotSuccess), d.Code)
	assert.Contains(t, d.LastError, "there is no label weeds")
	e = w.Joined("k2", "stu-002", "PROP-A")
	e.Data["role"] = ""
	w.Record(e)
	w.Deliver()
	assert.Equal(t, []string{"learner"}, w.Standins.Contacts.Contacts()[0].Labels, "an empty value gets its fallback")

	tried, err := w.Rules.TryOperation(t.Context(), "test", labels.ID, "add-label",
		map[string]any{"email": "a@x.example", "label": "weeds"})
	require.NoError(t, err)
	assert.False(t, tried.Worked)
	assert.Contains(t, tried.Problem, `has no label "weeds"; it has ["learner"`)
	assert.ErrorContains(t, w.Rules.DropOperation(t.Context(), "test", labels.ID, "add-label"),
		`the rule "r" uses it`)
	_, err = w.Rules.Save(t.Context(), "test", "", 0, rule.Draft{
		Name: "x", Trigger: "section.joined",
		Actions: []rule.Action{{
			Kind: rule.CallOperation, InterfaceID: labels.ID, Operation: "add-label",
			Fields: map[string]string{"email": "person.email"},
		}},
	})
	assert.ErrorContains(t, err, "the operation needs this value")
}

func one(t *testing.T, w *apptest.World, id string) (deliverystore.ListedDelivery, error) {
	d, err := deliverystore.FindDelivery(t.Context(), w.Store, id)
	return deliverystore.ListedDelivery{Delivery: d}, err
}

// A receiver that redirects is not followed, unless its interface allows it; into a
// private network only when any address is allowed.
func TestRedirectsAreRefusedUnlessAllowed_E9(t *testing.T) {
	for allowed, refusal := range map[string]string{
		"":                      "redirects to http",
		adapter.PublicRedirects: "an address in a private network",
		adapter.AllRedirects:    "",
	} {
		w, _ := apptest.Clocked(t)
		received := ""
		inside := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			received = r.Header.Get("webhook-id") + string(body)
		}))
		defer inside.Close()
		outside := httptest.NewServer(http.RedirectHandler(inside.URL+"/private", http.StatusTemporaryRedirect))
		defer outside.Close()
		values := map[string]string{
			"address": outside.URL,
			"secret":  "whsec_RmVybm1vb3ItR2FyZGVuLVNjaG9vbC1kZW1vLXNlY3JldA==",
		}
		if allowed != "" {
			values["redirects"] = allowed
		}
		c := w.Connect("webhook", "moved", values)
		w.Rule(rule.Draft{
			Name: "r", Trigger: "section.joined",
			Actions: []rule.Action{{
				Kind: rule.SendEvent, InterfaceID: c.ID,
				Fields: map[string]string{"x": `"y"`},
			}},
		})
		w.Record(w.Joined("k1", "stu-001", "PROP-A"))
		w.Deliver()
		d := w.DeliveriesThat(deliverystore.DeliveryFilter{})[0]
		if refusal == "" {
			assert.Equal(t, deliverystore.DeliveryDelivered, d.State)
			assert.Contains(t, received, d.ID, "the same id and body went where it led")
			assert.Contains(t, received, `"x":"y"`)
			continue
		}
		assert.Empty(t, received, allowed)
		assert.Equal(t, deliverystore.DeliveryWaiting, d.State, "nothing changes by itself")
		assert.Contains(t, d.LastError, refusal)
	}
}

func TestEnrolmentsArePickedUp(t *testing.T) {
	w, _ := apptest.Clocked(t)
	c := w.Connect("oneroster-delta", "Platform by file", nil)
	soil := w.Section("SOIL-A")
	w.Rule(rule.Draft{
		Name: "in", Trigger: "module.completed",
		Actions: []rule.Action{{Kind: rule.Enrol, InterfaceID: c.ID, SectionID: soil.ID}},
	})
	w.Rule(rule.Draft{
		Name: "out", Trigger: "module.reopened",
		Actions: []rule.Action{{Kind: rule.Unenrol, InterfaceID: c.ID, SectionID: soil.ID}},
	})
	w.Record(w.About(rule.ModuleCompleted, "k1", "stu-030"))
	w.Deliver()
	pending := func() []deliverystore.Pickup {
		list, _, err := deliverystore.Pickups(context.Background(), w.Store, c.ID, time.Time{})
		require.NoError(t, err)
		return list
	}
	require.Len(t, pending(), 1)
	assert.Equal(t, "sec-soil-a", pending()[0].Section)
	assert.Equal(t, "stu-030", pending()[0].Person)
	assert.True(t, pending()[0].Active)
	w.Record(w.About(rule.ModuleReopened, "k2", "stu-030"))
	w.Deliver()
	require.Len(t, pending(), 1, "the latest state only")
	assert.False(t, pending()[0].Active)
}

func TestRulesKeepTheirVersions(t *testing.T) {
	w, _ := apptest.Clocked(t)
	a := rule.Action{Kind: rule.OpenTask, Subject: "first"}
	r := w.Rule(rule.Draft{Name: "r", Trigger: "section.joined", Actions: []rule.Action{a}})
	w.Record(w.Joined("k1", "stu-001", "PROP-A"))
	a.Subject = "second"
	d := r.Draft()
	d.Actions = []rule.Action{a}
	_, err := w.Rules.Save(t.Context(), "test", r.ID, r.Version, d)
	require.NoError(t, err)
	w.Record(w.Joined("k2", "stu-002", "PROP-A"))
	list := w.DeliveriesThat(deliverystore.DeliveryFilter{RuleID: r.ID})
	require.Len(t, list, 2)
	versions, err := rulestore.RuleVersions(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	was := map[int]string{}
	for _, v := range versions {
		was[v.Version] = v.Draft.Actions[0].Subject
	}
	assert.Equal(t, "second", was[list[0].RuleVersion], "the newest delivery")
	assert.Equal(t, "first", was[list[1].RuleVersion])
	_, err = w.Rules.Save(t.Context(), "test", r.ID, r.Version, d)
	assert.ErrorIs(t, err, db.ErrStale)
	assert.ErrorContains(t, w.Rules.Remove(t.Context(), "test", r.ID), "switch it off first")
}

// A pass that comes while what the fail did is on its way to the service: it arrives,
// and is reverted.
func TestRevertedWhileUnderWay_E8(t *testing.T) {
	w, _ := apptest.Clocked(t)
	labels := w.Labels()
	w.Rule(rule.Draft{
		Name: "r", Trigger: "assessment.failed", UndoneBy: []string{"assessment.passed"},
		Actions: []rule.Action{
			{
				Kind: rule.CallOperation, InterfaceID: labels.ID, Operation: "add-label",
				Fields: map[string]string{"email": "person.email", "label": `"to-repeat"`},
			},
		},
	})
	failed := w.Record(w.About(rule.AssessmentFailed, "f1", "stu-001"))
	require.NoError(t, w.Standins.Fault("contacts", fault.Fault{
		Kind: fault.Latency, Millis: 700,
		Path: "/api/contacts",
	}))
	ended := make(chan error, 1)
	go func() {
		_, err := w.Deliveries.Deliver(context.Background(),
			w.DeliveriesThat(deliverystore.DeliveryFilter{EventID: failed.ID})[0].ID)
		ended <- err
	}()
	eventually(t, "the call is under way", func() bool { return counted(t, w, `begun_at IS NOT NULL`) == 1 })
	w.Record(w.About(rule.AssessmentPassed, "p1", "stu-001"))
	require.NoError(t, <-ended)
	w.Standins.ClearFaults()
	w.Deliver()
	require.Len(t, w.Standins.Contacts.Contacts(), 1)
	assert.Empty(t, w.Standins.Contacts.Contacts()[0].Labels)
	assert.Len(t, w.DeliveriesThat(deliverystore.DeliveryFilter{}), 2)
}

func TestGroupsAtAService(t *testing.T) {
	w, _ := apptest.Clocked(t)
	w.Standins.Workspace.Open("Greenhouse talk")
	c := w.Workspace()
	w.Rule(rule.Draft{
		Name: "r", Trigger: "module.completed", UndoneBy: []string{"module.reopened"},
		Actions: []rule.Action{{
			Kind: rule.AddToGroup, InterfaceID: c.ID,
			Group: "{{get \"event.room\" \"Greenhouse\"}} talk",
		}},
	})
	w.Record(w.About(rule.ModuleCompleted, "k1", "stu-001"))
	w.Record(w.About(rule.ModuleCompleted, "k2", "stu-005")) // without an address
	w.Deliver()
	assert.Equal(t, []string{"Ada Alder"}, w.Standins.Workspace.Space("Greenhouse talk"))
	waiting := w.DeliveriesThat(deliverystore.DeliveryFilter{State: deliverystore.DeliveryWaiting})
	require.Len(t, waiting, 1)
	assert.Equal(t, string(finding.AddressMissing), waiting[0].Code, "that is what is to be mended")
	w.Record(w.About(rule.ModuleReopened, "k3", "stu-001"))
	w.Deliver()
	assert.Empty(t, w.Standins.Workspace.Space("Greenhouse talk"))
}

// A condition that could not be worked out is looked at again when somebody tries the
// delivery again: nobody is reached for whom it does not hold.
func TestRefusedConditionIsLookedAtAgain(t *testing.T) {
	w, _ := apptest.Clocked(t)
	r := w.Rule(rule.Draft{
		Name: "r", Trigger: "assessment.passed", Condition: `event.score >= 0.9`,
		Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "x"}},
	})
	e := w.About(rule.AssessmentPassed, "k1", "stu-001")
	delete(e.Data, "score")
	id := w.DeliveriesOf(w.Record(e).ID)[0].ID
	require.NoError(t, w.Deliveries.Retry(t.Context(), "test", id))
	w.Deliver()
	d, err := deliverystore.FindDelivery(t.Context(), w.Store, id)
	require.NoError(t, err)
	assert.Equal(t, deliverystore.DeliveryWaiting, d.State, "it still cannot be told")
	draft := r.Draft()
	draft.Condition = `has(event.score) && event.score >= 0.9`
	_, err = w.Rules.Save(t.Context(), "test", r.ID, 0, draft)
	require.NoError(t, err)
	require.NoError(t, w.Deliveries.Retry(t.Context(), "test", id))
	w.Deliver()
	d, err = deliverystore.FindDelivery(t.Context(), w.Store, id)
	require.NoError(t, err)
	assert.Equal(t, deliverystore.DeliverySkipped, d.State)
	tasks, err := taskstore.Tasks(t.Context(), w.Store, false, 10, nil)
	require.NoError(t, err)
	assert.Empty(t, tasks)
}

// After the address was entered in the register, what waited for it goes on by itself; what
// waits for something else does not.
func TestWhatWaitedForAnAddressGoesOn(t *testing.T) {
	w, _ := apptest.Clocked(t)
	connections, err := connectionstore.Interfaces(t.Context(), w.Store)
	require.NoError(t, err)
	register := connections[slices.IndexFunc(connections,
		func(c connectionstore.Interface) bool { return c.Name == "Register" })]
	mail := w.Mail()
	w.Rule(rule.Draft{
		Name: "greet", Trigger: "section.joined",
		Actions: []rule.Action{{
			Kind: rule.Mail, InterfaceID: mail.ID, Subject: "Hello",
			Text: "Dear {{.person.givenName}}",
		}},
	})
	w.Rule(rule.Draft{
		Name: "parent", Trigger: "section.joined",
		Actions: []rule.Action{{
			Kind: rule.Mail, InterfaceID: mail.ID,
			To: `event.role == "nobody" ? "x@fernmoor.example" : ""`, Subject: "Hello", Text: "Dear parent",
		}},
	})
	e := w.Record(w.Joined("k", "stu-005", "PROP-A")) // who has no address
	w.Deliver()
	require.Equal(t, []string{"waiting", "waiting"},
		states(w.DeliveriesThat(deliverystore.DeliveryFilter{EventID: e.ID})))
	w.Read(register, false)
	w.Deliver()
	require.Equal(t, []string{"waiting", "waiting"},
		states(w.DeliveriesThat(deliverystore.DeliveryFilter{EventID: e.ID})), "nothing was mended")
	require.NoError(t, w.Standins.School.SetEmail("stu-005", "elsa.elder@fernmoor.example"))
	w.Read(register, false)
	w.Deliver()
	assert.Equal(t, []string{"delivered", "waiting"},
		states(w.DeliveriesThat(deliverystore.DeliveryFilter{EventID: e.ID})))
	require.Len(t, w.Standins.Inbox.Mails(), 1)
	assert.Equal(t, "elsa.elder@fernmoor.example", w.Standins.Inbox.Mails()[0].To)
}

// Which percentages are reported is the outline's to say; a rule that waits for another one
// is refused with the reason.
func TestRulesWaitForPercentagesThatAreReported_E5(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	platform := w.Connect("xapi", "Platform", nil).ID
	course := w.Section("PROP-A").CourseID
	d := rule.Draft{
		Name: "r", Trigger: "progress.crossed", Scope: rule.Scope{Course: course},
		Condition: `event.percent == 40`, Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "x"}},
	}
	_, err := w.Rules.Save(t.Context(), "test", "", 0, d)
	require.ErrorContains(t, err, "event.percent is one of 25, 50, 75, 100 here")
	o, err := learningstore.Outline(t.Context(), w.Store, course)
	require.NoError(t, err)
	o.Percentages = []int{40, 100}
	require.NoError(t, w.Outlines.SetOutline(t.Context(), "test", course, o))
	w.Rule(d)
	w.Completes(platform, "stu-006", "one", *now)
	w.Deliver()
	tasks, err := taskstore.Tasks(t.Context(), w.Store, false, 10, nil)
	require.NoError(t, err)
	assert.Len(t, tasks, 1, "half of it is more than 40")
	_, err = w.Rules.Save(t.Context(), "test", "", 0, rule.Draft{
		Name: "s", Trigger: "assessment.passed",
		Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "x", If: "event.score > 80"}},
	})
	require.ErrorContains(t, err, "so 80 % is 0.8")
}

// Conditions and texts know where somebody was last, what comes next, what is missing, and
// who teaches.
func TestTextsKnowWhatComesNextAndWhoTeaches_E5(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	platform := w.Connect("xapi", "Platform", nil).ID
	w.Rule(rule.Draft{
		Name: "r", Trigger: "activity.completed",
		Condition: `progress.missingCount > 0 && section.teachers != ""`, Actions: []rule.Action{{
			Kind:    rule.OpenTask,
			Subject: "{{.progress.lastTitle}}, then {{.progress.nextTitle}} at {{.progress.nextAddress}}; open: {{.progress.missing}}, in {{.module.title}}: {{.progress.missingInModule}}; ask {{.section.teachers}} ({{.section.teacherEmails}})",
		}},
	})
	w.Completes(platform, "stu-006", "one", *now)
	w.Deliver()
	w.Completes(platform, "stu-006", "two", *now)
	w.Deliver()
	tasks, err := taskstore.Tasks(t.Context(), w.Store, false, 10, nil)
	require.NoError(t, err)
	require.Len(t, tasks, 1, "after the second nothing is missing")
	x := w.Section("PROP-A")
	require.NotEmpty(t, x.Teachers)
	assert.Contains(t, tasks[0].Title,
		"One, then Two at "+apptest.Activities+"two; open: Two, in M: Two; ask "+strings.Join(x.Teachers, ", ")+" (")
	assert.Contains(t, tasks[0].Title, "@fernmoor.example)")
}

// A missing address is said to be missing, not the template to be wrong; and what waits
// because a credential was refused goes on once a test shows that it works.
func TestCausesAreTrueAndMendsLetGoOn_C2(t *testing.T) {
	w, _ := apptest.Clocked(t)
	c := w.Contacts()
	w.Rule(rule.Draft{
		Name: "r", Trigger: "module.completed",
		Actions: []rule.Action{{
			Kind: rule.SendEvent, InterfaceID: c.ID,
			Fields: map[string]string{"email": "person.email", "label": `"x"`},
		}},
	})
	w.Record(w.About(rule.ModuleCompleted, "k1", "stu-005")) // without an address
	w.Deliver()
	waiting := w.DeliveriesThat(deliverystore.DeliveryFilter{State: deliverystore.DeliveryWaiting})
	require.Len(t, waiting, 1)
	assert.Equal(t, string(finding.AddressMissing), waiting[0].Code)

	require.NoError(t, w.Standins.Fault("contacts", fault.Fault{Kind: fault.Status, Status: 401}))
	e := w.Record(w.About(rule.ModuleCompleted, "k2", "stu-006"))
	w.Deliver()
	assert.Equal(t, []string{deliverystore.DeliveryWaiting, string(finding.WrongCredential)},
		[]string{w.DeliveriesOf(e.ID)[0].State, w.DeliveriesOf(e.ID)[0].Code})
	w.Standins.ClearFaults()
	_, err := w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	w.Deliver()
	assert.Equal(t, deliverystore.DeliveryDelivered, w.DeliveriesOf(e.ID)[0].State)
	assert.Len(t, w.DeliveriesThat(deliverystore.DeliveryFilter{State: deliverystore.DeliveryWaiting}), 1,
		"the address is missing still")
}
