// Package apptest sets up use cases for their tests: a database of the test's
// own, running stand-ins, and the demo school read into the mirror. Nothing works
// in the background: tests call Work, React and Deliver themselves.
//
//	w := apptest.New(t)
//	w.Read()
//	person := w.Person("stu-001")
package apptest

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/batches"
	"kanban/internal/app/connections"
	"kanban/internal/app/registers"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/standin"
	"kanban/internal/standin/contacts"
	"kanban/internal/standin/platform"
	"kanban/internal/standin/workspace"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/call"
	"kanban/internal/wiring"
)

// World is everything a use case's test needs.
type World struct {
	*wiring.UseCases
	t        testing.TB
	Store    *db.Database
	Standins *standin.Standins
}

// Quick makes outside calls fail fast.
var Quick = call.Options{
	Timeout: 2 * time.Second, Retries: 2, WaitMin: time.Millisecond,
	WaitMax: 10 * time.Millisecond,
}

// New sets a world up.
func New(t testing.TB) *World {
	t.Helper()
	return Over(t, storetest.New(t))
}

// Over sets a world up over a database that something else uses too.
func Over(t testing.TB, s *db.Database) *World {
	t.Helper()
	outside, err := standin.Start(0)
	require.NoError(t, err)
	t.Cleanup(outside.Stop)
	x := &World{t: t, Store: s, Standins: outside, UseCases: wiring.New(s,
		wiring.Options{
			Public: "http://kanban.example", Zone: time.UTC, Call: Quick,
			Delays: []time.Duration{time.Second, time.Minute},
		})}
	x.Batches.Clock = func() time.Time { return x.Pairings.Clock.Now() }
	return x
}

// DoBatch does what a batch shows, as a job would.
func (w *World) DoBatch(who, id string, approved bool) (batches.Batch, error) {
	w.t.Helper()
	b, err := w.Batches.Do(w.t.Context(), who, id, approved)
	if err != nil {
		return b, err
	}
	require.NoError(w.t, w.Batches.CarryOut(w.t.Context(), id))
	b, err = w.Batches.Batch(w.t.Context(), id)
	require.NoError(w.t, err)
	return b, nil
}

// Connect makes a connection with one interface.
func (w *World) Connect(kind, name string, values map[string]string) connectionstore.Interface {
	w.t.Helper()
	c, _ := w.ConnectMade(kind, name, values)
	return c
}

// ConnectMade does so, and gives the values that were made for the other side.
func (w *World) ConnectMade(kind, name string, values map[string]string) (connectionstore.Interface,
	connections.Made,
) {
	w.t.Helper()
	_, all, made, err := w.Connections.Connect(w.t.Context(), "test", connections.NewConnection{
		Name: name, Interfaces: []connections.NewInterface{{Kind: kind, Values: values}},
	})
	require.NoError(w.t, err)
	return all[0], made[0]
}

// Register connects the register.
func (w *World) Register() connectionstore.Interface {
	a := w.Standins.Addresses
	return w.Connect("oneroster", "Register", map[string]string{
		"address":      a.Register,
		"tokenAddress": a.Register + "/oauth/token", "clientId": "kanban", "clientSecret": "green-fingers",
	})
}

// Workspace connects the chat workspace.
func (w *World) Workspace() connectionstore.Interface {
	return w.Connect("scim", "Workspace", map[string]string{
		"address": w.Standins.Addresses.Workspace + "/scim/v2",
		"token":   "potting-shed", "late": "0", "notice": workspace.WelcomeSchema + ":sendWelcome",
	})
}

// Contacts connects the contact list.
func (w *World) Contacts() connectionstore.Interface {
	return w.Connect("webhook", "Contacts", map[string]string{
		"address": w.Standins.Addresses.Contacts + "/events",
		"secret":  "whsec_RmVybm1vb3ItR2FyZGVuLVNjaG9vbC1kZW1vLXNlY3JldA==",
	})
}

// Shop connects the shop, which from then on tells what is bought there.
func (w *World) Shop() adapter.Interface {
	c := w.Connect("cloudevents", "Shop", nil)
	opened, err := w.Connections.Open(w.t.Context(), c.ID)
	require.NoError(w.t, err)
	return opened
}

// Labels connects the contact list's own API, with the operations that add and remove
// a label.
func (w *World) Labels() connectionstore.Interface {
	c := w.Connect("http-api", "Labels", map[string]string{
		"address": w.Standins.Addresses.Contacts + "/api",
		"token":   contacts.Token, "probe": "/labels",
	})
	email := rule.OperationField{Name: "email", Required: true}
	label := rule.OperationField{Name: "label", Required: true, ListPath: "/labels", List: "answer.body"}
	for _, o := range []rule.Operation{
		{
			Name: "remove-label", Method: "DELETE", Path: "/contacts/{email}/labels",
			Fields: []rule.OperationField{email, label}, Success: "answer.body.ok",
		},
		{
			Name: "add-label", Method: "POST", Path: "/contacts/{email}/labels",
			Fields: []rule.OperationField{email, label}, Success: "answer.body.ok", Undo: "remove-label",
		},
	} {
		require.NoError(w.t, w.Rules.KeepOperation(w.t.Context(), "test", c.ID, o))
	}
	return c
}

// Platform connects the course platform, in which sections are groups.
func (w *World) Platform() connectionstore.Interface {
	return w.Connect("scim", "Platform", map[string]string{
		"address": w.Standins.Addresses.Platform + "/scim/v2",
		"token":   platform.Token, "late": "0",
	})
}

// Rule makes a rule and switches it on.
func (w *World) Rule(d rule.Draft) rulestore.Rule {
	w.t.Helper()
	r, err := w.Rules.Save(w.t.Context(), "test", "", 0, d)
	require.NoError(w.t, err)
	r, err = w.Rules.Switch(w.t.Context(), "test", r.ID, true, "")
	require.NoError(w.t, err)
	return r
}

// Deliver makes an attempt at every delivery that is queued or to be tried again, the
// oldest first, until nothing more happens at this time by the clock.
func (w *World) Deliver() {
	w.t.Helper()
	for range 20 {
		rows, err := w.Store.Pool.Query(w.t.Context(), `SELECT id::text FROM deliveries
			WHERE state IN ('queued', 'retrying') ORDER BY id`)
		require.NoError(w.t, err)
		ids, err := pgx.CollectRows(rows, pgx.RowTo[string])
		require.NoError(w.t, err)
		moved := false
		for _, id := range ids {
			again, err := w.Deliveries.Deliver(w.t.Context(), id)
			require.NoError(w.t, err)
			moved = moved || again == 0
		}
		if !moved {
			return
		}
	}
	w.t.Fatal("deliveries do not come to an end")
}

// Follow carries out what is queued about facts, as the worker would, until nothing more
// follows.
func (w *World) Follow() {
	w.t.Helper()
	ctx := w.t.Context()
	for range 50 {
		rows, err := w.Store.Pool.Query(ctx, `DELETE FROM river_job WHERE kind IN ('react', 'work-out-stages',
			'recount-course') AND state = 'available' RETURNING kind, args`)
		require.NoError(w.t, err)
		found := 0
		var kind string
		var args []byte
		var todo []func() error
		_, err = pgx.ForEachRow(rows, []any{&kind, &args}, func() error {
			found++
			switch kind {
			case "react":
				var j jobs.React
				err := json.Unmarshal(args, &j)
				todo = append(todo, func() error { return w.Deliveries.React(ctx, j.EventIDs, j.RuleID) })
				return err
			case "recount-course":
				var j jobs.RecountCourse
				err := json.Unmarshal(args, &j)
				todo = append(todo, func() error { return w.Facts.Recount(ctx, j) })
				return err
			}
			var j jobs.WorkOutStages
			err := json.Unmarshal(args, &j)
			todo = append(todo, func() error {
				if j.StagePlanID != "" {
					return w.Stages.WorkOut(ctx, j.StagePlanID)
				}
				return w.Stages.Touched(ctx, j.People, j.Courses, j.Badges)
			})
			return err
		})
		require.NoError(w.t, err)
		for _, do := range todo {
			require.NoError(w.t, do())
		}
		w.Deliver()
		if found == 0 {
			return
		}
	}
	w.t.Fatal("what follows from facts does not come to an end")
}

// Mail connects the mail server.
func (w *World) Mail() connectionstore.Interface {
	return w.Connect("smtp", "Mail", map[string]string{
		"server": w.Standins.Addresses.SMTP,
		"from":   "kanban@fernmoor.example", "security": "none",
	})
}

// Read reads a register and gives the ended run.
func (w *World) Read(c connectionstore.Interface, approved bool) runstore.Run {
	w.t.Helper()
	r, err := w.Registers.Start(w.t.Context(), "test", registers.Request{InterfaceID: c.ID, Approved: approved})
	require.NoError(w.t, err)
	require.NoError(w.t, w.Registers.Work(w.t.Context(), r.ID, true))
	r, err = runstore.FindRun(w.t.Context(), w.Store, r.ID)
	require.NoError(w.t, err)
	return r
}

// WorkAll carries out every run that is queued, and gives them as they ended.
func (w *World) WorkAll() (ended []runstore.Run) {
	w.t.Helper()
	all, err := runstore.Runs(w.t.Context(), w.Store, runstore.Wanted{Limit: 1000})
	require.NoError(w.t, err)
	for _, r := range all {
		if !r.Active() || r.Kind != runstore.RunSync {
			continue
		}
		require.NoError(w.t, w.Runs.Work(w.t.Context(), r.ID, true))
		r, err = runstore.FindRun(w.t.Context(), w.Store, r.ID)
		require.NoError(w.t, err)
		ended = append(ended, r)
	}
	return ended
}

// Person finds somebody by the register's identifier.
func (w *World) Person(identifier string) rosterstore.Person {
	w.t.Helper()
	p, err := rosterstore.PersonByIdentifier(w.t.Context(), w.Store, identifier)
	require.NoError(w.t, err)
	return p
}

// Section finds a section by its code, one that is there.
func (w *World) Section(code string) rosterstore.Section {
	w.t.Helper()
	all, err := rosterstore.Sections(w.t.Context(), w.Store)
	require.NoError(w.t, err)
	for _, s := range all {
		if s.Code == code && !s.Gone {
			return s
		}
	}
	w.t.Fatalf("no section %s", code)
	return rosterstore.Section{}
}

// Sync previews a pairing, runs it and gives the ended run.
func (w *World) Sync(pairingID string, approved bool) runstore.Run {
	w.t.Helper()
	p, err := w.Runs.Preview(w.t.Context(), pairingID)
	require.NoError(w.t, err)
	r, err := w.Runs.Start(w.t.Context(), "test", p.ID, approved)
	require.NoError(w.t, err)
	require.NoError(w.t, w.Runs.Work(w.t.Context(), r.ID, true))
	r, err = runstore.FindRun(w.t.Context(), w.Store, r.ID)
	require.NoError(w.t, err)
	if r.State == runstore.Finished || r.State == runstore.NeedsPerson {
		people := 0
		for _, name := range roster.Results {
			people += r.Counts[name]
		}
		require.Equal(w.t, len(p.Plan.Entries), people, "a run gives everybody of the preview one result: %v",
			r.Counts)
	}
	return r
}

// Record records one event and lets rules react to it.
func (w *World) Record(e eventstore.Event) eventstore.Event {
	w.t.Helper()
	events := []eventstore.Event{e}
	require.NoError(w.t, w.Store.InTx(w.t.Context(), func(tx *db.Tx) error {
		_, err := eventstore.RecordEvents(w.t.Context(), tx, events)
		return err
	}))
	require.NoError(w.t, w.Deliveries.React(w.t.Context(), []string{events[0].ID}, ""))
	return events[0]
}

// DeliveriesOf lists the deliveries of an event by position.
func (w *World) DeliveriesOf(eventID string) []deliverystore.ListedDelivery {
	w.t.Helper()
	all, err := deliverystore.Deliveries(w.t.Context(), w.Store,
		deliverystore.DeliveryFilter{EventID: eventID, Limit: 100})
	require.NoError(w.t, err)
	out := make([]deliverystore.ListedDelivery, len(all))
	for _, d := range all {
		out[d.Position] = d
	}
	return out
}
