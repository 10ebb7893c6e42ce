package store_test

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/leases"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/mirror"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func connection(t *testing.T, s *db.Database) connectionstore.Interface {
	c := connectionstore.Interface{
		ID: db.NewID(), Name: "Register " + db.NewID(), Kind: "oneroster", Version: 1,
		Settings: map[string]string{"address": "http://x"},
	}
	require.NoError(t, s.InTx(t.Context(), func(tx *db.Tx) error { return storetest.KeepInterface(tx, &c) }))
	return c
}

func count(t *testing.T, s *db.Database, table string) (n int) {
	require.NoError(t, s.Pool.QueryRow(t.Context(), "SELECT count(*) FROM "+table).Scan(&n))
	return n
}

// One transaction, two views: a rollback leaves neither record, event nor job,
// and nobody hears of it.
func TestRollbackLeavesNothing(t *testing.T) {
	s := storetest.New(t)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	heard := make(chan db.Live, 10)
	go func() { _ = s.Listen(ctx, func(l db.Live) { heard <- l }) }()

	write := func(fail error) error {
		return s.InTx(ctx, func(tx *db.Tx) error {
			c := connectionstore.Interface{ID: db.NewID(), Name: "c" + db.NewID(), Kind: "scim", Version: 1}
			if err := storetest.KeepInterface(tx, &c); err != nil {
				return err
			}
			if _, err := eventstore.RecordEvents(ctx, tx,
				[]eventstore.Event{{
					Type: "section.joined", NaturalKey: "k/" + c.ID,
					OccurredAt: time.Now(),
				}}); err != nil {
				return err
			}
			if err := tx.Announce(ctx, "interface", c.ID); err != nil {
				return err
			}
			return fail
		})
	}
	boom := errors.New("boom")
	require.ErrorIs(t, write(boom), boom)
	for _, table := range []string{"interfaces", "events", "river_job"} {
		assert.Zero(t, count(t, s, table), table)
	}
	assert.Eventually(t, func() bool { // the listener may still be starting
		require.NoError(t, write(nil))
		return len(heard) > 0
	}, 10*time.Second, 50*time.Millisecond)
	assert.Equal(t, count(t, s, "interfaces"), count(t, s, "events"))
	assert.Equal(t, count(t, s, "interfaces"), count(t, s, "river_job"))
}

func TestRecordIsOnce(t *testing.T) {
	s := storetest.New(t)
	event := func(key string) eventstore.Event {
		return eventstore.Event{Type: string(rule.SectionJoined), NaturalKey: key, OccurredAt: time.Now()}
	}
	var fresh []string
	for range 2 {
		require.NoError(t, s.InTx(t.Context(), func(tx *db.Tx) (err error) {
			fresh, err = eventstore.RecordEvents(t.Context(), tx,
				[]eventstore.Event{event("a"), event("b"), event("a")})
			return err
		}))
	}
	assert.Empty(t, fresh)
	assert.Equal(t, 2, count(t, s, "events"))

	// Many at once take another way and come to the same.
	many := []eventstore.Event{event("a")}
	for i := range 500 {
		many = append(many, event(fmt.Sprint("many/", i/2)))
	}
	for _, want := range []int{250, 0} {
		require.NoError(t, s.InTx(t.Context(), func(tx *db.Tx) (err error) {
			fresh, err = eventstore.RecordEvents(t.Context(), tx, many)
			return err
		}))
		assert.Len(t, fresh, want)
		assert.Equal(t, 252, count(t, s, "events"))
	}
}

// incoming is a read: by table, rows of values with the sourced id first.
type incoming map[string][][]string

func (incoming) Partial(string) bool          { return false }
func (incoming) Incomplete(string) string     { return "" }
func (incoming) Lacking(string) []string      { return nil }
func (incoming) Where(t string, n int) string { return fmt.Sprint(t, " ", n) }

func (in incoming) Each(_ context.Context, table string, seen func(int, uint64, func() string) bool,
	put func(mirror.MirrorRow) error,
) error {
	for i, values := range in[table] {
		sum := fnv.New64a()
		fmt.Fprintf(sum, "%q", values)
		if seen(i+1, sum.Sum64(), func() string { return values[0] }) {
			continue
		}
		if err := put(mirror.MirrorRow{
			Position: i + 1, Hash: sum.Sum64(), ID: values[0],
			Values: values,
		}); err != nil {
			return err
		}
	}
	return nil
}

func batch(people [][]string, enrolments [][]string) incoming {
	return incoming{
		"orgs":    {{"o", "School", "school", ""}},
		"terms":   {{"t", "Autumn", "term", "2026-09-01", "2027-02-01", ""}},
		"courses": {{"c", "Grafting", "o", "G", "07", "Gardening"}},
		"sections": {
			{"s1", "Grafting A", "GA", "scheduled", "c", "o", "{t}", "", ""},
			{"s2", "Grafting B", "GB", "scheduled", "c", "o", "{t}", "08", ""},
		},
		"people":     people,
		"enrolments": enrolments,
	}
}

func person(id, email string) []string {
	return []string{id, "Given", id, email, email, "user." + id, id, "{}", "o", "", "f", "t"}
}

func TestMergeWritesOnlyWhatDiffers_R1(t *testing.T) {
	s := storetest.New(t)
	c := connection(t, s)
	merge := func(b incoming) (m mirror.Merged) {
		require.NoError(t, s.InTx(t.Context(), func(tx *db.Tx) (err error) {
			m, err = mirror.Merge(t.Context(), tx, c.ID, b)
			return err
		}))
		return m
	}
	in := func(id, section, who string) []string {
		return []string{id, section, who, "student", mirror.Null, mirror.Null, mirror.EnrolmentIn}
	}
	first := batch([][]string{person("p1", "a@x.example"), person("p2", "b@x.example")},
		[][]string{in("e1", "s1", "p1"), in("e2", "s2", "p2")})

	m := merge(first)
	assert.Equal(t, mirror.TableCounts{Read: 2, Added: 2}, m.Tables["people"])
	assert.True(t, m.First)
	assert.Empty(t, m.Joined, "what the first read finds is no news")

	rows := func() (all string) {
		require.NoError(t, s.Pool.QueryRow(t.Context(),
			"SELECT string_agg(xmin::text || ctid::text, ',') FROM people_"+strings.ReplaceAll(c.ID, "-",
				"")).Scan(&all))
		return all
	}
	before := rows()
	m = merge(first)
	assert.Equal(t, before, rows(), "reading the same again writes no row")
	assert.Empty(t, m.Joined)
	assert.Empty(t, m.Sections, "nothing has to be compared")

	m = merge(batch([][]string{person("p1", "new@x.example"), person("p2", "b@x.example")}, first["enrolments"]))
	assert.Equal(t, mirror.TableCounts{Read: 2, Changed: 1, Before: 2}, m.Tables["people"])
	assert.Len(t, m.Sections, 1, "only the section of the changed person")

	m = merge(batch(first["people"], [][]string{in("e1", "s1", "p1")}))
	assert.Len(t, m.Left, 1)
	left := m.Left[0]
	m = merge(first)
	require.Len(t, m.Joined, 1, "coming back is joining anew")
	assert.Equal(t, left.EnrolmentID, m.Joined[0].EnrolmentID)
	assert.NotEqual(t, left.ChangedAt, m.Joined[0].ChangedAt)
	assert.Equal(t, 1, count(t, s, "past_enrolments"), "the time before is kept")

	m = merge(batch([][]string{person("p1", "a@x.example")}, first["enrolments"]))
	assert.Empty(t, m.Left, "who is still enrolled by a record that came is still there")
	assert.Zero(t, m.Tables["people"].Gone)
	require.Len(t, m.Noticed, 1)
	assert.Equal(t, finding.StillReferred, m.Noticed[0].Code)

	m = merge(batch(first["people"], [][]string{in("e1", "s1", "p1"), in("e9", "s2", "p2")}))
	assert.Empty(t, append(m.Left, m.Joined...), "the same place under another id is no news")
	assert.Equal(t, 1, m.Renumbered)
	var began, joined time.Time
	require.NoError(t, s.Pool.QueryRow(t.Context(), `SELECT joined_at, (SELECT joined_at FROM enrolments
		WHERE sourced_id = 'e2') FROM enrolments WHERE sourced_id = 'e9'`).Scan(&began, &joined))
	assert.Equal(t, joined, began, "it began when it did")
}

func TestSecretsAreSealedAndBound(t *testing.T) {
	s := storetest.New(t)
	sealed, err := s.Seal([]byte("green"), "interface/1")
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "green")
	open, err := s.Unseal(sealed, "interface/1")
	require.NoError(t, err)
	assert.Equal(t, "green", string(open))
	_, err = s.Unseal(sealed, "interface/2")
	assert.Error(t, err, "a secret moved to another record cannot be opened")
}

func TestAnotherKeyIsRefused(t *testing.T) {
	url, _ := storetest.URL(t)
	other, err := db.NewKeyset()
	require.NoError(t, err)
	_, err = db.Open(t.Context(), db.Options{URL: url, Keyset: other})
	assert.ErrorContains(t, err, "KANBAN_SECRETS_KEY")
}

func TestStaleEditIsRefused(t *testing.T) {
	s := storetest.New(t)
	c := connection(t, s)
	edit := func(c connectionstore.Interface) error {
		return s.InTx(t.Context(), func(tx *db.Tx) error { return connectionstore.UpdateInterface(tx, &c) })
	}
	require.NoError(t, edit(c))
	assert.ErrorIs(t, edit(c), db.ErrStale)
	_, err := connectionstore.FindInterface(t.Context(), s, "no-uuid")
	assert.ErrorIs(t, err, db.ErrNotFound)
}

// However many ask at once, a rule gets no more calls than it may make, and learns when
// the next one is free.
func TestCallsAreClaimedOneByOne(t *testing.T) {
	s := storetest.New(t)
	r := rulestore.Rule{
		ID: db.NewID(), Name: "r", Trigger: "section.joined", Version: 1,
		Actions: []rule.Action{{Kind: rule.OpenTask}},
	}
	require.NoError(t, s.InTx(t.Context(), func(tx *db.Tx) error { return db.Create(tx, &r, "test") }))
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	claim := func(at time.Time, most int) *time.Time {
		until, err := deliverystore.ClaimCall(t.Context(), s, r.ID, at, time.Hour, most)
		assert.NoError(t, err)
		return until
	}
	var group sync.WaitGroup
	var got atomic.Int32
	for i := range 20 {
		group.Go(func() {
			if claim(now.Add(time.Duration(i)*time.Second), 5) == nil {
				got.Add(1)
			}
		})
	}
	group.Wait()
	assert.EqualValues(t, 5, got.Load())
	until := claim(now.Add(30*time.Second), 5)
	require.NotNil(t, until)
	assert.Nil(t, claim(*until, 5), "an hour after the first of them")
	assert.NotNil(t, claim(*until, 3), "a lower limit counts what was made before")
}

// What is written with an earlier time and seen later is not missed by whoever fetches in
// between.
func TestPickupsLoseNothingOutOfOrder_E10(t *testing.T) {
	s := storetest.New(t)
	ctx := t.Context()
	c := connectionstore.Interface{
		ID: db.NewID(), Name: "Files", Kind: "oneroster-delta",
		Settings: map[string]string{}, Version: 1,
	}
	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error { return storetest.KeepInterface(tx, &c) }))
	keep := func(tx *db.Tx, person string) error {
		return deliverystore.KeepPickup(ctx, tx, deliverystore.Pickup{
			InterfaceID: c.ID, Person: person,
			Section: "s", Role: "student", Active: true,
		})
	}
	var seen []string
	var since time.Time
	fetch := func() {
		list, next, err := deliverystore.Pickups(ctx, s, c.ID, since)
		require.NoError(t, err)
		for _, p := range list {
			seen = append(seen, p.Person)
		}
		since = next
	}
	require.NoError(t, s.InTx(ctx, func(early *db.Tx) error {
		if err := keep(early, "early"); err != nil {
			return err
		}
		require.NoError(t, s.InTx(ctx, func(late *db.Tx) error { return keep(late, "late") }))
		fetch() // while the early one is still being written
		return nil
	}))
	fetch()
	assert.Contains(t, seen, "early")
	assert.Contains(t, seen, "late")
	before := len(seen)
	fetch()
	fetch()
	assert.Len(t, seen, before, "and then nothing more")
}

// A lock stays with its holder until that gives it back or its lease is over, whatever
// becomes of interfaces to the database.
func TestLocksHangOnLeases(t *testing.T) {
	s := storetest.New(t)
	ctx := t.Context()
	one, err := leases.Register(ctx, s, time.Hour)
	require.NoError(t, err)
	two, err := leases.Register(ctx, s, time.Hour)
	require.NoError(t, err)
	unlock, err := leases.Lock(ctx, s, one.Worker, "run/x")
	require.NoError(t, err)
	_, err = leases.Lock(ctx, s, one.Worker, "run/x")
	require.ErrorIs(t, err, leases.ErrHeld, "not even by itself")
	_, err = s.Pool.Exec(ctx, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity
		WHERE datname = current_database() AND pid <> pg_backend_pid()`)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		_, err = leases.Lock(ctx, s, two.Worker, "run/x")
		return errors.Is(err,
			leases.ErrHeld)
	}, 10*time.Second, 20*time.Millisecond)
	require.NoError(t, unlock(ctx))
	_, err = leases.Lock(ctx, s, two.Worker, "run/x")
	require.NoError(t, err)
	require.NoError(t, leases.EndLease(ctx, s, two))
	_, err = leases.Lock(ctx, s, one.Worker, "run/x")
	require.NoError(t, err, "the holder is gone")
	require.NoError(t, leases.EndDeadLeases(ctx, s))
	require.NoError(t, leases.Renew(ctx, s, one), "this process lives")
	_, err = s.Pool.Exec(ctx, `UPDATE workers SET started = started + 1`) // another process of the same number
	require.NoError(t, err)
	require.NoError(t, leases.EndDeadLeases(ctx, s))
	require.ErrorIs(t, leases.Renew(ctx, s, one), db.ErrStale)
}

// An account that was replaced at the service replaces, for whoever had it before too.
func TestReplacedAccountsReplace(t *testing.T) {
	s := storetest.New(t)
	ctx := t.Context()
	c := connectionstore.Interface{
		ID: db.NewID(), Name: "Chat", Kind: "scim", Settings: map[string]string{},
		Version: 1,
	}
	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error { return storetest.KeepInterface(tx, &c) }))
	ada, bob := db.NewID(), db.NewID()
	for _, link := range [][2]string{{"a1", ada}, {"b1", bob}, {"a2", ada}, {"a1", bob}, {"a1", bob}, {"a1", ada}} {
		require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error {
			return connectionstore.KeepAccount(ctx, tx, c.ID,
				link[0], link[1])
		}), "%v", link)
		accounts, err := matchstore.AccountsOf(ctx, s, link[1])
		require.NoError(t, err)
		require.Len(t, accounts, 1)
		assert.Equal(t, link[0], accounts[0].RemoteID)
	}
}

func TestNewerSchemaIsRefused(t *testing.T) {
	s := storetest.New(t)
	_, err := s.Pool.Exec(t.Context(), `INSERT INTO goose_db_version (version_id, is_applied) VALUES (99999, true)`)
	require.NoError(t, err)
	_, err = db.Open(t.Context(), db.Options{URL: s.Pool.Config().ConnString(), Keyset: []byte("x")})
	require.ErrorIs(t, err, db.ErrNewerSchema)
	assert.ErrorContains(t, err, "start the newer program")
}

// Use cases that are put together over a transaction read what it wrote, and write with it.
func TestEverythingIsWithinATransaction(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	undone := errors.New("undone")
	names := func(from *db.Database) (names []string) {
		all, err := connectionstore.Connections(ctx, from)
		require.NoError(t, err)
		for _, c := range all {
			names = append(names, c.Name)
		}
		return names
	}
	make := func(on *db.Database, name string) error {
		return on.InTx(ctx, func(tx *db.Tx) error {
			return db.Create(tx, &connectionstore.Connection{ID: db.NewID(), Name: name, Version: 1}, "making one")
		})
	}
	err := s.InTx(ctx, func(tx *db.Tx) error {
		within := s.Within(tx)
		require.NoError(t, make(within, "One"))
		require.ErrorIs(t, make(within, "One"), db.ErrTaken, "it undoes itself alone")
		require.NoError(t, within.InShortTx(ctx, func(tx *db.Tx) error {
			return db.Create(tx, &connectionstore.Connection{ID: db.NewID(), Name: "Two", Version: 1}, "making one")
		}))
		assert.Equal(t, []string{"One", "Two"}, names(within))
		n, err := db.Values[int](ctx, within.Quickly(), "counting", `SELECT count(*)::int FROM connections`)
		require.NoError(t, err)
		assert.Equal(t, []int{2}, n)
		assert.Empty(t, names(s), "nobody else sees it")
		return undone
	})
	require.ErrorIs(t, err, undone)
	assert.Empty(t, names(s))
	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error { return make(s.Within(tx), "Three") }))
	assert.Equal(t, []string{"Three"}, names(s))
}

func TestGrants(t *testing.T) {
	w := apptest.New(t)
	s, ctx := w.Store, t.Context()
	c := w.Connect("smtp", "Mail", map[string]string{"server": "mail.example:25", "from": "a@x.example"})
	now, pending, err := connectionstore.Grants(ctx, s, c.ID)
	require.NoError(t, err)
	assert.Nil(t, now)
	assert.Nil(t, pending)
	keep := func(g connectionstore.Grant) {
		t.Helper()
		g.InterfaceID, g.GrantedAt, g.Token = c.ID, time.Now().UTC(), []byte("sealed")
		require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error { return connectionstore.KeepGrant(ctx, tx, g) }))
	}
	keep(connectionstore.Grant{Account: "ada", Scopes: []string{"a", "b"}})
	keep(connectionstore.Grant{Account: "ada again", Scopes: []string{}})
	keep(connectionstore.Grant{Account: "bram", Pending: true, Trouble: "another one", Scopes: []string{}})
	now, pending, err = connectionstore.Grants(ctx, s, c.ID)
	require.NoError(t, err)
	assert.Equal(t, "ada again", now.Account)
	assert.Empty(t, now.Scopes)
	assert.False(t, now.Ended())
	assert.Equal(t, "bram", pending.Account)
	all, err := connectionstore.AllGrants(ctx, s)
	require.NoError(t, err)
	assert.Len(t, all, 2)
	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error { return connectionstore.DropGrant(ctx, tx, c.ID, true) }))
	_, pending, err = connectionstore.Grants(ctx, s, c.ID)
	require.NoError(t, err)
	assert.Nil(t, pending)
}

func TestSignIns(t *testing.T) {
	w := apptest.New(t)
	s, ctx := w.Store, t.Context()
	c := w.Connect("smtp", "Mail", map[string]string{"server": "mail.example:25", "from": "a@x.example"})
	a := accessstore.User{ID: db.NewID(), Name: "Maud", Email: "m@x.example", PasswordHash: "none"}
	now := time.Now().UTC()
	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error {
		require.NoError(t, db.Create(tx, &a, "making one"))
		for n, began := range []time.Time{now.Add(-time.Hour), now} {
			require.NoError(t, connectionstore.KeepSignIn(ctx, tx, connectionstore.SignIn{
				State: []byte{byte(n)}, InterfaceID: c.ID, UserID: a.ID,
				Verifier: []byte("sealed"), BeganAt: began,
			}, now.Add(-15*time.Minute)))
		}
		_, err := connectionstore.TakeSignIn(ctx, tx, []byte{0})
		require.ErrorIs(t, err, db.ErrNotFound, "it is too old")
		begun, err := connectionstore.TakeSignIn(ctx, tx, []byte{1})
		require.NoError(t, err)
		assert.Equal(t, a.ID, begun.UserID)
		_, err = connectionstore.TakeSignIn(ctx, tx, []byte{1})
		require.ErrorIs(t, err, db.ErrNotFound, "once")
		return nil
	}))
}

func TestStatementDocuments(t *testing.T) {
	w := apptest.New(t)
	s, ctx := w.Store, t.Context()
	c := w.Connect("xapi", "Platform", nil)
	at := eventstore.StatementDocument{InterfaceID: c.ID, Place: []byte("place"), DocumentID: "one"}
	_, ok, err := eventstore.FindDocument(ctx, s, at)
	require.NoError(t, err)
	assert.False(t, ok)
	now := time.Now().UTC()
	require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error {
		require.NoError(t, eventstore.LockDocument(ctx, tx, at))
		for _, registration := range []string{"", "r"} {
			for _, body := range []string{"first", "second"} {
				d := at
				d.Registration, d.Body, d.ChangedAt = registration, []byte(body), now
				require.NoError(t, eventstore.KeepDocument(ctx, tx, d))
			}
		}
		return nil
	}))
	d, ok, err := eventstore.FindDocument(ctx, s, at)
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, "second", string(d.Body))
	ids := func(after time.Time) []string {
		list, err := eventstore.DocumentIDs(ctx, s, eventstore.StatementDocument{
			InterfaceID: c.ID, Place: at.Place,
		}, after)
		require.NoError(t, err)
		return list
	}
	assert.Equal(t, []string{"one"}, ids(time.Time{}), "under two registrations, and one id")
	assert.Empty(t, ids(now.Add(time.Second)))
	drop := func(d eventstore.StatementDocument) {
		require.NoError(t, s.InTx(ctx, func(tx *db.Tx) error { return eventstore.DropDocuments(ctx, tx, d) }))
	}
	drop(at)
	assert.Equal(t, []string{"one"}, ids(time.Time{}), "that of the registration is there still")
	drop(eventstore.StatementDocument{InterfaceID: c.ID, Place: at.Place})
	assert.Empty(t, ids(time.Time{}))
}
