package persons_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/badges"
	"kanban/internal/app/pairings"
	"kanban/internal/app/persons"
	"kanban/internal/app/reports"
	"kanban/internal/apptest"
	"kanban/internal/core/report"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/store/personstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var (
	ada = apptest.Pupil{
		ID: "w-1", Identifier: "stu-001", Email: "ada.alder@fernmoor.example", Given: "Ada",
		Family: "Alder",
	}
	bram = apptest.Pupil{
		ID: "w-2", Identifier: "other", Email: "bram.birch@fernmoor.example", Given: "Bram",
		Family: "Birch",
	}
	cleo = apptest.Pupil{
		ID: "w-3", Identifier: "stu-003", Email: "somebody@west.example", Given: "Somebody",
		Family: "Else",
	}
	maud = apptest.Pupil{
		ID: "w-t", Identifier: "tea-002", Email: "otto.onion@fernmoor.example", Given: "Otto",
		Family: "Onion", Role: "teacher",
	}
	wilma = apptest.Pupil{ID: "w-9", Identifier: "w-9", Email: "wilma@west.example", Given: "Wilma", Family: "West"}
)

// world is a school with rules and a class, and a second one that shares people with it.
type world struct {
	*apptest.World
	t     *testing.T
	first connectionstore.Interface
	west  connectionstore.Interface
	chat  connectionstore.Interface
	badge badgestore.Badge
}

func two(t *testing.T) *world {
	t.Helper()
	w, _ := apptest.Clocked(t)
	w.Outlined()
	x := &world{World: w, t: t, chat: w.Workspace()}
	first, err := connectionstore.FindInterface(t.Context(), w.Store, w.Section("PROP-A").Interface)
	require.NoError(t, err)
	x.first = first
	pairing, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-A").ID,
		InterfaceID: x.chat.ID,
	})
	require.NoError(t, err)
	w.Sync(pairing.ID, true)
	labels := w.Labels()
	issuer, err := w.Badges.AddIssuer(t.Context(), "test",
		badgestore.Issuer{Name: "Fernmoor", URL: "http://f.example", Email: "b@f.example"})
	require.NoError(t, err)
	x.badge, err = w.Badges.AddBadge(t.Context(), "test",
		badgestore.Badge{IssuerID: issuer.ID, Name: "Cuttings", Description: "d", Criteria: "c"})
	require.NoError(t, err)
	w.Rule(rule.Draft{
		Name: "Greet", Trigger: string(rule.SectionJoined), OncePerPerson: true,
		Actions: []rule.Action{
			{
				Kind: rule.CallOperation, InterfaceID: labels.ID, Operation: "add-label",
				Fields: map[string]string{"email": "person.email", "label": `"learner"`},
			},
			{Kind: rule.AppendRow, Sheet: "joined", Fields: map[string]string{"name": "person.name"}},
			{Kind: rule.OpenTask, Subject: "Say hello", Owner: "maud@fernmoor.example"},
		},
	})
	w.Rule(rule.Draft{
		Name: "Well done", Trigger: string(rule.ModuleCompleted), OncePerPerson: true,
		Actions: []rule.Action{{Kind: rule.Award, BadgeID: x.badge.ID}},
	})
	x.west = w.SecondSchool(ada, bram, cleo, maud, wilma)
	x.settle()
	return x
}

// settle lets everything happen that is due, and looks who looks like one person.
func (x *world) settle() {
	x.t.Helper()
	for range 3 {
		x.Follow()
		x.Deliver()
	}
	require.NoError(x.t, x.Persons.LookFor(x.t.Context(), x.west.ID))
}

// in finds the person of a record.
func (x *world) in(register, sourced string) (id string) {
	x.t.Helper()
	require.NoError(x.t, x.Store.Pool.QueryRow(x.t.Context(),
		`SELECT id::text FROM people WHERE interface_id = $1 AND sourced_id = $2`, register, sourced).Scan(&id))
	return id
}

func (x *world) exec(sql string, args ...any) {
	x.t.Helper()
	_, err := x.Store.Pool.Exec(x.t.Context(), sql, args...)
	require.NoError(x.t, err, sql)
}

// rows gives everything that names a person, table by table.
func (x *world) rows(person string) map[string]string {
	x.t.Helper()
	out := map[string]string{}
	for _, table := range personstore.Tables() {
		var text string
		require.NoError(x.t, x.Store.Pool.QueryRow(x.t.Context(), `SELECT coalesce(string_agg(j::text, E'\n' ORDER
			BY j::text), '')
			FROM (SELECT to_jsonb(t) - 'person_id' AS j FROM `+table+` t WHERE t.person_id = $1) x`,
			person).Scan(&text))
		out[table] = text
	}
	return out
}

func count(rows map[string]string) (n int) {
	for _, text := range rows {
		if text != "" {
			n += strings.Count(text, "\n") + 1
		}
	}
	return n
}

// shown gives what lists and reports show of everybody.
func (x *world) shown() map[string]string {
	x.t.Helper()
	ctx, out := x.t.Context(), map[string]string{}
	put := func(name string, v any, err error) {
		require.NoError(x.t, err)
		text, err := json.MarshalIndent(v, "", " ")
		require.NoError(x.t, err)
		out[name] = string(text)
	}
	events, err := x.Deliveries.Events(ctx, eventstore.EventFilter{Limit: 500})
	for i := range events {
		events[i].PersonID = nil
	}
	put("events", events, err)
	deliveries, err := x.Deliveries.Deliveries(ctx, deliverystore.DeliveryFilter{Limit: 500})
	for i := range deliveries {
		deliveries[i].PersonID, deliveries[i].OnceKey = nil, nil
	}
	put("deliveries", deliveries, err)
	awards, err := x.Badges.Awards(ctx, badgestore.AwardFilter{Limit: 100})
	for i := range awards {
		awards[i].PersonID = ""
	}
	put("awards", awards, err)
	tasks, err := x.Tasks.Tasks(ctx, false, 500, nil)
	for i := range tasks {
		tasks[i].PersonID = nil
	}
	put("tasks", tasks, err)
	rows, err := x.Deliveries.SheetRows(ctx, "joined")
	put("sheet", rows, err)
	uses, err := x.Rules.UsageOfRules(ctx, time.Now())
	put("rules", uses, err)
	for _, d := range reports.All {
		a := reports.Ask{}
		if d.Name == report.Holdings {
			a.Section = "PROP-A"
		}
		made, err := x.Reports.Make(ctx, d.Name, a)
		put("report on "+string(d.Name), made.Summary, err)
		for i := range made.Parts {
			var text strings.Builder
			require.NoError(x.t, x.Reports.Write(&text, made, i, "csv"))
			out[fmt.Sprint("report on ", d.Name, " ", i)] = text.String()
		}
	}
	return out
}

// joins records that somebody joined a section.
func (x *world) joins(person, section string) eventstore.Event {
	x.t.Helper()
	s := x.Section(section)
	return x.Record(eventstore.Event{
		Type: string(rule.SectionJoined), NaturalKey: "joined/" + person + "/" + section, PersonID: &person,
		SectionID: &s.ID,
		CourseID:  &s.CourseID, Data: map[string]any{"role": "student", "moved": false}, OccurredAt: time.Now(),
	})
}

// merged makes one person of the two records, and gives who remains and who was the other.
func (x *world) merged(a, b string, accounts map[string]string) persons.Outcome {
	x.t.Helper()
	o, err := x.Persons.MergeTwo(x.t.Context(), "Maud", persons.Wish{PersonID: a, OtherID: b, Accounts: accounts})
	require.NoError(x.t, err)
	return o
}

// Records of two registers are proposed with what speaks for it; nothing follows before somebody says so.
func TestPeopleOfTwoRegistersAreProposed(t *testing.T) {
	x := two(t)
	list, counts, err := x.Persons.Same(t.Context(), personstore.SameFilter{})
	require.NoError(t, err)
	found := map[string]string{}
	for _, s := range list {
		found[s.A.GivenName+"/"+s.B.GivenName] = string(s.Certainty) + " " + strings.Join(s.Signs, " ")
	}
	assert.Equal(t, map[string]string{
		"Ada/Ada":       "sure same-identifier same-email same-name",
		"Otto/Otto":     "sure same-identifier same-email same-name",
		"Bram/Bram":     "likely other-identifier same-email same-name",
		"Cleo/Somebody": "unsure same-identifier other-email other-name",
	}, found)
	assert.Equal(t, map[string]int{"sure": 2, "likely": 1, "unsure": 1}, counts)
	assert.NotEqual(t, x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1"))

	last := list[len(list)-1]
	n, err := x.Persons.KeepApart(t.Context(), "Maud", []string{last.ID})
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	x.settle()
	_, counts, err = x.Persons.Same(t.Context(), personstore.SameFilter{})
	require.NoError(t, err)
	assert.Equal(t, map[string]int{"sure": 2, "likely": 1}, counts, "what was refused is not proposed again")
	apart, err := x.Persons.KeptApart(t.Context())
	require.NoError(t, err)
	require.Len(t, apart, 1)
	require.NoError(t, x.Persons.Forget(t.Context(), "Maud", apart[0].ID))
	require.ErrorIs(t, x.Persons.Forget(t.Context(), "Maud", apart[0].ID), db.ErrNotFound)
	x.settle()
	_, counts, err = x.Persons.Same(t.Context(), personstore.SameFilter{})
	require.NoError(t, err)
	assert.Equal(t, 1, counts["unsure"])

	_, err = x.Persons.MergeSame(t.Context(), "Maud", nil, true, 3)
	require.ErrorContains(t, err, "2 are sure now, not 3")
	all, err := x.Persons.MergeSame(t.Context(), "Maud", nil, true, 2)
	require.NoError(t, err)
	require.Len(t, all, 2)
	for _, o := range all {
		assert.Empty(t, o.Why)
	}
	assert.Equal(t, x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1"))
	people, err := x.Registers.People(t.Context(), "alder", 10, nil)
	require.NoError(t, err)
	assert.Equal(t, 1, people.Total, "each of them is shown once")
	_, err = x.Persons.MergeSame(t.Context(), "Maud", []string{list[0].ID}, false, 0)
	require.ErrorContains(t, err, "not proposed any more")
}

// Merging and splitting lose nothing and double nothing: what names either afterwards is what named them before.
func TestMergingAndSplittingLoseNothing(t *testing.T) {
	x := two(t)
	ctx := t.Context()
	a, b := x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1")
	platform := x.Platform()
	x.Completes(platform.ID, "stu-001", "one", time.Now())
	x.exec(`INSERT INTO not_accounts (interface_id, person_id, remote_id, decided_by) VALUES ($1, $2, 'no',
		'Maud')`, x.chat.ID, b)
	x.exec(`INSERT INTO users (id, name, email, password_hash, person_id) SELECT gen_random_uuid(), p::text, p::text, '', p
		FROM unnest(ARRAY[$1, $2]::uuid[]) p`, a, b)
	x.exec(`INSERT INTO holders (person_id, shown_name, terms, accepted_at) SELECT unnest(ARRAY[$1, $2]::uuid[]),
		'Shown', 1, now()`, a, b)
	x.exec(`INSERT INTO activity_progress (person_id, section_id, activity_id, first_at, last_at, completed,
		passed, failed)
		VALUES ($1, $2, 'x', now(), now(), true, false, false)`, b, x.Section("WEST-1").ID)
	x.exec(`INSERT INTO progress (person_id, section_id, percent, updated_at, done, outline_version)
		VALUES ($1, $2, 50, now(), false, 1)`, b, x.Section("WEST-1").ID)
	x.joins(b, "WEST-1")
	x.settle()
	mine, theirs, before := x.rows(a), x.rows(b), x.shown()
	require.NotEmpty(t, theirs["events"])
	require.NotEmpty(t, theirs["deliveries"])
	require.NotEmpty(t, theirs["tasks"])

	o := x.merged(a, b, nil)
	require.Empty(t, o.Why)
	assert.Zero(t, count(x.rows(b)))
	now := x.rows(a)
	assert.Equal(t, count(mine)+count(theirs)-1, count(now), "one of the two shown names is kept aside")
	after := x.shown()
	for what := range before {
		assert.Equal(t, before[what], after[what], what)
	}
	events, err := db.Values[string](ctx, x.Store, "", `SELECT id::text FROM events`)
	require.NoError(t, err)
	require.NoError(t, x.Deliveries.React(ctx, events, ""))
	x.joins(a, "WEST-1") // the same fact, about who they are now
	x.settle()
	assert.Equal(t, before["deliveries"], x.shown()["deliveries"], "what was once is once")
	where, err := x.Registers.WhereaboutsOf(ctx, a)
	require.NoError(t, err)
	var sections []string
	for _, s := range where {
		sections = append(sections, s.Section)
	}
	assert.Contains(t, sections, "West one")
	assert.Contains(t, sections, "Propagation A")
	was, err := x.Persons.Now(ctx, b)
	require.NoError(t, err)
	assert.Equal(t, a, was, "the id that they had still finds them")
	assert.Equal(t, a, x.Person("stu-001").ID)
	require.NoError(t, x.Persons.MoveRest(ctx))

	m, err := x.Persons.Split(ctx, "Maud", o.MergeID)
	require.NoError(t, err)
	assert.NotNil(t, m.SplitAt)
	assert.Equal(t, []string{"same-identifier", "same-email", "same-name"}, m.Evidence, "what spoke for it is kept")
	for table := range mine {
		assert.Equal(t, mine[table], x.rows(a)[table], table)
		assert.Equal(t, theirs[table], x.rows(b)[table], table)
	}
	_, err = x.Persons.Split(ctx, "Maud", o.MergeID)
	require.ErrorContains(t, err, "already")
	require.NoError(t, x.Deliveries.React(ctx, events, ""))
	x.settle()
	assert.Equal(t, before["deliveries"], x.shown()["deliveries"])
	var audited int
	require.NoError(t, x.Store.Pool.QueryRow(ctx, `SELECT count(*) FROM audit_entries WHERE what IN ('merged two people', 'split two people')`).Scan(&audited))
	assert.Equal(t, 2, audited)
}

// What comes after a merge in a section of the other's register goes with them when they are split.
func TestWhatCameSinceGoesWithItsSection(t *testing.T) {
	x := two(t)
	a, b := x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1")
	o := x.merged(a, b, nil)
	require.Empty(t, o.Why)
	since := x.joins(a, "WEST-1")
	x.settle()
	require.NotEmpty(t, x.DeliveriesOf(since.ID))
	require.Contains(t, x.rows(a)["events"], since.ID)
	_, err := x.Persons.Split(t.Context(), "Maud", o.MergeID)
	require.NoError(t, err)
	assert.Contains(t, x.rows(b)["events"], since.ID)
	for _, d := range x.DeliveriesOf(since.ID) {
		assert.Equal(t, b, *d.PersonID)
	}
}

// What was once per person is so after months of which nothing is kept, too, whoever they were then.
func TestOnceIsKeptByWhoTheyWere(t *testing.T) {
	x := two(t)
	a, b := x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1")
	first := x.joins(b, "WEST-1")
	x.settle()
	require.NotEmpty(t, x.DeliveriesOf(first.ID))
	x.exec(`INSERT INTO spent_keys SELECT key_of(once_key) FROM deliveries WHERE event_id = $1 AND once_key IS NOT
		NULL`, first.ID)
	x.exec(`DELETE FROM deliveries WHERE event_id = $1`, first.ID)
	x.exec(`DELETE FROM events WHERE id = $1`, first.ID)
	require.Empty(t, x.merged(a, b, nil).Why)
	again := x.joins(a, "WEST-1")
	x.settle()
	assert.Empty(t, x.DeliveriesOf(again.ID))
}

// Of what one person can have only once nothing is chosen silently.
func TestWhatBothHaveIsAskedAbout(t *testing.T) {
	x := two(t)
	ctx := t.Context()
	a, b := x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1")
	var own string
	require.NoError(t, x.Store.Pool.QueryRow(ctx, `SELECT remote_id FROM accounts WHERE interface_id = $1 AND
		person_id = $2`,
		x.chat.ID, a).Scan(&own))
	x.exec(`INSERT INTO accounts (interface_id, remote_id, person_id) VALUES ($1, 'west-ada', $2)`, x.chat.ID, b)
	o := x.merged(a, b, nil)
	assert.Contains(t, o.Why, "say which of them is used")
	assert.Empty(t, o.MergeID)
	require.Len(t, o.Clashes, 1)
	assert.Equal(t, []string{own, "west-ada"}, []string{o.Clashes[0].Mine, o.Clashes[0].Theirs})
	mine, theirs := x.rows(a), x.rows(b)

	for _, keep := range []string{own, "west-ada"} {
		o = x.merged(a, b, map[string]string{x.chat.ID: keep})
		require.Empty(t, o.Why)
		kept, err := db.Values[string](ctx, x.Store, "", `SELECT remote_id FROM accounts WHERE interface_id = $1
			AND person_id = $2`,
			x.chat.ID, a)
		require.NoError(t, err)
		assert.Equal(t, []string{keep}, kept)
		_, err = x.Persons.Split(ctx, "Maud", o.MergeID)
		require.NoError(t, err)
		assert.Equal(t, mine["accounts"], x.rows(a)["accounts"])
		assert.Equal(t, theirs["accounts"], x.rows(b)["accounts"])
	}

	for _, id := range []string{a, b} {
		_, err := x.Badges.AwardByHand(ctx, badges.Anybody("Maud"), x.badge.ID, []string{id}, badges.Wish{}, true)
		require.NoError(t, err)
	}
	o = x.merged(a, b, map[string]string{x.chat.ID: own})
	assert.Contains(t, o.Why, "both hold the badge Cuttings")
	assert.Contains(t, x.merged(a, x.in(x.first.ID, "stu-002"), nil).Why, "both have a record in")
	assert.Contains(t, x.merged(a, a, nil).Why, "one person already")
	x.exec(`INSERT INTO person_marks (interface_id, sourced_id, kind, second_of, decided_by) VALUES ($1, 'w-2',
		'test', '', 'Maud')`, x.west.ID)
	assert.Contains(t, x.merged(x.in(x.first.ID, "stu-002"), x.in(x.west.ID, "w-2"), nil).Why, "test learner")
	assert.Contains(t, x.merged(db.NewID(), a, nil).Why, "not in a register any more")
}

// The record that is still listed leads; what a register no longer lists ends nobody who is in another.
func TestTheRecordThatIsListedLeads(t *testing.T) {
	x := two(t)
	ctx := t.Context()
	a, b := x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1")
	require.Empty(t, x.merged(b, a, nil).Why, "whoever is named first remains")
	leading := func() string {
		p, err := rosterstore.FindPerson(ctx, x.Store, b)
		require.NoError(t, err)
		return p.Email
	}
	assert.Equal(t, ada.Email, leading())
	moved := ada
	moved.Email = "ada@west.example"
	x.ReadSecond(x.west, moved, bram, cleo, maud, wilma)
	assert.Equal(t, "ada@west.example", leading())
	x.ReadSecond(x.west, bram, cleo, maud, wilma)
	assert.Equal(t, "ada.alder@fernmoor.example", leading(), "the west does not list her any more")
	x.ReadSecond(x.west, moved, bram, cleo, maud, wilma)
	assert.Equal(t, "ada@west.example", leading())
	assert.Equal(t, b, x.in(x.first.ID, "stu-001"), "reading changes nobody's person")
	require.NoError(t, x.Store.InTx(ctx, func(tx *db.Tx) error {
		return connectionstore.RemoveInterface(ctx, tx, x.west.ID, "Maud")
	}))
	assert.Equal(t, "ada.alder@fernmoor.example", leading(), "the west's register is removed")
	records, err := x.Persons.Records(ctx, b)
	require.NoError(t, err)
	require.Len(t, records, 2)
	assert.Equal(t, []bool{true, false}, []bool{records[0].Leads, records[1].Leads})
}

// Facts about somebody whom two registers have are ambiguous until they are one person, and are counted then.
func TestFactsFindWhoWasTwo(t *testing.T) {
	x := two(t)
	ctx := t.Context()
	platform := x.Platform()
	x.Completes(platform.ID, "stu-001", "one", time.Now())
	a, b := x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1")
	require.NotContains(t, x.rows(a)["activity_progress"], `"completed": true`, "nobody is chosen")
	require.Empty(t, x.merged(a, b, nil).Why)
	require.NoError(t, x.Facts.Resolve(ctx))
	assert.Contains(t, x.rows(a)["activity_progress"], `"completed": true`)
}

// Merges of merged people are split in their order, the last first.
func TestMergesAreSplitInTheirOrder(t *testing.T) {
	x := two(t)
	ctx := t.Context()
	third := x.Connect("oneroster-csv", "East school", map[string]string{})
	east := ada
	east.ID = "east-1"
	x.ReadSecond(third, east)
	a, b, c := x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1"), x.in(third.ID, "east-1")
	before := []map[string]string{x.rows(a), x.rows(b), x.rows(c)}
	all, err := x.Persons.Merge(ctx, "Maud", []persons.Wish{{PersonID: a, OtherID: b}, {PersonID: c, OtherID: b}})
	require.NoError(t, err)
	require.Len(t, all, 2)
	require.Empty(t, all[0].Why)
	require.Empty(t, all[1].Why)
	assert.Equal(t, []string{c, c, c}, []string{x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1"), x.in(third.ID,
		"east-1")})
	now, err := x.Persons.Now(ctx, b)
	require.NoError(t, err)
	assert.Equal(t, c, now)
	_, err = x.Persons.Split(ctx, "Maud", all[0].MergeID)
	require.ErrorContains(t, err, "split those first")
	for _, i := range []int{1, 0} {
		_, err = x.Persons.Split(ctx, "Maud", all[i].MergeID)
		require.NoError(t, err)
	}
	assert.Equal(t, before, []map[string]string{x.rows(a), x.rows(b), x.rows(c)})
	merges, err := x.Persons.Merges(ctx, "", "", 10)
	require.NoError(t, err)
	assert.Empty(t, merges)
}

// What was just being recorded when people were merged is moved afterwards.
func TestWhatWasAtWorkIsMovedAfterwards(t *testing.T) {
	x := two(t)
	a, b := x.in(x.first.ID, "stu-001"), x.in(x.west.ID, "w-1")
	require.Empty(t, x.merged(a, b, nil).Why)
	x.exec(`INSERT INTO not_accounts (interface_id, person_id, remote_id, decided_by) VALUES ($1, $2, 'late',
		'Maud')`, x.chat.ID, b)
	x.exec(`INSERT INTO holders (person_id, shown_name, terms, accepted_at) SELECT unnest(ARRAY[$1, $2]::uuid[]),
		'Shown', 1, now()`, a, b)
	require.NoError(t, x.Persons.MoveRest(t.Context()))
	assert.Zero(t, count(x.rows(b)))
	assert.Contains(t, x.rows(a)["not_accounts"], "late")
	var n int
	require.NoError(t, x.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM river_job WHERE kind = $1 AND
		scheduled_at > now()`,
		jobs.MovePeople{}.Kind()).Scan(&n))
	assert.Equal(t, 1, n)
}
