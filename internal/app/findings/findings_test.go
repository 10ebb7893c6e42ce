package findings_test

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// However many deliveries wait for one reason, they are one finding with their true number;
// another reason is another finding, and acknowledging holds while the number changes.
func TestWaitingDeliveriesAreCountedInFull_P3(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	s := &findings.Service{Store: w.Store}
	r := w.Rule(rule.Draft{
		Name: "Lesson finished", Trigger: string(rule.ModuleCompleted),
		Actions: []rule.Action{{
			Kind: rule.SendEvent, InterfaceID: w.Contacts().ID,
			Fields: map[string]string{"email": "person.email"},
		}},
	})
	p := w.Person("stu-001")
	e := w.Record(eventstore.Event{
		Type: string(rule.ModuleCompleted), NaturalKey: "k", PersonID: &p.ID,
		Data: map[string]any{},
	})
	one := w.DeliveriesOf(e.ID)[0]
	exec := func(sql string, args ...any) {
		_, err := w.Store.Pool.Exec(t.Context(), sql, args...)
		require.NoError(t, err)
	}
	exec(`INSERT INTO deliveries SELECT (jsonb_populate_record(d, jsonb_build_object('id', gen_random_uuid(),
		'position', d.position + n))).* FROM deliveries d, generate_series(1, 1215) n WHERE d.id = $1`, one.ID)
	exec(`UPDATE deliveries SET state = 'waiting', code = 'not-allowed', last_error = 'the label is gone'
		WHERE rule_id = $1`, r.ID)
	exec(`UPDATE deliveries SET code = 'address-missing', last_error = 'no address' WHERE id = $1`, one.ID)

	list := func() (all []findings.Finding) {
		found, err := s.Findings(t.Context(), findings.Filter{Group: findings.Mend})
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

	require.NoError(t, s.Acknowledge(t.Context(), "test", got[0].Key, "the label comes back on Monday", nil))
	exec(`UPDATE deliveries SET state = 'delivered' WHERE id = (SELECT id FROM deliveries WHERE code = 'not-allowed'
		LIMIT 1)`)
	assert.Len(t, list(), 1, "one less is the same finding")
	mended, err := s.Findings(t.Context(), findings.Filter{Group: findings.Mend, Seen: true})
	require.NoError(t, err)
	require.Len(t, mended, 1)
	assert.Equal(t, 1214, mended[0].Count)
}

// What hangs on completions that hold no longer is one finding for all people of whom the
// same is to be said; acknowledging it holds.
func TestReversedCompletionsAreGrouped_P3(t *testing.T) {
	w := apptest.New(t)
	badge := func(person string) findings.Reversal {
		return findings.Reversal{
			Person: "The " + person, PersonID: person, What: "Cuttings",
			Done: `the badge "Cuttings" by "Give"`, Kind: "module.completed", CourseID: "c",
		}
	}
	label := badge("p2")
	label.Done = "operate Add a label"
	all := []findings.Reversal{badge("p1"), badge("p2"), badge("p2"), label}
	s := &findings.Service{Store: w.Store, Progress: (*reversed)(&all)}
	list := func() []findings.Finding {
		found, err := s.Findings(t.Context(), findings.Filter{Code: finding.Reversed})
		require.NoError(t, err)
		return found
	}
	got := list()
	require.Len(t, got, 2)
	assert.Equal(t, []any{"2 people", 2, "Cuttings", "/events?type=module.reopened"},
		[]any{got[0].Subject, got[0].Count, got[0].Where, got[0].Link})
	assert.Equal(t, []any{"The p2", "p2", "operate Add a label", "/people/p2"},
		[]any{got[1].Subject, got[1].Person, got[1].Detail, got[1].Link})
	require.NoError(t, s.Acknowledge(t.Context(), "Maud", got[0].Key, "they keep it", nil))
	all = append(all, badge("p3"))
	assert.Len(t, list(), 1, "it stays acknowledged while their number changes")
}

// The end of a credential is warned about, and again when it comes nearer.
func TestEndOfACredentialIsWarnedAbout_C2(t *testing.T) {
	w := apptest.New(t)
	last := time.Now().UTC().AddDate(0, 0, 60)
	w.Connect("scim", "Chat", map[string]string{
		"address": "https://chat.example/scim/v2", "token": "t",
		"expires": last.Format(time.DateOnly),
	})
	now := time.Now()
	s := &findings.Service{Store: w.Store, Clock: func() time.Time { return now }}
	list := func() []findings.Finding {
		found, err := s.Findings(t.Context(), findings.Filter{Code: finding.CredentialEnds})
		require.NoError(t, err)
		return found
	}
	assert.Empty(t, list())
	for days, want := range map[int]string{
		29: "within 30 days", 6: "within a week", 0: "within a day",
		-1: "has ended",
	} {
		now = last.AddDate(0, 0, -days)
		got := list()
		require.Len(t, got, 1, want)
		assert.Contains(t, got[0].Subject, want)
		require.NoError(t, s.Acknowledge(t.Context(), "Maud", got[0].Key, "asked for a new one", nil))
		assert.Empty(t, list())
	}
}

// What has one cause for many people is one thing to do, with the people beneath; each of
// them is still a finding, and acknowledging the one acknowledges them.
func TestOneCauseForManyIsOneThing_P3(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	s := &findings.Service{Store: w.Store}
	r := w.Rule(rule.Draft{
		Name: "Tell", Trigger: string(rule.ModuleCompleted),
		Actions: []rule.Action{{
			Kind: rule.SendEvent, InterfaceID: w.Contacts().ID,
			Fields: map[string]string{"email": "person.email"},
		}, {Kind: rule.OpenTask, Subject: "x"}},
	})
	fall := func(people ...string) {
		for _, who := range people {
			p := w.Person(who)
			w.Record(eventstore.Event{
				Type: string(rule.ModuleCompleted), NaturalKey: who, PersonID: &p.ID,
				Data: map[string]any{},
			})
		}
		_, err := w.Store.Pool.Exec(t.Context(), `UPDATE deliveries SET state = 'waiting', code = 'address-missing',
			last_error = 'no address for somebody' WHERE rule_id = $1`, r.ID)
		require.NoError(t, err)
	}
	list := func() (out []findings.Finding) {
		all, err := s.Today(t.Context(), nil)
		require.NoError(t, err)
		for _, f := range all {
			if f.Code == finding.AddressMissing {
				out = append(out, f)
			}
		}
		return out
	}
	fall("stu-001", "stu-002", "stu-003")
	got := list()
	require.Len(t, got, 3, "few are named")
	assert.Equal(t, []any{2, "2 deliveries of Tell"}, []any{got[0].Count, got[0].Where},
		"one line a person, not one a delivery")
	fall("stu-004")
	got = list()
	require.Len(t, got, 1)
	assert.Equal(t, []any{"4 people", 8, 4}, []any{got[0].Subject, got[0].Count, len(got[0].People)})
	require.NoError(t, s.Acknowledge(t.Context(), "Maud", got[0].Key, "the office knows", nil))
	assert.Empty(t, list())
	fall("stu-006")
	assert.Len(t, list(), 1, "somebody new shows")

	_, err := w.Store.Pool.Exec(t.Context(), `UPDATE deliveries SET code = 'refused-by-service',
		last_error = 'no seat for ' || id WHERE rule_id = $1`, r.ID)
	require.NoError(t, err)
	all, err := s.Today(t.Context(), nil)
	require.NoError(t, err)
	all = slices.DeleteFunc(all, func(f findings.Finding) bool { return f.Code != finding.RefusedByService })
	assert.Len(t, all, 10, "a service that says something else of each has as many causes")
	for _, f := range all {
		assert.Contains(t, f.Detail, "no seat for")
	}
}

// The end of a term is remarked upon 60 days before, and needs a person from 14 days before.
func TestEndOfATermIsWarnedAbout_S7(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	x := w.Section("PROP-A")
	require.NotNil(t, x.EndsOn)
	require.NoError(t, w.Store.InTx(t.Context(), func(tx *db.Tx) error {
		p := pairingstore.Pairing{ID: db.NewID(), SectionID: x.ID, InterfaceID: w.Workspace().ID, TargetName: "Prop"}
		return db.Create(tx, &p, "pairing")
	}))
	now := time.Now()
	s := &findings.Service{Store: w.Store, Clock: func() time.Time { return now }}
	for days, want := range map[int]findings.Group{70: "", 51: findings.Remark, 14: findings.Mend, 0: findings.Mend} {
		now = x.EndsOn.AddDate(0, 0, -days).Add(8 * time.Hour)
		found, err := s.Findings(t.Context(), findings.Filter{Code: finding.TermEnds})
		require.NoError(t, err)
		if want == "" {
			assert.Empty(t, found)
			continue
		}
		require.Len(t, found, 1, days)
		assert.Equal(t, []any{want, "1 class", "/next-term"}, []any{found[0].Group, found[0].Subject, found[0].Link})
		assert.Contains(t, found[0].Detail, fmt.Sprintf("in %d days", days))
	}
}

// reversed are completions that hold no longer.
type reversed []findings.Reversal

func (r *reversed) Reversals(context.Context) ([]findings.Reversal, error) { return *r, nil }
