package proofs_test

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/app/proofs"
	"kanban/internal/app/reports"
	"kanban/internal/apptest"
	"kanban/internal/core/refusal"
	"kanban/internal/core/report"
	"kanban/internal/core/rule"
	"kanban/internal/standin/fault"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/proofstore"
	"kanban/internal/wire/openbadge"
)

// chained is a world with a section that is paired, a course with an outline, and rules that greet, label, award,
// write and fill a sheet.
func chained(t *testing.T) *apptest.World {
	t.Helper()
	w, _ := apptest.Clocked(t)
	w.Outlined()
	chat := w.Workspace()
	pairing, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID: w.Section("PROP-A").ID, InterfaceID: chat.ID,
	})
	require.NoError(t, err)
	w.Sync(pairing.ID, true)
	labels, mail := w.Labels(), w.Mail()
	issuer, err := w.Badges.AddIssuer(t.Context(), "test", badgestore.Issuer{
		Name: "Fernmoor",
		URL:  "http://f.example", Email: "b@f.example",
	})
	require.NoError(t, err)
	b, err := w.Badges.AddBadge(t.Context(), "test", badgestore.Badge{
		IssuerID: issuer.ID, Name: "Cuttings",
		Description: "d", Criteria: "c",
	})
	require.NoError(t, err)
	w.Rule(rule.Draft{Name: "Greet", Trigger: string(rule.SectionJoined), Condition: `event.role == "student"`, OncePerPerson: true, Actions: []rule.Action{
		{
			Kind: rule.CallOperation, InterfaceID: labels.ID, Operation: "add-label",
			Fields: map[string]string{"email": "person.email", "label": `"learner"`},
		},
		{Kind: rule.AppendRow, Sheet: "joined", Fields: map[string]string{"name": "person.name"}},
		{Kind: rule.OpenTask, Subject: "Say hello", Owner: "maud@fernmoor.example"},
	}})
	w.Rule(rule.Draft{
		Name: "Well done", Trigger: string(rule.ModuleCompleted), OncePerPerson: true,
		Actions: []rule.Action{
			{Kind: rule.Award, BadgeID: b.ID},
			{Kind: rule.Mail, InterfaceID: mail.ID, Subject: "Well done", Text: "Look: {{.award.address}}"},
		},
	})
	return w
}

// follow lets everything happen that is due.
func follow(w *apptest.World) {
	for range 4 {
		w.Follow()
		w.Deliver()
	}
}

// end works at a proof until it has come to an end.
func end(t *testing.T, w *apptest.World, id string, anyway bool) {
	t.Helper()
	for range 20 {
		again, err := w.Proofs.Work(t.Context(), id, anyway)
		require.NoError(t, err)
		if again == 0 {
			return
		}
		follow(w)
	}
	t.Fatal("the proof does not come to an end")
}

// seen is everything that anybody reads of counts and lists, as text.
func seen(t *testing.T, w *apptest.World) string {
	t.Helper()
	ctx := t.Context()
	must := func(x any, err error) any {
		require.NoError(t, err)
		return x
	}
	people, err := w.Registers.People(ctx, "test learner", 10, nil)
	require.NoError(t, err)
	sheet := must(w.Deliveries.SheetRows(ctx, "joined"))
	events, err := w.Deliveries.Events(ctx, eventstore.EventFilter{Limit: 100})
	require.NoError(t, err)
	events = slices.DeleteFunc(events, func(e eventstore.ListedEvent) bool { return e.PersonID == nil })
	deliveries := must(w.Deliveries.Deliveries(ctx, deliverystore.DeliveryFilter{Limit: 100}))
	awards := must(w.Badges.Awards(ctx, badgestore.AwardFilter{Limit: 100}))
	tasks := must(w.Tasks.Tasks(ctx, false, 100, nil))
	badges := must(w.Badges.Badges(ctx, nil)).([]badgestore.ListedBadge)
	uses := must(w.Rules.UsageOfRules(ctx, time.Now()))
	var text bytes.Buffer
	out := json.NewEncoder(&text)
	for _, x := range []any{
		people.Total, sheet, events, deliveries, awards, tasks, badges[0].Awards,
		badges[0].Revoked, uses,
	} {
		require.NoError(t, out.Encode(x))
	}
	for _, d := range reports.All {
		a := reports.Ask{}
		if d.Name == report.Holdings {
			a.Section = "PROP-A"
		}
		made, err := w.Reports.Make(ctx, d.Name, a)
		require.NoError(t, err)
		text.WriteString(strings.Join(made.Summary, "\n") + "\n")
		for i := range made.Parts {
			require.NoError(t, w.Reports.Write(&text, made, i, "csv"))
		}
	}
	return text.String()
}

// there counts the accounts and memberships at the workspace.
func there(w *apptest.World) (accounts, members int) {
	users, groups := w.Standins.Workspace.Content()
	for _, g := range groups {
		members += len(g.Members)
	}
	return len(users), members
}

// labels are those of the test learner in the contact list.
func labels(w *apptest.World) []string {
	for _, c := range w.Standins.Contacts.Contacts() {
		if c.Email == "trial@fernmoor.example" {
			return c.Labels
		}
	}
	return nil
}

// pairingOf gives the id of the section's pairing.
func pairingOf(t *testing.T, w *apptest.World) string {
	t.Helper()
	all, err := linkstore.PairingsOfSections(t.Context(), w.Store, []string{w.Section("PROP-A").ID})
	require.NoError(t, err)
	require.Len(t, all, 1)
	return all[0].ID
}

// register is the one that is connected.
func register(t *testing.T, w *apptest.World) connectionstore.Interface {
	t.Helper()
	c, err := connectionstore.FindInterface(t.Context(), w.Store, w.Section("PROP-A").Interface)
	require.NoError(t, err)
	return c
}

func start(t *testing.T, w *apptest.World) proofs.Proof {
	t.Helper()
	p, err := w.Proofs.Start(t.Context(), "Maud", proofs.Wish{SectionID: w.Section("PROP-A").ID, Email: "trial@fernmoor.example"})
	require.NoError(t, err)
	return p
}

// states says by kind how the steps of a proof stand.
func states(p proofs.Proof) map[string][]string {
	out := map[string][]string{}
	for _, x := range p.Steps {
		out[x.Kind] = append(out[x.Kind], x.State)
	}
	return out
}

// A test learner goes the whole way: everything arrives, nothing counts, a read of the register ends nothing, and when
// it is reverted nothing of them is left anywhere.
func TestATestLearnerProvesTheWayAndVanishes(t *testing.T) {
	w := chained(t)
	before := seen(t, w)
	accounts, members := there(w)
	p := start(t, w)
	end(t, w, p.ID, false)
	follow(w)

	p, err := w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string][]string{
		"join": {"arrived"}, "class": {"arrived"}, "module": {"arrived"}, "rule": {"arrived", "arrived", "arrived"},
		"badge": {"arrived"}, "message": {"arrived"}, "score": {"not-set-up"},
	}, states(p))
	require.Len(t, w.Standins.Inbox.Mails(), 1)
	assert.Equal(t, "trial@fernmoor.example", w.Standins.Inbox.Mails()[0].To)
	during, _ := there(w)
	assert.Equal(t, accounts+1, during)
	assert.Contains(t, labels(w), "learner")
	assert.Equal(t, before, seen(t, w), "a test learner counts nowhere")

	w.Read(register(t, w), false)
	w.Sync(pairingOf(t, w), true)
	follow(w)
	again, err := w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, states(p), states(again), "the register lists no test learner, and ends none")
	between, _ := there(w)
	assert.Equal(t, accounts+1, between, "a run leaves them where they are")
	assert.Equal(t, before, seen(t, w))
	awards, err := w.Badges.Awards(t.Context(), badgestore.AwardFilter{PersonID: p.PersonID, Limit: 10})
	require.NoError(t, err)
	require.Len(t, awards, 1)

	require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	end(t, w, p.ID, false)
	p, err = w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverted, p.State)
	assert.Equal(t, []string{"the mail of the rule Well done that was sent to trial@fernmoor.example"}, p.Remains)
	assert.Equal(t, []string{"arrived"}, states(p)["badge"], "what there was to see is kept")
	nowAccounts, nowMembers := there(w)
	assert.Equal(t, accounts, nowAccounts)
	assert.Equal(t, members, nowMembers)
	assert.Empty(t, labels(w))
	assert.Equal(t, before, seen(t, w))
	for _, table := range []string{
		"people WHERE id", "events WHERE person_id", "deliveries WHERE person_id", "progress WHERE person_id",
		"activity_progress WHERE person_id", "tasks WHERE person_id", "accounts WHERE person_id",
		"placements WHERE person_id",
	} {
		var n int
		require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM `+table+` = $1`, p.PersonID).Scan(&n))
		assert.Zero(t, n, table)
	}
	checked, err := w.Badges.Check(t.Context(), awards[0].ID)
	require.NoError(t, err)
	assert.Equal(t, openbadge.Revoked, checked.Verdict, "whoever kept the badge is told")

	other := start(t, w) // and once more, with the same address
	end(t, w, other.ID, false)
	follow(w)
	other, err = w.Proofs.Find(t.Context(), other.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"arrived"}, states(other)["message"])
	require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", other.ID, false))
	end(t, w, other.ID, false)
	last, _ := there(w)
	assert.Equal(t, accounts, last)
}

// A service that is away while the test learner is on the way, and while that is reverted, is said; what it holds
// keeps the proof from ending, and nothing is done twice.
func TestWhatDoesNotArriveIsSaid(t *testing.T) {
	w := chained(t)
	accounts, _ := there(w)
	p := start(t, w)
	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{
		Kind: fault.Status, Status: 500, Path: "/Groups",
		Count: 8,
	}))
	end(t, w, p.ID, false)
	follow(w)
	now, err := w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"failed"}, states(now)["class"])
	assert.Equal(t, []string{"arrived"}, states(now)["message"], "one step keeps none of the others from being tried")
	w.Standins.ClearFaults()
	require.NoError(t, w.Proofs.Again(t.Context(), "Maud", p.ID))
	end(t, w, p.ID, false)
	follow(w)
	now, err = w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"arrived"}, states(now)["class"])
	assert.Len(t, w.Standins.Inbox.Mails(), 1, "what has arrived is not done again")

	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Status, Status: 500, Count: 100}))
	require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	end(t, w, p.ID, false)
	now, err = w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverting, now.State)
	require.Len(t, now.Remains, 2, "the place and the account")
	assert.Contains(t, now.Remains[0], "the place in ")
	_, err = w.Proofs.Start(t.Context(), "Maud", proofs.Wish{SectionID: p.SectionID, Email: "other@fernmoor.example"})
	require.Error(t, err, "one at a time in a section")
	w.Standins.ClearFaults()
	require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	end(t, w, p.ID, false)
	now, err = w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverted, now.State)
	last, _ := there(w)
	assert.Equal(t, accounts, last)
}

func TestProofsThatCannotBe(t *testing.T) {
	w, _ := apptest.Clocked(t)
	section := w.Section("PROP-A")
	for field, x := range map[string]proofs.Wish{
		"section": {SectionID: "00000000-0000-0000-0000-000000000000", Email: "trial@fernmoor.example"},
		"email":   {SectionID: section.ID, Email: "nobody"},
		"module":  {SectionID: section.ID, Email: "trial@fernmoor.example", ModuleID: "x"},
		"person":  {SectionID: section.ID, PersonID: w.Person("stu-001").ID},
	} {
		_, err := w.Proofs.Start(t.Context(), "Maud", x)
		refused, is := refusal.As(err)
		require.True(t, is, "%s: %v", field, err)
		assert.Equal(t, field, refused.Field)
	}
	_, err := w.Proofs.Start(t.Context(), "Maud", proofs.Wish{SectionID: section.ID, Email: w.Person("stu-001").Email})
	refused, is := refusal.As(err)
	require.True(t, is)
	assert.Contains(t, refused.Detail, "somebody has the address")

	p := start(t, w) // no outline, no class, no rule
	require.Error(t, w.Proofs.Again(t.Context(), "Maud", p.ID))
	end(t, w, p.ID, false)
	p, err = w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	for kind, all := range states(p) {
		if kind != proofstore.Join {
			assert.Equal(t, []string{proofstore.NotSetUp}, all, kind)
		}
	}
	require.Error(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, true), "nothing is left before it was tried")
	require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	end(t, w, p.ID, false)
	require.Error(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	list, err := w.Proofs.List(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Empty(t, list[0].Remains)
	_, err = w.Proofs.Work(t.Context(), "none", false)
	require.NoError(t, err)
}

// Who reverts while the test learner is still on the way is heard: nothing goes on behind their back.
func TestRevertingOnTheWay(t *testing.T) {
	w := chained(t)
	before := seen(t, w)
	accounts, members := there(w)
	p := start(t, w)
	asked := false
	w.Proofs.Clock = func() time.Time { // asked for when the test learner has just joined
		if !asked {
			asked = true
			require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, false))
		}
		return time.Now()
	}
	end(t, w, p.ID, false)
	require.True(t, asked)
	p, err := w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverting, p.State, "the way ends")
	assert.NotContains(t, states(p), "module")
	require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, false), "once more does no harm")
	end(t, w, p.ID, false)
	p, err = w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverted, p.State)
	nowAccounts, nowMembers := there(w)
	assert.Equal(t, []int{accounts, members}, []int{nowAccounts, nowMembers})
	assert.Equal(t, before, seen(t, w))
}

// A service that deletes no accounts keeps one, switched off, which is said; one that has two accounts of one
// identifier is asked about.
func TestAccountsThatStay(t *testing.T) {
	w := chained(t)
	p := start(t, w)
	end(t, w, p.ID, false)
	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Status, Status: 405, Method: "DELETE"}))
	require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	end(t, w, p.ID, false)
	p, err := w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverted, p.State)
	assert.Contains(t, p.Remains, "the account at Workspace: the service deletes none, so it is switched off")
	users, groups := w.Standins.Workspace.Content()
	assert.False(t, users[len(users)-1].Active)
	w.Standins.ClearFaults()

	p, err = w.Proofs.Start(t.Context(), "Maud", proofs.Wish{SectionID: p.SectionID, Email: "second@fernmoor.example"})
	require.NoError(t, err)
	end(t, w, p.ID, false)
	users, groups = w.Standins.Workspace.Content()
	twin := users[len(users)-1]
	twin.ID, twin.UserName = "twin", "twin"
	w.Standins.Workspace.Replace(append(users, twin), groups)
	require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	end(t, w, p.ID, false)
	p, err = w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverting, p.State)
	assert.Contains(t, strings.Join(p.Remains, "; "), "2 accounts have the externalId")
	require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, true))
	end(t, w, p.ID, true)
	p, err = w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverted, p.State, "it may be left")
}

// The register's own test learner may have no address: what fails for that stays to be read when it was reverted.
func TestWhyItHadNotArrivedIsKept(t *testing.T) {
	w := chained(t)
	p, err := w.Proofs.Start(t.Context(), "Maud", proofs.Wish{
		SectionID: w.Section("PROP-A").ID,
		PersonID:  "stu-preview",
	})
	require.NoError(t, err)
	end(t, w, p.ID, false)
	follow(w)
	p, err = w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"failed"}, states(p)["badge"])
	assert.Equal(t, []string{"failed"}, states(p)["class"], "no account can be made without an address")
	for _, x := range p.Steps {
		assert.False(t, x.State == proofstore.Waits && x.Detail == "", "it says for what it waits: %v", x)
	}
	require.NoError(t, w.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	end(t, w, p.ID, false)
	ended, err := w.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverted, ended.State, ended.Remains)
	assert.Equal(t, states(p), states(ended))
	assert.Equal(t, "Preview Learner", w.Person("stu-preview").Name())
}
