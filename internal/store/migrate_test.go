package store_test

import (
	"os"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/store/storetest"
)

// What an earlier version kept is there after going back to it and forward again:
// progress, events of several months, and what has been recorded once.
func TestEarlierRecordsAreCarriedOver(t *testing.T) {
	s := storetest.New(t)
	ctx := t.Context()
	person, section := store.NewID(), store.NewID()
	at := time.Date(2026, 3, 9, 8, 0, 0, 123_000_000, time.UTC)
	best := 0.75
	pair := store.Standing{PersonID: person, SectionID: section, Version: 1}
	state := learning.State{Activities: map[string]learning.ActivityState{
		"https://platform.example/a": {First: at, Last: at.Add(time.Hour), Completed: true},
		"https://platform.example/b": {First: at, Last: at, Passed: true, Failed: true, Best: &best},
	}}
	fact := func() store.Event {
		return store.Event{Type: "module.completed", NaturalKey: "once", PersonID: &person, OccurredAt: at}
	}
	require.NoError(t, s.InTx(ctx, func(tx *store.Tx) error {
		locked, _, err := tx.LockProgress(ctx, []store.Standing{pair}, nil)
		if err != nil {
			return err
		}
		var reached []store.Reached
		for id, a := range state.Activities {
			reached = append(reached, store.Reached{PersonID: person, SectionID: section, ActivityID: id, ActivityState: a})
		}
		_, _, err = tx.KeepProgress(ctx, locked, reached, []store.Event{fact()})
		return err
	}))
	// Another event, of a month long ago.
	old := store.FirstID(at)
	_, err := s.Pool.Exec(ctx, `INSERT INTO events (id, type, natural_key, occurred_at) VALUES ($1, 'section.joined', 'long ago', $2)`, old, at)
	require.NoError(t, err)

	// A badge given for something in a section, and one that was revoked.
	issuer := store.Issuer{ID: store.NewID(), Name: "Fernmoor", Key: []byte("k")}
	badge := store.Badge{ID: store.NewID(), IssuerID: issuer.ID, Name: "Cuttings"}
	event := store.Event{Type: "module.completed", NaturalKey: "for the badge", PersonID: &person, SectionID: &section, OccurredAt: at}
	award := store.Award{ID: store.NewID(), BadgeID: badge.ID, PersonID: person, Credential: "signed", AwardedAt: at}
	require.NoError(t, s.InTx(ctx, func(tx *store.Tx) error {
		fresh, err := tx.Record(ctx, []store.Event{event})
		require.NoError(t, err)
		award.EventID = &fresh[0]
		gone := store.Award{ID: store.NewID(), BadgeID: badge.ID, PersonID: person, Credential: "signed", AwardedAt: at, RevokedAt: &at}
		for _, err := range []error{store.Create(tx, &issuer, ""), store.Create(tx, &badge, ""), store.Create(tx, &award, ""), store.Create(tx, &gone, "")} {
			require.NoError(t, err)
		}
		return nil
	}))

	db := stdlib.OpenDBFromPool(s.Pool)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, os.DirFS("migrations"))
	require.NoError(t, err)
	_, err = provider.DownTo(ctx, 11)
	require.NoError(t, err)
	var text string
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT state::text FROM progress WHERE person_id = $1`, person).Scan(&text))
	assert.Contains(t, text, "platform.example/b")
	_, err = provider.Up(ctx)
	require.NoError(t, err)
	require.NoError(t, s.EnsurePartitions(ctx, time.Now()))

	got, err := s.ProgressOf(ctx, person, section)
	require.NoError(t, err)
	require.Len(t, got.Activities, 2)
	for id, want := range state.Activities {
		a := got.Activities[id]
		assert.True(t, want.First.Equal(a.First) && want.Last.Equal(a.Last), id)
		a.First, a.Last = want.First, want.Last
		assert.Equal(t, want, a)
	}
	require.NoError(t, s.InTx(ctx, func(tx *store.Tx) error {
		locked, _, err := tx.LockProgress(ctx, []store.Standing{pair}, nil)
		require.NoError(t, err)
		assert.Nil(t, locked[0].Tally, "is worked out when it is needed")
		fresh, err := tx.Record(ctx, []store.Event{fact()})
		assert.Empty(t, fresh, "has been recorded before")
		return err
	}))
	list, err := s.Awards(ctx, badge.ID, person, "", 10)
	require.NoError(t, err)
	require.Len(t, list, 1, "what is revoked has no place in what came before")
	assert.Equal(t, award.ID, list[0].ID)
	require.NotNil(t, list[0].SectionID)
	assert.Equal(t, section, *list[0].SectionID)
	assert.Nil(t, list[0].Number, "its credential names no status list")
	var place string
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT tableoid::regclass::text FROM events WHERE id = $1`, old).Scan(&place))
	assert.Equal(t, "events_2026_03", place)
}

// Old months go whole; what is not over keeps its month, and what people have had once
// they do not get again.
func TestOldMonthsGo(t *testing.T) {
	s := storetest.New(t)
	ctx := t.Context()
	r := store.Rule{ID: store.NewID(), Name: "r", Trigger: "section.joined", Version: 1, Actions: []rule.Action{{Kind: rule.OpenTask}}}
	require.NoError(t, s.InTx(ctx, func(tx *store.Tx) error { return store.Create(tx, &r, "test") }))
	month := func(n int) time.Time { return time.Date(2025, time.Month(n), 10, 0, 0, 0, 0, time.UTC) }
	once := "once"
	for n := 1; n <= 3; n++ {
		id := store.FirstID(month(n))
		_, err := s.Pool.Exec(ctx, `INSERT INTO events (id, type, natural_key, occurred_at) VALUES ($1, 'section.joined', $3, $2)`, id, month(n), id)
		require.NoError(t, err)
	}
	require.NoError(t, s.EnsurePartitions(ctx, time.Now()))
	for n, state := range map[int]string{1: store.DeliveryDelivered, 2: store.DeliveryWaiting} {
		id := store.FirstID(month(n))
		key := &once
		if n != 1 {
			key = nil
		}
		require.NoError(t, s.InTx(ctx, func(tx *store.Tx) error {
			_, err := tx.AddDeliveries(ctx, []store.Delivery{{ID: id, EventID: id, RuleID: &r.ID, State: state, OnceKey: key}})
			if err == nil {
				_, err = tx.EndAttempts(ctx, "test", []*store.Delivery{{ID: id, State: state}}, []store.Attempt{{DeliveryID: id, Number: 1, StartedAt: month(n)}}, false)
			}
			return err
		}))
	}

	require.NoError(t, s.Drop(ctx, month(3)))
	months, err := s.Months(ctx)
	require.NoError(t, err)
	assert.Equal(t, time.February, months[0].First.Month(), "a delivery of February waits for somebody")
	_, err = s.Delivery(ctx, store.FirstID(month(1)))
	require.ErrorIs(t, err, store.ErrNotFound)
	d, err := s.Delivery(ctx, store.FirstID(month(2)))
	require.NoError(t, err)
	attempts, err := s.Attempts(ctx, d.ID)
	require.NoError(t, err)
	assert.Len(t, attempts, 1)

	require.NoError(t, s.InTx(ctx, func(tx *store.Tx) error {
		fresh, err := tx.AddDeliveries(ctx, []store.Delivery{{ID: store.NewID(), EventID: uuid.NewString(), RuleID: &r.ID, State: store.DeliveryPlanned, OnceKey: &once}})
		assert.Empty(t, fresh, "the person has had it")
		return err
	}))
	require.NoError(t, s.FoldTallies(ctx))
	usage, err := s.RuleUsage(ctx, time.Now())
	require.NoError(t, err)
	assert.Equal(t, []store.RuleUsage{{RuleID: r.ID, Fired: 2, Delivered: 0, Waiting: 1}}, usage)
}

// What records hold in words of an earlier version reads in the present ones.
func TestWordsOfEarlierRecordsAreMigrated(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	db := stdlib.OpenDBFromPool(s.Pool)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, os.DirFS("migrations"))
	require.NoError(t, err)
	_, err = provider.DownTo(ctx, 33)
	require.NoError(t, err)
	views := `[{"name": "all", "query": {"aside": "*", "text": "Prop"}}, {"name": "mine", "query": {"teacher": "Maud"}}]`
	for name, value := range map[string]string{"setting/whole-comparison": `{"schedule": {"kind": "daily", "at": "04:00"}}`, "setting/aside": `[{"name": "Empty", "empty": true}]`, "setting/views/1": views} {
		_, err = s.Pool.Exec(ctx, `INSERT INTO installation (name, value) VALUES ($1, $2)`, name, []byte(value))
		require.NoError(t, err)
	}
	event, plan := store.NewID(), store.NewID()
	for _, sql := range []string{
		`INSERT INTO events (id, type, natural_key, occurred_at, data) VALUES ('` + event + `', 'stage.reached', 'k', now(), '{"stage": "Sower", "progression": "Gardener", "progressionId": "` + plan + `"}')`,
		`INSERT INTO rules (id, name, trigger, condition, actions) VALUES ('` + store.NewID() + `', 'r', 'stage.reached', 'event.progression == "Gardener"', '[{"kind": "task", "subject": "{{.event.progression}}, {{.event.progressionId}}"}]')`,
		`INSERT INTO river_job (kind, args, max_attempts, queue) VALUES ('work-out-stages', '{"progressionId": "` + plan + `"}', 5, 'default')`,
	} {
		_, err = s.Pool.Exec(ctx, sql)
		require.NoError(t, err)
	}
	_, err = provider.Up(ctx)
	require.NoError(t, err)
	kepts := must[[]store.Event](t)(s.EventsByID(ctx, []string{event}))
	assert.Equal(t, map[string]any{"stage": "Sower", "stagePlan": "Gardener", "stagePlanId": plan}, kepts[0].Data)
	carried := must[[]store.Rule](t)(s.Rules(ctx))
	assert.Equal(t, `event.stagePlan == "Gardener"`, carried[0].Condition)
	assert.Equal(t, "{{.event.stagePlan}}, {{.event.stagePlanId}}", carried[0].Actions[0].Subject)
	var job string
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT args->>'stagePlanId' FROM river_job WHERE kind = 'work-out-stages'`).Scan(&job))
	assert.Equal(t, plan, job)
	var compared struct{ Schedule struct{ At string } }
	assert.True(t, must[bool](t)(s.Setting(ctx, "full-comparison", &compared)))
	assert.Equal(t, "04:00", compared.Schedule.At)
	var rules []struct{ Name string }
	assert.True(t, must[bool](t)(s.Setting(ctx, "hiding-rules", &rules)))
	assert.Len(t, rules, 1)
	var kept []struct{ Query map[string]string }
	assert.True(t, must[bool](t)(s.Setting(ctx, "views/1", &kept)))
	assert.Equal(t, []map[string]string{{"hidden": "*", "text": "Prop"}, {"teacher": "Maud"}}, []map[string]string{kept[0].Query, kept[1].Query})
}
