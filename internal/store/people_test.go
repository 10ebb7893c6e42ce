package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/mirror"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
)

// tx carries out steps in one transaction, which must succeed.
func tx(t *testing.T, s *db.Database, steps func(tx *db.Tx) error) {
	t.Helper()
	require.NoError(t, s.InTx(t.Context(), steps))
}

// must requires that a reading succeeds.
func must[T any](t *testing.T) func(T, error) T {
	return func(x T, err error) T {
		t.Helper()
		require.NoError(t, err)
		return x
	}
}

// missing requires that there is no such record.
func missing[T any](t *testing.T) func(T, error) {
	return func(_ T, err error) {
		t.Helper()
		require.ErrorIs(t, err, db.ErrNotFound)
	}
}

// school is a world with the demo school read.
func school(t *testing.T) (*apptest.World, connectionstore.Interface) {
	t.Helper()
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	return w, register
}

// key is somebody's address as it is compared.
func key(t *testing.T, p rosterstore.Person) string {
	t.Helper()
	return must[string](t)(roster.AddressKey(p.Email))
}

// paired is a pairing of a section with a class at a service, as it is kept.
func paired(t *testing.T, s *db.Database, section rosterstore.Section,
	service connectionstore.Interface,
) pairingstore.Pairing {
	t.Helper()
	p := pairingstore.Pairing{
		ID: db.NewID(), SectionID: section.ID, InterfaceID: service.ID,
		TargetName: section.Title, Policy: roster.DefaultPolicy(),
	}
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &p, "test") })
	return must[pairingstore.Pairing](t)(pairingstore.FindPairing(t.Context(), s, p.ID))
}

func TestPeopleAndSections(t *testing.T) {
	w, register := school(t)
	s, ctx := w.Store, t.Context()
	ada, prop := w.Person("stu-001"), w.Section("PROP-A")

	assert.Equal(t, ada, must[rosterstore.Person](t)(rosterstore.FindPerson(ctx, s, ada.ID)))
	missing[rosterstore.Person](t)(rosterstore.FindPerson(ctx, s, db.NewID()))
	missing[rosterstore.Person](t)(rosterstore.FindPerson(ctx, s, "no id"))
	at, sourced, err := rosterstore.PersonInRegister(ctx, s, ada.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{register.ID, "stu-001"}, []string{at, sourced})
	assert.Equal(t, map[string]string{prop.ID: "sec-prop-a"},
		must[map[string]string](t)(rosterstore.SourcedIDs(ctx, s, []string{prop.ID, db.NewID()})))
	assert.Len(t, must[[]rosterstore.Person](t)(rosterstore.PeopleByID(ctx, s, []string{ada.ID, db.NewID()})), 1)
	assert.Equal(t, ada.ID, must[rosterstore.Person](t)(rosterstore.PersonByIdentifier(ctx, s, "stu-001")).ID)
	missing[rosterstore.Person](t)(rosterstore.PersonByIdentifier(ctx, s, "stu-999"))
	assert.Equal(t, ada.ID, must[rosterstore.Person](t)(rosterstore.PersonByAddress(ctx, s, key(t, ada))).ID)
	_, err = rosterstore.PersonByAddress(ctx, s, key(t, w.Person("stu-003")))
	assert.Error(t, err, "an address that two people have is nobody's")
	assert.Equal(t, ada.ID, must[rosterstore.Person](t)(rosterstore.PersonCalled(ctx, s, "stu-001")).ID)
	found := must[rosterstore.FoundPeople](t)(rosterstore.People(ctx, s, "ALDER", 10, nil)).People
	require.Len(t, found, 1)
	assert.Equal(t, register.Name, found[0].Register)
	some := must[rosterstore.FoundPeople](t)(rosterstore.People(ctx, s, "stu-", 5, nil))
	assert.Len(t, some.People, 5, "the limit holds")
	assert.Greater(t, some.Total, 5, "those who are not shown are counted")
	assert.Zero(t, must[rosterstore.FoundPeople](t)(rosterstore.People(ctx, s, "%", 5, nil)), "no wildcard")

	assert.Equal(t, prop.Title, must[rosterstore.Section](t)(rosterstore.FindSection(ctx, s, prop.ID)).Title)
	missing[rosterstore.Section](t)(rosterstore.FindSection(ctx, s, db.NewID()))
	assert.Len(t, must[[]rosterstore.Section](t)(rosterstore.SectionsByID(ctx, s,
		[]string{prop.ID, w.Section("SOIL-A").ID})), 2)
	all := must[[]rosterstore.Section](t)(rosterstore.Sections(ctx, s))
	assert.Len(t, all, 9)
	assert.Equal(t, "sec-prop-a", must[string](t)(rosterstore.SectionSourcedID(ctx, s, prop.ID)))
	enrolled := must[[]rosterstore.Enrolled](t)(rosterstore.SectionsOf(ctx, s, []string{ada.ID},
		[]string{prop.CourseID}))
	require.Len(t, enrolled, 1)
	assert.Equal(t, []string{prop.ID, "student"}, []string{enrolled[0].SectionID, enrolled[0].Role})
	assert.True(t, must[bool](t)(rosterstore.IsEnrolled(ctx, s, ada.ID, prop.ID)))
	assert.False(t, must[bool](t)(rosterstore.IsEnrolled(ctx, s, ada.ID, w.Section("ORCH-A").ID)))
	where := must[[]rosterstore.Whereabouts](t)(rosterstore.WhereaboutsOf(ctx, s, ada.ID))
	assert.Len(t, where, 3)
	assert.Empty(t, where[0].PairingID)
	lines := must[[]rosterstore.RosterLine](t)(rosterstore.RosterOn(ctx, s, prop.ID, time.Now()))
	assert.Contains(t, lines, rosterstore.RosterLine{
		PersonID: ada.ID, Name: "Ada Alder", Identifier: "stu-001",
		Role: "student", JoinedAt: lines[0].JoinedAt,
	})
	assert.Empty(t, must[[]rosterstore.RosterLine](t)(rosterstore.RosterOn(ctx, s, prop.ID,
		time.Now().AddDate(-20, 0, 0))))
	assert.Empty(t, must[[]rosterstore.RosterLine](t)(rosterstore.Movements(ctx, s, prop.ID, 9)),
		"who was there at the first read did not come")
	_, err = s.Pool.Exec(ctx, `UPDATE enrolments SET joined_at = now() + interval '1 minute'
		WHERE section = 'sec-prop-a' AND role = 'student'`)
	require.NoError(t, err)
	assert.Len(t, must[[]rosterstore.RosterLine](t)(rosterstore.Movements(ctx, s, prop.ID, 3)), 3, "the limit holds")

	orgs := must[[]rosterstore.Org](t)(rosterstore.Orgs(ctx, s))
	require.NotEmpty(t, orgs)
	above := must[map[string][]string](t)(rosterstore.OrgsAbove(ctx, s, []string{prop.ID, db.NewID()}))
	assert.Len(t, above, 1)
	assert.Contains(t, above[prop.ID], orgs[0].ID)
	courses := must[[]learningstore.Course](t)(learningstore.Courses(ctx, s))
	assert.NotEmpty(t, courses)
	two, total, err := learningstore.FindCourses(ctx, s, "", 2, nil)
	require.NoError(t, err)
	assert.Equal(t, courses[:2], two)
	assert.Equal(t, len(courses), total, "those who are not given are counted")
	two, total, err = learningstore.FindCourses(ctx, s, "PROPAGATION", 10, nil)
	require.NoError(t, err)
	require.Len(t, two, 1)
	assert.Equal(t, 1, total)
	two, total, err = learningstore.FindCourses(ctx, s, "%", 10, nil)
	require.NoError(t, err)
	assert.Empty(t, two, "no wildcard")
	assert.Zero(t, total)
	assert.Equal(t, "Propagation", must[string](t)(learningstore.CourseTitle(ctx, s, prop.CourseID)))
	connection, ref, title, err := rosterstore.CourseRef(ctx, s, prop.CourseID)
	require.NoError(t, err)
	assert.Equal(t, []string{register.ID, "crs-prop", "Propagation"}, []string{connection, ref, title})
	fitting := must[[]purchasestore.Fitting](t)(purchasestore.SectionsOfCourse(ctx, s, prop.CourseID))
	assert.Len(t, fitting, 3)
	assert.Equal(t, register.ID, must[[]string](t)(matchstore.MarkedIn(ctx, s, ada.ID))[0])
	assert.Equal(t, map[string][]string{ada.ID: {register.ID}},
		must[map[string][]string](t)(rosterstore.RegistersOf(ctx, s, []string{ada.ID})))
	tx(t, s, func(tx *db.Tx) error {
		n, err := mirror.CountSeats(ctx, tx, register.ID)
		assert.Positive(t, n)
		return err
	})
}

func TestSourcesOfPairings(t *testing.T) {
	w, register := school(t)
	s, ctx, service := w.Store, t.Context(), w.Workspace()
	prop := w.Section("PROP-A")
	p := paired(t, s, prop, service)
	assert.Empty(t, must[[]pairingstore.Pairing](t)(matchstore.PairingsThrough(ctx, s, service.ID)),
		"it has not run yet")
	w.Sync(p.ID, false)
	source := must[roster.Source](t)(pairingstore.Source(ctx, s, p))
	assert.NotEmpty(t, source.Members)
	many := must[map[string]roster.Source](t)(pairingstore.Sources(ctx, s, service.ID, []pairingstore.Pairing{p}))
	assert.Len(t, many[p.ID].Members, len(source.Members), "one by one or many at once")
	assert.Empty(t, must[map[string]roster.Other](t)(rosterstore.InOtherSections(ctx, s, service.ID, prop.ID,
		[]string{"u1"})))
	assert.Equal(t, 1, len(must[[]pairingstore.Pairing](t)(matchstore.PairingsOfRegister(ctx, s, register.ID))))
	assert.NotEmpty(t, must[[]matchstore.PairedMember](t)(matchstore.PairedMembers(ctx, s, service.ID)))
	assert.Len(t, must[[]pairingstore.Pairing](t)(matchstore.PairingsThrough(ctx, s, service.ID)), 1)
	assert.Equal(t, map[string][]string{prop.ID: {service.Name}},
		must[map[string][]string](t)(linkstore.ServicesOfSections(ctx, s)))
}

// What is said of people's accounts and records is kept, used, and dropped again.
func TestWhatIsSaidOfPeople(t *testing.T) {
	w, register := school(t)
	s, ctx, service := w.Store, t.Context(), w.Workspace()
	ada, bram := w.Person("stu-001"), w.Person("stu-002")
	accounts := func(id string) []matchstore.KnownAccount {
		t.Helper()
		return must[[]matchstore.KnownAccount](t)(matchstore.AccountsOf(ctx, s, id))
	}
	tx(t, s, func(tx *db.Tx) error { return matchstore.ChooseAccount(ctx, tx, service.ID, ada.ID, "u-1", "Maud") })
	tx(t, s, func(tx *db.Tx) error { return matchstore.DenyAccount(ctx, tx, service.ID, bram.ID, "u-2", "Maud") })
	require.Len(t, accounts(ada.ID), 1)
	assert.Equal(t, "u-1", accounts(ada.ID)[0].RemoteID)
	assert.True(t, accounts(bram.ID)[0].Denied)
	tx(t, s, func(tx *db.Tx) error {
		holder, err := matchstore.AccountHolder(ctx, tx, service.ID, "u-1")
		assert.Equal(t, ada.ID, holder.ID)
		if err == nil {
			holder, err = matchstore.AccountHolder(ctx, tx, service.ID, "u-9")
			assert.Empty(t, holder.ID)
		}
		return err
	})
	tx(t, s, func(tx *db.Tx) error { return connectionstore.KeepAccount(ctx, tx, service.ID, "u-3", bram.ID) })
	tx(t, s, func(tx *db.Tx) error { return matchstore.KeepSwitchedOff(ctx, tx, service.ID, "u-3", true) })
	tx(t, s, func(tx *db.Tx) error { return matchstore.ForgetDecisions(ctx, tx, service.ID, ada.ID) })
	assert.Empty(t, accounts(ada.ID))
	seats := must[map[string][]pairingstore.Seat](t)(pairingstore.SeatsOf(ctx, s, service.ID,
		[]pairingstore.Holder{{ID: "u-3", EmailKey: key(t, bram)}}))
	assert.NotEmpty(t, seats["u-3"])

	_, err := s.Pool.Exec(ctx, `UPDATE people SET user_name = 'preview.student2' WHERE id = $1`, bram.ID)
	require.NoError(t, err)
	require.NoError(t, matchstore.LookForProposals(ctx, s, register.ID))
	assert.Equal(t, 1, must[matchstore.Proposed](t)(matchstore.LatestProposals(ctx, s, register.ID)).Count)
	list := must[[]matchstore.Proposal](t)(matchstore.Proposals(ctx, s, register.ID))
	require.Len(t, list, 1)
	assert.Equal(t, matchstore.MarkTest, list[0].Kind)
	tx(t, s, func(tx *db.Tx) error {
		return matchstore.MarkPerson(ctx, tx, bram.ID, matchstore.MarkNeither, "", "Maud")
	})
	assert.Empty(t, must[[]matchstore.Proposal](t)(matchstore.Proposals(ctx, s, register.ID)))
	said := must[*matchstore.Mark](t)(matchstore.MarkOf(ctx, s, bram.ID))
	require.NotNil(t, said)
	assert.Equal(t, []string{matchstore.MarkNeither, "Maud", ""}, []string{said.Kind, said.DecidedBy, said.OfID})
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *db.Tx) error {
			ok, err := matchstore.UnmarkPerson(ctx, tx, bram.ID)
			assert.Equal(t, want, ok)
			return err
		})
	}
	assert.Nil(t, must[*matchstore.Mark](t)(matchstore.MarkOf(ctx, s, bram.ID)))

	tx(t, s, func(tx *db.Tx) error {
		return pairingstore.IgnoreClasses(ctx, tx, "Maud", service.ID, []string{"g-1", "g-2"}, true)
	})
	tx(t, s, func(tx *db.Tx) error {
		return pairingstore.IgnoreClasses(ctx, tx, "Maud", service.ID, []string{"g-1"}, false)
	})
	ignored := must[[]pairingstore.IgnoredClass](t)(pairingstore.IgnoredClasses(ctx, s, service.ID))
	require.Len(t, ignored, 1)
	assert.Equal(t, []string{"g-2", "Maud"}, []string{ignored[0].Ref, ignored[0].IgnoredBy})
}

func TestPeopleLists(t *testing.T) {
	w, register := school(t)
	s, ctx := w.Store, t.Context()
	l := rosterstore.PeopleList{
		ID: db.NewID(), InterfaceID: register.ID, Kind: "named", Name: "Helpers",
		MadeBy: "Maud", Version: 1,
	}
	ada, bram := w.Person("stu-001").ID, w.Person("stu-002").ID
	tx(t, s, func(tx *db.Tx) error {
		if err := db.Create(tx, &l, "test"); err != nil {
			return err
		}
		return rosterstore.ListPeople(ctx, tx, l.ID, []string{ada, bram}, nil)
	})
	tx(t, s, func(tx *db.Tx) error { return rosterstore.RefreshPeopleLists(ctx, tx, register.ID) })
	assert.Len(t, must[[]rosterstore.Listing](t)(rosterstore.PeopleOf(ctx, s, l.ID)), 2)
	tx(t, s, func(tx *db.Tx) error { return rosterstore.ListPeople(ctx, tx, l.ID, nil, []string{ada}) })
	assert.Len(t, must[[]rosterstore.Listing](t)(rosterstore.PeopleOf(ctx, s, l.ID)), 1)
	assert.Len(t, must[[]rosterstore.PeopleList](t)(rosterstore.PeopleLists(ctx, s)), 1)
	kept := must[rosterstore.PeopleList](t)(rosterstore.FindPeopleList(ctx, s, l.ID))
	kept.Name = "Hands"
	tx(t, s, func(tx *db.Tx) error { return rosterstore.UpdatePeopleList(ctx, tx, &kept) })
	assert.Equal(t, "Hands", must[rosterstore.PeopleList](t)(rosterstore.FindPeopleList(ctx, s, l.ID)).Name)
	stale := l
	assert.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return rosterstore.UpdatePeopleList(ctx, tx, &stale) }),
		db.ErrStale)
	tx(t, s, func(tx *db.Tx) error { return rosterstore.RemovePeopleList(ctx, tx, l.ID) })
	missing[rosterstore.PeopleList](t)(rosterstore.FindPeopleList(ctx, s, l.ID))
}

// The mirror of a register: what is kept of a read, what midnight changes, what is dropped.
func TestMirror(t *testing.T) {
	w, register := school(t)
	s, ctx := w.Store, t.Context()
	today := time.Now().Format(time.DateOnly)
	assert.Empty(t, must[[]string](t)(mirror.RegistersToTurn(ctx, s, today)))
	_, err := s.Pool.Exec(ctx, `UPDATE enrolments SET end_date = current_date - 1
		WHERE section = 'sec-prop-a' AND person = 'stu-001'`)
	require.NoError(t, err)
	assert.Equal(t, []string{register.ID}, must[[]string](t)(mirror.RegistersToTurn(ctx, s, today)))
	tx(t, s, func(tx *db.Tx) error {
		m, err := mirror.PassDay(ctx, tx, register.ID, today)
		assert.Len(t, m.Left, 1)
		return err
	})
	assert.NotContains(t, must[[]string](t)(mirror.RegistersToTurn(ctx, s, today)), register.ID)
	tx(t, s, func(tx *db.Tx) error {
		lost, err := mirror.Losses(ctx, tx, register.ID, mirror.Merged{})
		assert.Empty(t, lost)
		return err
	})
	tx(t, s, func(tx *db.Tx) error { return mirror.ReadAnew(ctx, tx, register.ID) })
	run := w.Read(register, false)
	assert.Equal(t, 1, run.Counts["joined"], "the register says that she is in")
	assert.NotNil(t, must[*time.Time](t)(runstore.LastRead(ctx, s, register.ID)))
	assert.NotNil(t, must[*time.Time](t)(runstore.LastWholeRead(ctx, s, register.ID)))

	list := []mirror.Difference{{Table: "users", ID: "stu-001", Who: "Ada", Field: "email", Before: "a", After: "b"}}
	tx(t, s, func(tx *db.Tx) error { return mirror.KeepDifferences(ctx, tx, run.ID, list, true) })
	var got []mirror.Difference
	var more bool
	got, more, err = mirror.Differences(ctx, s, run.ID)
	require.NoError(t, err)
	assert.Equal(t, list, got)
	assert.True(t, more)

	prop := w.Section("PROP-A")
	tx(t, s, func(tx *db.Tx) error { return mirror.SectionsChanged(ctx, tx) })
	tx(t, s, func(tx *db.Tx) error { return rosterstore.RefreshSections(ctx, tx, register.ID, []string{prop.ID}) })
	assert.Equal(t, prop.Learners, w.Section("PROP-A").Learners, "worked out anew it is the same")

	content := []byte("PK package")
	tx(t, s, func(tx *db.Tx) error { return mirror.AddUpload(ctx, tx, run.ID, content) })
	assert.Equal(t, content, must[[]byte](t)(mirror.FindUpload(ctx, s, run.ID)))
	tx(t, s, func(tx *db.Tx) error { return mirror.DropUpload(ctx, tx, run.ID) })
	missing[[]byte](t)(mirror.FindUpload(ctx, s, run.ID))
	require.NoError(t, mirror.ReadWhole(ctx, s, run.ID))
	tx(t, s, func(tx *db.Tx) error { return mirror.DropPages(ctx, tx, run.ID) })

	tx(t, s, func(tx *db.Tx) error { return mirror.DropMirror(ctx, tx, register.ID) })
	assert.Empty(t, must[[]rosterstore.Section](t)(rosterstore.Sections(ctx, s)))
}

// Names fit identifiers, addresses and user names, in their order; of one that fits two, both are given.
func TestPeopleNamed(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	ada, twin := w.Person("stu-001"), w.Person("stu-003")
	found := must[[]rosterstore.Named](t)(rosterstore.PeopleNamed(ctx, s,
		[]string{twin.Email, "nobody", "", ada.Email, "stu-001", ada.UserName}))
	var names []string
	for _, p := range found {
		names = append(names, p.Name+" "+p.Identifier)
		assert.False(t, p.Left)
	}
	assert.ElementsMatch(t, []string{
		twin.Email + " stu-003", twin.Email + " stu-004", ada.Email + " stu-001", "stu-001 stu-001",
		ada.UserName + " stu-001",
	}, names)
}
