package pipeline_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/wire/xapi"
)

// Many who report about the same people at once, in any order, with what is reverted
// and voided, while deliveries are made: nobody is refused, and every delivery ends, done,
// stopped, or skipped because another result counts.
func TestManyReportAboutTheSamePeople(t *testing.T) {
	w, _ := apptest.Clocked(t)
	labels := w.Labels()
	course := w.Section("PROP-A").CourseID
	require.NoError(t, w.Outlines.SetOutline(t.Context(), "test", course,
		learning.Outline{Modules: []learning.Module{{ID: "m", Title: "M", Activities: []learning.Activity{
			{
				ID: apptest.Activities + "check", Title: "Check",
				Kind: learning.Assessment,
			}, {ID: apptest.Activities + "one", Title: "One", Kind: learning.Lesson},
		}}}}))
	w.Rule(rule.Draft{
		Name: "r", Trigger: "assessment.failed", UndoneBy: []string{"assessment.passed"},
		Actions: []rule.Action{
			{
				Kind: rule.CallOperation, InterfaceID: labels.ID, Operation: "add-label",
				Fields: map[string]string{"email": "person.email", "label": `"to-repeat"`},
			},
			{Kind: rule.OpenTask, Subject: "Help {{.person.givenName}}"},
		},
	})
	platform := w.Connect("xapi", "Platform", nil).ID
	st := func(id, who, verb, activity string) xapi.Statement {
		return xapi.Statement{
			ID: id, Timestamp: time.Now().UTC(),
			Actor: xapi.Agent{Account: &xapi.Account{
				HomePage: "https://x.example",
				Name:     who,
			}}, Verb: xapi.Verb{ID: xapi.ADL + verb},
			Object: xapi.Object{ID: apptest.Activities + activity},
		}
	}
	void := func(id string) xapi.Statement {
		return xapi.Statement{
			ID: db.NewID(), Actor: xapi.Agent{Mbox: "mailto:office@x.example"},
			Verb: xapi.Verb{ID: xapi.Voided}, Object: xapi.Object{ObjectType: xapi.StatementRef, ID: id},
		}
	}
	const senders, rounds, learners = 6, 8, 10
	stop := make(chan bool)
	var delivering, sending sync.WaitGroup
	delivering.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			list, err := deliverystore.Deliveries(t.Context(), w.Store,
				deliverystore.DeliveryFilter{State: deliverystore.DeliveryQueued, Limit: 20})
			assert.NoError(t, err)
			for _, d := range list {
				_, err = w.Deliveries.Deliver(t.Context(), d.ID)
				assert.NoError(t, err)
			}
		}
	})
	for n := range senders {
		sending.Go(func() {
			r := rand.New(rand.NewPCG(uint64(n), 7))
			for range rounds {
				var list []xapi.Statement
				for _, i := range r.Perm(learners) {
					who := fmt.Sprintf("stu-%03d", 14+i) // who have addresses
					fail := st(db.NewID(), who, "failed", "check")
					list = append(list, fail, st(db.NewID(), who, "completed", "one"))
					if r.IntN(3) == 0 {
						list = append(list, void(fail.ID))
					}
					if r.IntN(2) == 0 {
						list = append(list, st(db.NewID(), who, "passed", "check"))
					}
				}
				raw := make([]json.RawMessage, len(list))
				for i := range list {
					raw[i], _ = json.Marshal(list[i])
				}
				_, err := w.Facts.Take(t.Context(), platform, list, raw)
				assert.NoError(t, err)
			}
		})
	}
	sending.Wait()
	close(stop)
	delivering.Wait()
	w.Follow()
	var open, done int
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FILTER (WHERE state NOT IN ('delivered',
		'stopped', 'skipped')), count(*) FILTER (WHERE state = 'delivered') FROM deliveries`).Scan(&open, &done))
	assert.Zero(t, open)
	assert.GreaterOrEqual(t, done, learners, "somebody failed at least once each")
}
