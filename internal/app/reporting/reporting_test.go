package reporting_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/reporting"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// However many deliveries wait for one reason, they are one finding with their true number;
// another reason is another finding, and acknowledging holds while the number changes.
func TestWaitingDeliveriesAreCountedInFull_P3(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	s := &reporting.Service{Store: w.Store}
	r := w.Rule(rule.Draft{Name: "Lesson finished", Trigger: string(rule.ModuleCompleted), Actions: []rule.Action{{Kind: rule.Send, ConnectionID: w.Contacts().ID, Fields: map[string]string{"email": "person.email"}}}})
	p := w.Person("stu-001")
	e := w.Record(store.Event{Type: string(rule.ModuleCompleted), NaturalKey: "k", PersonID: &p.ID, Data: map[string]any{}})
	one := w.Deliveries(e.ID)[0]
	exec := func(sql string, args ...any) {
		_, err := w.Store.Pool.Exec(t.Context(), sql, args...)
		require.NoError(t, err)
	}
	exec(`INSERT INTO deliveries SELECT (jsonb_populate_record(d, jsonb_build_object('id', gen_random_uuid(), 'position', d.position + n))).* FROM deliveries d, generate_series(1, 1215) n WHERE d.id = $1`, one.ID)
	exec(`UPDATE deliveries SET state = 'waiting', code = 'not-allowed', last_error = 'the label is gone' WHERE rule_id = $1`, r.ID)
	exec(`UPDATE deliveries SET code = 'address-missing', last_error = 'no address' WHERE id = $1`, one.ID)

	list := func() (all []reporting.Finding) {
		found, err := s.Findings(t.Context(), reporting.Filter{Group: reporting.Mend})
		require.NoError(t, err)
		for _, f := range found {
			if f.Where == "Lesson finished" {
				all = append(all, f)
			}
		}
		return all
	}
	got := list()
	require.Len(t, got, 2)
	assert.Equal(t, "1215 deliveries", got[0].Subject)
	assert.Equal(t, 1215, got[0].Count)
	assert.Equal(t, finding.Code("not-allowed"), got[0].Code)
	assert.Contains(t, got[0].Link, "/deliveries?")
	assert.Contains(t, got[0].Link, r.ID)
	assert.Equal(t, "Ada Alder", got[1].Subject)
	assert.Equal(t, p.ID, got[1].Person)

	require.NoError(t, s.Acknowledge(t.Context(), "test", got[0].Key, "the label comes back on Monday"))
	exec(`UPDATE deliveries SET state = 'delivered' WHERE id = (SELECT id FROM deliveries WHERE code = 'not-allowed' LIMIT 1)`)
	assert.Len(t, list(), 1, "one less is the same finding")
	mended, err := s.Findings(t.Context(), reporting.Filter{Group: reporting.Mend, Seen: true})
	require.NoError(t, err)
	require.Len(t, mended, 1)
	assert.Equal(t, 1214, mended[0].Count)
}
