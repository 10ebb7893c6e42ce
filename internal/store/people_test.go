package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/roster"
	"kanban/internal/store"
)

// tx carries out steps in one transaction, which must succeed.
func tx(t *testing.T, s *store.Store, steps func(tx *store.Tx) error) {
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
		require.ErrorIs(t, err, store.ErrNotFound)
	}
}

// school is a world with the demo school read.
func school(t *testing.T) (*apptest.World, store.Connection) {
	t.Helper()
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	return w, register
}

// key is somebody's address as it is compared.
func key(t *testing.T, p store.Person) string {
	t.Helper()
	return must[string](t)(roster.AddressKey(p.Email))
}

// paired is a pairing of a section with a class at a service, as it is kept.
func paired(t *testing.T, s *store.Store, section store.Section, service store.Connection) store.Pairing {
	t.Helper()
	p := store.Pairing{ID: store.NewID(), SectionID: section.ID, ConnectionID: service.ID, TargetName: section.Title, Policy: roster.DefaultPolicy()}
	tx(t, s, func(tx *store.Tx) error { return store.Create(tx, &p, "test") })
	return must[store.Pairing](t)(s.Pairing(t.Context(), p.ID))
}

func TestPeopleAndSections(t *testing.T) {
	w, register := school(t)
	s, ctx := w.Store, t.Context()
	ada, prop := w.Person("stu-001"), w.Section("PROP-A")

	assert.Equal(t, ada, must[store.Person](t)(s.Person(ctx, ada.ID)))
	missing[store.Person](t)(s.Person(ctx, store.NewID()))
	missing[store.Person](t)(s.Person(ctx, "no id"))
	assert.Len(t, must[[]store.Person](t)(s.PeopleByID(ctx, []string{ada.ID, store.NewID()})), 1)
	assert.Equal(t, ada.ID, must[store.Person](t)(s.PersonByIdentifier(ctx, "stu-001")).ID)
	missing[store.Person](t)(s.PersonByIdentifier(ctx, "stu-999"))
	assert.Equal(t, ada.ID, must[store.Person](t)(s.PersonByAddress(ctx, key(t, ada))).ID)
	_, err := s.PersonByAddress(ctx, key(t, w.Person("stu-003")))
	assert.Error(t, err, "an address that two people have is nobody's")
	assert.Equal(t, ada.ID, must[store.Person](t)(s.PersonCalled(ctx, "stu-001")).ID)
	found := must[[]store.FoundPerson](t)(s.People(ctx, "ALDER", 10))
	require.Len(t, found, 1)
	assert.Equal(t, register.Name, found[0].Register)
	assert.Len(t, must[[]store.FoundPerson](t)(s.People(ctx, "stu-", 5)), 5, "the limit holds")
	assert.Empty(t, must[[]store.FoundPerson](t)(s.People(ctx, "%", 5)), "no wildcard")

	assert.Equal(t, prop.Title, must[store.Section](t)(s.Section(ctx, prop.ID)).Title)
	missing[store.Section](t)(s.Section(ctx, store.NewID()))
	assert.Len(t, must[[]store.Section](t)(s.SectionsByID(ctx, []string{prop.ID, w.Section("SOIL-A").ID})), 2)
	all := must[[]store.Section](t)(s.Sections(ctx))
	assert.Len(t, all, 9)
	assert.Equal(t, "sec-prop-a", must[string](t)(s.SectionSourcedID(ctx, prop.ID)))
	enrolled := must[[]store.Enrolled](t)(s.SectionsOf(ctx, []string{ada.ID}, []string{prop.CourseID}))
	require.Len(t, enrolled, 1)
	assert.Equal(t, []string{prop.ID, "student"}, []string{enrolled[0].SectionID, enrolled[0].Role})
	assert.True(t, must[bool](t)(s.IsEnrolled(ctx, ada.ID, prop.ID)))
	assert.False(t, must[bool](t)(s.IsEnrolled(ctx, ada.ID, w.Section("ORCH-A").ID)))
	where := must[[]store.Whereabouts](t)(s.WhereaboutsOf(ctx, ada.ID))
	assert.Len(t, where, 3)
	assert.Empty(t, where[0].PairingID)
	lines := must[[]store.RosterLine](t)(s.RosterOn(ctx, prop.ID, time.Now()))
	assert.Contains(t, lines, store.RosterLine{PersonID: ada.ID, Name: "Ada Alder", Identifier: "stu-001", Role: "student", JoinedAt: lines[0].JoinedAt})
	assert.Empty(t, must[[]store.RosterLine](t)(s.RosterOn(ctx, prop.ID, time.Now().AddDate(-20, 0, 0))))
	assert.Empty(t, must[[]store.RosterLine](t)(s.Comings(ctx, prop.ID, 9)), "who was there at the first read did not come")
	_, err = s.Pool.Exec(ctx, `UPDATE enrolments SET joined_at = now() + interval '1 minute' WHERE section = 'sec-prop-a' AND role = 'student'`)
	require.NoError(t, err)
	assert.Len(t, must[[]store.RosterLine](t)(s.Comings(ctx, prop.ID, 3)), 3, "the limit holds")

	assert.NotEmpty(t, must[[]store.Org](t)(s.Orgs(ctx)))
	assert.NotEmpty(t, must[[]store.Course](t)(s.Courses(ctx)))
	assert.Equal(t, "Propagation", must[string](t)(s.CourseTitle(ctx, prop.CourseID)))
	connection, ref, title, err := s.CourseRef(ctx, prop.CourseID)
	require.NoError(t, err)
	assert.Equal(t, []string{register.ID, "crs-prop", "Propagation"}, []string{connection, ref, title})
	fitting := must[[]store.Fitting](t)(s.SectionsOfCourse(ctx, prop.CourseID))
	assert.Len(t, fitting, 3)
	assert.Equal(t, register.ID, must[string](t)(s.RegisterOf(ctx, ada.ID)))
	assert.Equal(t, map[string]string{ada.ID: register.ID}, must[map[string]string](t)(s.RegistersOf(ctx, []string{ada.ID})))
	tx(t, s, func(tx *store.Tx) error {
		n, err := tx.Places(ctx, register.ID)
		assert.Positive(t, n)
		return err
	})
}

func TestSourcesOfPairings(t *testing.T) {
	w, register := school(t)
	s, ctx, service := w.Store, t.Context(), w.Workspace()
	prop := w.Section("PROP-A")
	p := paired(t, s, prop, service)
	assert.Empty(t, must[[]store.Pairing](t)(s.PairingsThrough(ctx, service.ID)), "it has not run yet")
	w.Sync(p.ID, false)
	source := must[roster.Source](t)(s.Source(ctx, p))
	assert.NotEmpty(t, source.Members)
	many := must[map[string]roster.Source](t)(s.Sources(ctx, service.ID, []store.Pairing{p}))
	assert.Len(t, many[p.ID].Members, len(source.Members), "one by one or many at once")
	assert.Empty(t, must[map[string]roster.Other](t)(s.Others(ctx, service.ID, prop.ID, []string{"u1"})))
	assert.Equal(t, 1, len(must[[]store.Pairing](t)(s.PairingsOfRegister(ctx, register.ID))))
	assert.NotEmpty(t, must[[]store.PairedMember](t)(s.PairedMembers(ctx, service.ID)))
	assert.Len(t, must[[]store.Pairing](t)(s.PairingsThrough(ctx, service.ID)), 1)
	assert.Equal(t, map[string][]string{prop.ID: {service.Name}}, must[map[string][]string](t)(s.ServicesOfSections(ctx)))
}

// What is said of people's accounts and records is kept, used, and dropped again.
func TestWhatIsSaidOfPeople(t *testing.T) {
	w, register := school(t)
	s, ctx, service := w.Store, t.Context(), w.Workspace()
	ada, bram := w.Person("stu-001"), w.Person("stu-002")
	accounts := func(id string) []store.KnownAccount {
		t.Helper()
		return must[[]store.KnownAccount](t)(s.AccountsOf(ctx, id))
	}
	tx(t, s, func(tx *store.Tx) error { return tx.Choose(ctx, service.ID, ada.ID, "u-1", "Maud") })
	tx(t, s, func(tx *store.Tx) error { return tx.Deny(ctx, service.ID, bram.ID, "u-2", "Maud") })
	require.Len(t, accounts(ada.ID), 1)
	assert.Equal(t, "u-1", accounts(ada.ID)[0].RemoteID)
	assert.True(t, accounts(bram.ID)[0].Denied)
	tx(t, s, func(tx *store.Tx) error {
		holder, err := tx.AccountHolder(ctx, service.ID, "u-1")
		assert.Equal(t, ada.ID, holder.ID)
		if err == nil {
			holder, err = tx.AccountHolder(ctx, service.ID, "u-9")
			assert.Empty(t, holder.ID)
		}
		return err
	})
	tx(t, s, func(tx *store.Tx) error { return tx.Link(ctx, service.ID, "u-3", bram.ID) })
	tx(t, s, func(tx *store.Tx) error { return tx.SwitchedOff(ctx, service.ID, "u-3", true) })
	tx(t, s, func(tx *store.Tx) error { return tx.ForgetDecisions(ctx, service.ID, ada.ID) })
	assert.Empty(t, accounts(ada.ID))
	seats := must[map[string][]store.Seat](t)(s.SeatsOf(ctx, service.ID, []store.Holder{{ID: "u-3", EmailKey: key(t, bram)}}))
	assert.NotEmpty(t, seats["u-3"])

	_, err := s.Pool.Exec(ctx, `UPDATE people SET user_name = 'preview.student2' WHERE id = $1`, bram.ID)
	require.NoError(t, err)
	require.NoError(t, s.LookForProposals(ctx, register.ID))
	assert.Equal(t, 1, must[store.Proposed](t)(s.Proposed(ctx, register.ID)).Count)
	list := must[[]store.Proposal](t)(s.Proposals(ctx, register.ID))
	require.Len(t, list, 1)
	assert.Equal(t, store.MarkTest, list[0].Kind)
	tx(t, s, func(tx *store.Tx) error { return tx.Mark(ctx, bram.ID, store.MarkNeither, "", "Maud") })
	assert.Empty(t, must[[]store.Proposal](t)(s.Proposals(ctx, register.ID)))
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *store.Tx) error {
			ok, err := tx.Unmark(ctx, bram.ID)
			assert.Equal(t, want, ok)
			return err
		})
	}

	tx(t, s, func(tx *store.Tx) error {
		return tx.IgnoreClasses(ctx, "Maud", service.ID, []string{"g-1", "g-2"}, true)
	})
	tx(t, s, func(tx *store.Tx) error { return tx.IgnoreClasses(ctx, "Maud", service.ID, []string{"g-1"}, false) })
	ignored := must[[]store.IgnoredClass](t)(s.IgnoredClasses(ctx, service.ID))
	require.Len(t, ignored, 1)
	assert.Equal(t, []string{"g-2", "Maud"}, []string{ignored[0].Ref, ignored[0].SaidBy})
}

func TestPeopleLists(t *testing.T) {
	w, register := school(t)
	s, ctx := w.Store, t.Context()
	l := store.PeopleList{ID: store.NewID(), ConnectionID: register.ID, Kind: "named", Name: "Helpers", MadeBy: "Maud", Version: 1}
	ada, bram := w.Person("stu-001").ID, w.Person("stu-002").ID
	tx(t, s, func(tx *store.Tx) error {
		if err := store.Create(tx, &l, "test"); err != nil {
			return err
		}
		return tx.ListPeople(ctx, l.ID, []string{ada, bram}, nil)
	})
	tx(t, s, func(tx *store.Tx) error { return tx.RefreshPeopleLists(ctx, register.ID) })
	assert.Len(t, must[[]store.Listing](t)(s.PeopleOf(ctx, l.ID)), 2)
	tx(t, s, func(tx *store.Tx) error { return tx.ListPeople(ctx, l.ID, nil, []string{ada}) })
	assert.Len(t, must[[]store.Listing](t)(s.PeopleOf(ctx, l.ID)), 1)
	assert.Len(t, must[[]store.PeopleList](t)(s.PeopleLists(ctx)), 1)
	kept := must[store.PeopleList](t)(s.PeopleList(ctx, l.ID))
	kept.Name = "Hands"
	tx(t, s, func(tx *store.Tx) error { return tx.UpdatePeopleList(ctx, &kept) })
	assert.Equal(t, "Hands", must[store.PeopleList](t)(s.PeopleList(ctx, l.ID)).Name)
	stale := l
	assert.ErrorIs(t, s.InTx(ctx, func(tx *store.Tx) error { return tx.UpdatePeopleList(ctx, &stale) }), store.ErrStale)
	tx(t, s, func(tx *store.Tx) error { return tx.RemovePeopleList(ctx, l.ID) })
	missing[store.PeopleList](t)(s.PeopleList(ctx, l.ID))
}

// The mirror of a register: what is kept of a read, what midnight changes, what is dropped.
func TestMirror(t *testing.T) {
	w, register := school(t)
	s, ctx := w.Store, t.Context()
	today := time.Now().Format(time.DateOnly)
	assert.Empty(t, must[[]string](t)(s.RegistersToTurn(ctx, today)))
	_, err := s.Pool.Exec(ctx, `UPDATE enrolments SET end_date = current_date - 1 WHERE section = 'sec-prop-a' AND person = 'stu-001'`)
	require.NoError(t, err)
	assert.Equal(t, []string{register.ID}, must[[]string](t)(s.RegistersToTurn(ctx, today)))
	tx(t, s, func(tx *store.Tx) error {
		m, err := tx.Turn(ctx, register.ID, today)
		assert.Len(t, m.Left, 1)
		return err
	})
	assert.NotContains(t, must[[]string](t)(s.RegistersToTurn(ctx, today)), register.ID)
	tx(t, s, func(tx *store.Tx) error {
		lost, err := tx.Losses(ctx, register.ID, store.Merged{})
		assert.Empty(t, lost)
		return err
	})
	tx(t, s, func(tx *store.Tx) error { return tx.ReadAnew(ctx, register.ID) })
	run := w.Read(register, false)
	assert.Equal(t, 1, run.Counts["joined"], "the register says that she is in")
	assert.NotNil(t, must[*time.Time](t)(s.LastRead(ctx, register.ID)))
	assert.NotNil(t, must[*time.Time](t)(s.LastWholeRead(ctx, register.ID)))

	list := []store.Difference{{Table: "users", ID: "stu-001", Who: "Ada", Field: "email", Before: "a", After: "b"}}
	tx(t, s, func(tx *store.Tx) error { return tx.KeepDifferences(ctx, run.ID, list, true) })
	var got []store.Difference
	var more bool
	got, more, err = s.Differences(ctx, run.ID)
	require.NoError(t, err)
	assert.Equal(t, list, got)
	assert.True(t, more)

	prop := w.Section("PROP-A")
	tx(t, s, func(tx *store.Tx) error { return tx.SectionsChanged(ctx) })
	tx(t, s, func(tx *store.Tx) error { return tx.RefreshSections(ctx, register.ID, []string{prop.ID}) })
	assert.Equal(t, prop.Learners, w.Section("PROP-A").Learners, "worked out anew it is the same")

	content := []byte("PK package")
	tx(t, s, func(tx *store.Tx) error { return tx.AddUpload(ctx, run.ID, content) })
	assert.Equal(t, content, must[[]byte](t)(s.Upload(ctx, run.ID)))
	tx(t, s, func(tx *store.Tx) error { return tx.DropUpload(ctx, run.ID) })
	missing[[]byte](t)(s.Upload(ctx, run.ID))
	require.NoError(t, s.ReadWhole(ctx, run.ID))
	tx(t, s, func(tx *store.Tx) error { return tx.DropPages(ctx, run.ID) })

	tx(t, s, func(tx *store.Tx) error { return tx.DropMirror(ctx, register.ID) })
	assert.Empty(t, must[[]store.Section](t)(s.Sections(ctx)))
}
