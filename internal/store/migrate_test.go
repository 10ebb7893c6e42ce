package store_test

import (
	"context"
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
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/settingstore"
	"kanban/internal/store/storetest"
)

// What an earlier version kept is there after going back to it and forward again:
// progress, events of several months, and what has been recorded once.
func TestEarlierRecordsAreCarriedOver(t *testing.T) {
	s := storetest.New(t)
	ctx := t.Context()
	person, section := db.NewID(), db.NewID()
	at := time.Date(2026, 3, 9, 8, 0, 0, 123_000_000, time.UTC)
	best := 0.75
	pair := learningstore.ProgressRow{PersonID: person, SectionID: section, Version: 1}
	state := learning.State{Activities: map[string]learning.ActivityState{
		"https://platform.example/a": {First: at, Last: at.Add(time.Hour), Completed: true},
		"https://platform.example/b": {First: at, Last: at, Passed: true, Failed: true, Best: &best},
	}}
	fact := func() eventstore.Event {
		return eventstore.Event{Type: "module.completed", NaturalKey: "once", PersonID: &person, OccurredAt: at}
	}
	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error {
		locked, _, err := learningstore.LockProgress(ctx, tx, []learningstore.ProgressRow{pair}, nil)
		if err != nil {
			return err
		}
		var reached []learningstore.Reached
		for id, a := range state.Activities {
			reached = append(reached, learningstore.Reached{
				PersonID: person, SectionID: section, ActivityID: id,
				ActivityState: a,
			})
		}
		_, _, err = learningstore.KeepProgress(ctx, tx, locked, reached, []eventstore.Event{fact()})
		return err
	}))
	// Another event, of a month long ago.
	old := db.FirstID(at)
	_, err := s.Pool.Exec(ctx, `INSERT INTO events (id, type, natural_key, occurred_at)
		VALUES ($1, 'section.joined', 'long ago', $2)`, old, at)
	require.NoError(t, err)

	// A badge given for something in a section, and one that was revoked.
	issuer := badgestore.Issuer{ID: db.NewID(), Name: "Fernmoor"}
	key := badgestore.IssuerKey{ID: "k", IssuerID: issuer.ID, Algorithm: "RS256", Key: []byte("k"), CreatedAt: at}
	badge := badgestore.Badge{ID: db.NewID(), IssuerID: issuer.ID, Name: "Cuttings"}
	event := eventstore.Event{
		Type: "module.completed", NaturalKey: "for the badge", PersonID: &person,
		SectionID: &section, OccurredAt: at,
	}
	award := badgestore.Award{
		ID: db.NewID(), BadgeID: badge.ID, PersonID: person, Credential: "signed",
		AwardedAt: at,
	}
	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error {
		fresh, err := eventstore.RecordEvents(ctx, tx, []eventstore.Event{event})
		require.NoError(t, err)
		award.EventID = &fresh[0]
		gone := badgestore.Award{
			ID: db.NewID(), BadgeID: badge.ID, PersonID: person, Credential: "signed",
			AwardedAt: at, RevokedAt: &at,
		}
		for _, err := range []error{
			db.Create(tx, &issuer, ""), badgestore.AddKey(tx, &key), db.Create(tx, &badge, ""),
			db.Create(tx, &award, ""),
			db.Create(tx, &gone, ""),
		} {
			require.NoError(t, err)
		}
		return nil
	}))

	records := stdlib.OpenDBFromPool(s.Pool)
	defer records.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, records, os.DirFS("db/migrations"))
	require.NoError(t, err)
	_, err = provider.DownTo(ctx, 11)
	require.NoError(t, err)
	var text string
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT state::text FROM progress WHERE person_id = $1`,
		person).Scan(&text))
	assert.Contains(t, text, "platform.example/b")
	_, err = provider.Up(ctx)
	require.NoError(t, err)
	require.NoError(t, s.EnsurePartitions(ctx, time.Now()))

	got, err := learningstore.ProgressOf(ctx, s, person, section)
	require.NoError(t, err)
	require.Len(t, got.Activities, 2)
	for id, want := range state.Activities {
		a := got.Activities[id]
		assert.True(t, want.First.Equal(a.First) && want.Last.Equal(a.Last), id)
		a.First, a.Last = want.First, want.Last
		assert.Equal(t, want, a)
	}
	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error {
		locked, _, err := learningstore.LockProgress(ctx, tx, []learningstore.ProgressRow{pair}, nil)
		require.NoError(t, err)
		assert.Nil(t, locked[0].DoneBits, "is worked out when it is needed")
		fresh, err := eventstore.RecordEvents(ctx, tx, []eventstore.Event{fact()})
		assert.Empty(t, fresh, "has been recorded before")
		return err
	}))
	list, err := badgestore.Awards(ctx, s, badgestore.AwardFilter{BadgeID: badge.ID, PersonID: person, Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 1, "what is revoked has no place in what came before")
	assert.Equal(t, award.ID, list[0].ID)
	require.NotNil(t, list[0].SectionID)
	assert.Equal(t, section, *list[0].SectionID)
	assert.Nil(t, list[0].Number, "its credential names no status list")
	var place string
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT tableoid::regclass::text FROM events WHERE id = $1`,
		old).Scan(&place))
	assert.Equal(t, "events_2026_03", place)
}

// Old months go whole; what is not over keeps its month, and what people have had once
// they do not get again.
func TestOldMonthsGo(t *testing.T) {
	s := storetest.New(t)
	ctx := t.Context()
	r := rulestore.Rule{
		ID: db.NewID(), Name: "r", Trigger: "section.joined", Version: 1,
		Actions: []rule.Action{{Kind: rule.OpenTask}},
	}
	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error { return db.Create(tx, &r, "test") }))
	month := func(n int) time.Time { return time.Date(2025, time.Month(n), 10, 0, 0, 0, 0, time.UTC) }
	once := "once"
	for n := 1; n <= 3; n++ {
		id := db.FirstID(month(n))
		_, err := s.Pool.Exec(ctx, `INSERT INTO events (id, type, natural_key, occurred_at)
			VALUES ($1, 'section.joined', $3, $2)`, id, month(n), id)
		require.NoError(t, err)
	}
	require.NoError(t, s.EnsurePartitions(ctx, time.Now()))
	for n, state := range map[int]string{1: deliverystore.DeliveryDelivered, 2: deliverystore.DeliveryWaiting} {
		id := db.FirstID(month(n))
		key := &once
		if n != 1 {
			key = nil
		}
		require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error {
			_, err := deliverystore.AddDeliveries(ctx, tx,
				[]deliverystore.Delivery{{ID: id, EventID: id, RuleID: &r.ID, State: state, OnceKey: key}})
			if err == nil {
				_, err = deliverystore.EndAttempts(ctx, tx, "test", []*deliverystore.Delivery{{ID: id, State: state}},
					[]deliverystore.Attempt{{DeliveryID: id, Number: 1, StartedAt: month(n)}}, false)
			}
			return err
		}))
	}

	require.NoError(t, eventstore.Drop(ctx, s, month(3)))
	months, err := eventstore.Months(ctx, s)
	require.NoError(t, err)
	assert.Equal(t, time.February, months[0].First.Month(), "a delivery of February waits for somebody")
	_, err = deliverystore.FindDelivery(ctx, s, db.FirstID(month(1)))
	require.ErrorIs(t, err, db.ErrNotFound)
	d, err := deliverystore.FindDelivery(ctx, s, db.FirstID(month(2)))
	require.NoError(t, err)
	attempts, err := deliverystore.Attempts(ctx, s, d.ID)
	require.NoError(t, err)
	assert.Len(t, attempts, 1)

	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error {
		fresh, err := deliverystore.AddDeliveries(ctx, tx,
			[]deliverystore.Delivery{{
				ID: db.NewID(), EventID: uuid.NewString(), RuleID: &r.ID,
				State: deliverystore.DeliveryPlanned, OnceKey: &once,
			}})
		assert.Empty(t, fresh, "the person has had it")
		return err
	}))
	require.NoError(t, rulestore.SumUpFirings(ctx, s))
	usage, err := rulestore.UsageOfRules(ctx, s, time.Now())
	require.NoError(t, err)
	assert.Equal(t, []rulestore.RuleUsage{{RuleID: r.ID, Fired: 2, Delivered: 0, Waiting: 1}}, usage)
}

// What records hold in words of an earlier version reads in the present ones.
func TestWordsOfEarlierRecordsAreMigrated(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	records := stdlib.OpenDBFromPool(s.Pool)
	defer records.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, records, os.DirFS("db/migrations"))
	require.NoError(t, err)
	_, err = provider.DownTo(ctx, 33)
	require.NoError(t, err)
	views := `[{"name": "all", "query": {"aside": "*", "text": "Prop"}}, {"name": "mine", "query": {"teacher": "Maud"}}]`
	for name, value := range map[string]string{"setting/whole-comparison": `{"schedule": {"kind": "daily", "at": "04:00"}}`, "setting/aside": `[{"name": "Empty", "empty": true}]`, "setting/views/1": views} {
		_, err = s.Pool.Exec(ctx, `INSERT INTO installation (name, value) VALUES ($1, $2)`, name, []byte(value))
		require.NoError(t, err)
	}
	event, plan := db.NewID(), db.NewID()
	for _, sql := range []string{
		`INSERT INTO events (id, type, natural_key, occurred_at, data) VALUES ('` + event + `', 'stage.reached', 'k', now(), '{"stage": "Sower", "progression": "Gardener", "progressionId": "` + plan + `"}')`,
		`INSERT INTO rules (id, name, trigger, condition, actions) VALUES ('` + db.NewID() + `', 'r', 'stage.reached', 'event.progression == "Gardener"', '[{"kind": "task", "subject": "{{.event.progression}}, {{.event.progressionId}}"}]')`,
		`INSERT INTO river_job (kind, args, max_attempts, queue) VALUES ('work-out-stages', '{"progressionId": "` + plan + `"}', 5, 'default')`,
	} {
		_, err = s.Pool.Exec(ctx, sql)
		require.NoError(t, err)
	}
	_, err = provider.Up(ctx)
	require.NoError(t, err)
	kepts := must[[]eventstore.Event](t)(eventstore.EventsByID(ctx, s, []string{event}))
	assert.Equal(t, map[string]any{"stage": "Sower", "stagePlan": "Gardener", "stagePlanId": plan}, kepts[0].Data)
	carried := must[[]rulestore.Rule](t)(rulestore.Rules(ctx, s))
	assert.Equal(t, `event.stagePlan == "Gardener"`, carried[0].Condition)
	assert.Equal(t, "{{.event.stagePlan}}, {{.event.stagePlanId}}", carried[0].Actions[0].Subject)
	var job string
	require.NoError(t, s.Pool.QueryRow(ctx,
		`SELECT args->>'stagePlanId' FROM river_job WHERE kind = 'work-out-stages'`).Scan(&job))
	assert.Equal(t, plan, job)
	var compared struct{ Schedule struct{ At string } }
	assert.True(t, must[bool](t)(settingstore.FindSetting(ctx, s, "full-comparison", &compared)))
	assert.Equal(t, "04:00", compared.Schedule.At)
	var rules []struct{ Name string }
	assert.True(t, must[bool](t)(settingstore.FindSetting(ctx, s, "hiding-rules", &rules)))
	assert.Len(t, rules, 1)
	var kept []struct{ Query map[string]string }
	assert.True(t, must[bool](t)(settingstore.FindSetting(ctx, s, "views/1", &kept)))
	assert.Equal(t, []map[string]string{{"hidden": "*", "text": "Prop"}, {"teacher": "Maud"}},
		[]map[string]string{kept[0].Query, kept[1].Query})
}

// Kinds of action, and what stood in place of something else, read in the present words; and
// back again.
func TestKindsOfEarlierActionsAreMigrated(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	records := stdlib.OpenDBFromPool(s.Pool)
	defer records.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, records, os.DirFS("db/migrations"))
	require.NoError(t, err)
	_, err = provider.DownTo(ctx, 34)
	require.NoError(t, err)
	id, event, delivery, connection, section := db.NewID(), db.NewID(), db.NewID(), db.NewID(), db.NewID()
	actions := `[{"kind": "operate", "operation": "add"}, {"kind": "mail", "subject": "send"}, {"kind": "row", "sheet": "s"}, {"kind": "send"}]`
	for _, sql := range []string{
		`INSERT INTO rules (id, name, trigger, actions, once, quiet) VALUES ('` + id + `', 'r', 'section.joined', '` + actions + `', false, '{"from": "20:00", "to": "08:00"}')`,
		`INSERT INTO rule_versions (rule_id, version, draft, who) VALUES ('` + id + `', 1, '{"Name": "r", "Once": true, "Quiet": {"from": "20:00", "to": "08:00"}, "Actions": ` + actions + `}', 'Maud')`,
		`INSERT INTO rule_versions (rule_id, version, draft, who) VALUES ('` + id + `', 2, '{"Name": "r", "Once": false, "Quiet": {}, "Actions": null}', 'Maud')`,
		`INSERT INTO events (id, type, natural_key, occurred_at) VALUES ('` + event + `', 'section.joined', 'k', now())`,
		`INSERT INTO deliveries (id, event_id, rule_id, rule_version, position, action, state, held_for) VALUES ('` + delivery + `', '` + event + `', '` + id + `', 1, 0, '{"kind": "operate", "operation": "add"}', 'queued', 'abc')`,
		`INSERT INTO connections (id, name, kind) VALUES ('` + connection + `', 'c', 'scim')`,
		`INSERT INTO pairings (id, section_id, connection_id, target_name, policy, target_seen) VALUES ('` + db.NewID() + `', '` + section + `', '` + connection + `', 'Lost', '{}', E'\x01gone')`,
		`INSERT INTO pairings (id, section_id, connection_id, target_name, policy, target_seen) VALUES ('` + db.NewID() + `', '` + db.NewID() + `', '` + connection + `', 'There', '{}', 'There')`,
	} {
		_, err = s.Pool.Exec(ctx, sql)
		require.NoError(t, err, sql)
	}
	_, err = provider.Up(ctx)
	require.NoError(t, err)
	r := must[rulestore.Rule](t)(rulestore.FindRule(ctx, s, id))
	kinds := func(all []rule.Action) (out []string) {
		for _, a := range all {
			out = append(out, a.Kind)
		}
		return out
	}
	assert.Equal(t, []string{rule.CallOperation, rule.Mail, rule.AppendRow, rule.SendEvent}, kinds(r.Actions))
	assert.Equal(t, "send", r.Actions[1].Subject, "only kinds are renamed")
	assert.Equal(t, rule.QuietHours{From: "20:00", To: "08:00"}, r.QuietHours)
	assert.False(t, r.OncePerPerson)
	versions := must[[]rulestore.RuleVersion](t)(rulestore.RuleVersions(ctx, s, id))
	require.Len(t, versions, 2)
	assert.Empty(t, versions[0].Draft.Actions)
	assert.True(t, versions[1].Draft.OncePerPerson)
	assert.Equal(t, r.QuietHours, versions[1].Draft.QuietHours)
	assert.Equal(t, kinds(r.Actions), kinds(versions[1].Draft.Actions))
	d := must[deliverystore.Delivery](t)(deliverystore.FindDelivery(ctx, s, delivery))
	assert.Equal(t, rule.CallOperation, d.Action.Kind)
	assert.Empty(t, d.HeldFor, "what failures are counted for has another name")
	for _, p := range must[[]*pairingstore.Pairing](t)(pairingstore.Listed(ctx, s)) {
		whole := must[pairingstore.Pairing](t)(pairingstore.FindPairing(ctx, s, p.ID))
		assert.Equal(t, []any{p.TargetName == "Lost", map[bool]string{
			true:  "",
			false: "There",
		}[p.TargetName == "Lost"]}, []any{whole.TargetLost, whole.TargetSeen})
	}

	_, err = provider.DownTo(ctx, 34)
	require.NoError(t, err)
	var back, seen string
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT string_agg(a->>'kind', ' ')
		FROM rules, jsonb_array_elements(actions) a`).Scan(&back))
	assert.Equal(t, "operate mail row send", back)
	require.NoError(t, s.Pool.QueryRow(ctx,
		`SELECT target_seen FROM pairings WHERE target_name = 'Lost'`).Scan(&seen))
	assert.Equal(t, "\x01gone", seen)
}

// What was a connection is an interface with its id, of a connection of its own; whatever named it
// names it still; and back again.
func TestConnectionsBecomeInterfaces(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	records := stdlib.OpenDBFromPool(s.Pool)
	defer records.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, records, os.DirFS("db/migrations"))
	require.NoError(t, err)
	_, err = provider.DownTo(ctx, 36)
	require.NoError(t, err)
	id, gone, ruleID, event, delivery := db.NewID(), db.NewID(), db.NewID(), db.NewID(), db.NewID()
	actions := `[{"kind": "mail", "connectionId": "` + id + `", "subject": "connectionId"}, {"kind": "award", "badgeId": "b"}]`
	for _, sql := range []string{
		`INSERT INTO connections (id, name, kind, paused_at) VALUES ('` + id + `', 'Chat', 'scim', now())`,
		`INSERT INTO connections (id, name, kind, removed_at) VALUES ('` + gone + `', 'Chat', 'scim', now())`,
		`INSERT INTO rules (id, name, trigger, actions, condition) VALUES ('` + ruleID + `', 'r', 'service.reported', '` + actions + `', 'event.data.connectionId != ""')`,
		`INSERT INTO rule_versions (rule_id, version, draft, who) VALUES ('` + ruleID + `', 1, '{"Name": "r", "Actions": ` + actions + `}', 'Maud')`,
		`INSERT INTO events (id, type, natural_key, occurred_at, data) VALUES ('` + event + `', 'service.reported', 'k', now(), '{"connectionId": "` + id + `", "data": {"connectionId": "theirs"}}')`,
		`INSERT INTO deliveries (id, event_id, rule_id, rule_version, position, action, state, connection_id) VALUES ('` + delivery + `', '` + event + `', '` + ruleID + `', 1, 0, '{"kind": "mail", "connectionId": "` + id + `"}', 'queued', '` + id + `')`,
		`INSERT INTO audit_entries (who, what, subject, detail) VALUES ('Maud', 'made the connection', 'connection/` + id + `', '{}')`,
		`INSERT INTO river_job (kind, args, max_attempts, queue, state) VALUES ('propose', '{"connectionId": "` + id + `"}', 3, 'default', 'available')`,
	} {
		_, err = s.Pool.Exec(ctx, sql)
		require.NoError(t, err, sql)
	}
	_, err = provider.Up(ctx)
	require.NoError(t, err)

	one := must[connectionstore.Interface](t)(connectionstore.FindInterface(ctx, s, id))
	assert.Equal(t, []any{"Chat", "", "Chat", true}, []any{one.Name, one.Label, one.Connection.Name, one.Paused()})
	all := must[[]connectionstore.Connection](t)(connectionstore.Connections(ctx, s))
	require.Len(t, all, 1)
	assert.Equal(t, one.ConnectionID, all[0].ID)
	assert.Len(t, must[[]connectionstore.Connection](t)(connectionstore.RemovedConnections(ctx, s)), 1)
	r := must[rulestore.Rule](t)(rulestore.FindRule(ctx, s, ruleID))
	assert.Equal(t, []string{id, "connectionId", ""},
		[]string{r.Actions[0].InterfaceID, r.Actions[0].Subject, r.Actions[1].InterfaceID}, "members only")
	assert.Equal(t, `event.data.interfaceId != ""`, r.Condition)
	versions := must[[]rulestore.RuleVersion](t)(rulestore.RuleVersions(ctx, s, ruleID))
	assert.Equal(t, id, versions[0].Draft.Actions[0].InterfaceID)
	d := must[deliverystore.Delivery](t)(deliverystore.FindDelivery(ctx, s, delivery))
	assert.Equal(t, id, d.Action.InterfaceID)
	text := func(sql string) (out string) {
		require.NoError(t, s.Pool.QueryRow(ctx, sql).Scan(&out))
		return out
	}
	assert.JSONEq(
		t,
		`{"interfaceId": "`+id+`", "data": {"connectionId": "theirs"}}`,
		text(`SELECT data::text FROM events`),
	)
	assert.Equal(t, "interface/"+id, text(`SELECT subject FROM audit_entries`))
	assert.JSONEq(t, `{"interfaceId": "`+id+`"}`, text(`SELECT args::text FROM river_job WHERE kind = 'propose'`))
	assert.Zero(t, must[int](t)(leftWords(ctx, s)), "columns and functions that speak of connections")

	_, err = provider.DownTo(ctx, 36)
	require.NoError(t, err)
	assert.Equal(t, "Chat, Chat", text(`SELECT string_agg(name, ', ') FROM connections`))
	assert.JSONEq(t, actions, text(`SELECT actions::text FROM rules`))
	assert.Equal(t, "connection/"+id, text(`SELECT subject FROM audit_entries`))
}

// leftWords counts what still has the name of before: columns other than the interface's own one,
// and functions.
func leftWords(ctx context.Context, s *db.Database) (n int, err error) {
	return n, s.Pool.QueryRow(ctx, `SELECT (SELECT count(*) FROM information_schema.columns
		WHERE table_schema = 'public' AND column_name = 'connection_id' AND table_name <> 'interfaces')
		+ (SELECT count(*) FROM pg_proc WHERE pronamespace = 'public'::regnamespace AND prosrc LIKE '%connection%'
			AND proname NOT IN ('rename_everywhere', 'renamed_member'))`).Scan(&n)
}
