package pipeline_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/leases"
)

// What is being done at the very moment at which it is reverted is not forgotten: whoever
// ends it learns that it was stopped, and undoes it.
func TestWhatIsDoneWhileItIsRevertedIsUndone_E8(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	labels := w.Labels()
	r := w.Rule(rule.Draft{
		Name: "after a fail", Trigger: "assessment.failed", OncePerPerson: true,
		UndoneBy: []string{"assessment.passed"}, Actions: []rule.Action{
			{
				Kind: rule.CallOperation, InterfaceID: labels.ID, Operation: "add-label",
				Fields: map[string]string{"email": "person.email", "label": `"to-repeat"`},
			},
		},
	})
	failed := w.Record(w.About(rule.AssessmentFailed, "f1", "stu-002"))
	lease, err := leases.Register(t.Context(), w.Store, time.Hour)
	require.NoError(t, err)
	passed := w.About(rule.AssessmentPassed, "p1", "stu-002")
	passed.ID = db.NewID()
	var list []deliverystore.Delivery
	var written map[string]bool
	var endErr error
	ended := make(chan struct{})
	require.NoError(t, w.Store.InTx(t.Context(), func(tx *db.Tx) error {
		before := w.DeliveriesThat(deliverystore.DeliveryFilter{EventID: failed.ID})
		require.Len(t, before, 1)
		begun, err := deliverystore.BeginAttempts(t.Context(), w.Store, lease.Worker, time.Now(), time.Now(),
			before[0].ID)
		require.NoError(t, err)
		require.Len(t, begun, 1)
		if list, err = deliverystore.FindUndoable(t.Context(), tx, r.ID, passed); err != nil {
			return err
		}
		require.Len(t, list, 1)
		go func() {
			defer close(ended)
			d := list[0]
			d.State = deliverystore.DeliveryDelivered
			written, endErr = deliverystore.EndPlain(t.Context(), w.Store, lease.Worker,
				[]*deliverystore.Delivery{&d}, []deliverystore.Attempt{{
					DeliveryID: d.ID, Number: 1,
					StartedAt: time.Now(), Status: 200,
				}})
		}()
		require.Eventually(t, func() bool { // it has ended, or waits for this transaction
			select {
			case <-ended:
				return true
			default:
			}
			var waits bool
			require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT EXISTS (SELECT FROM pg_stat_activity
				WHERE datname = current_database() AND wait_event_type = 'Lock')`).Scan(&waits))
			return waits
		}, 30*time.Second, 10*time.Millisecond)
		return deliverystore.AllowAgain(t.Context(), tx, list[0].ID, deliverystore.DeliveryStopped)
	}))
	<-ended
	require.NoError(t, endErr)
	now, err := deliverystore.FindDelivery(t.Context(), w.Store, list[0].ID)
	require.NoError(t, err)
	assert.Equal(t, deliverystore.DeliveryStopped, now.State)
	assert.NotContains(t, written, list[0].ID,
		"it was stopped in the meantime, which has to be known, so that it is undone")
}
