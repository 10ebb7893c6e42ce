package store_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/store/storetest"
)

func TestConnections(t *testing.T) {
	w := apptest.New(t)
	s, ctx := w.Store, t.Context()
	assert.Empty(t, must[[]store.Connection](t)(s.Connections(ctx)))
	service := w.Workspace()
	assert.Len(t, must[[]store.Connection](t)(s.Connections(ctx)), 1)
	c := must[store.Connection](t)(s.Connection(ctx, service.ID))
	missing[store.Connection](t)(s.Connection(ctx, store.NewID()))
	stale := c
	c.Name = "Chat"
	tx(t, s, func(tx *store.Tx) error { return tx.UpdateConnection(&c) })
	assert.ErrorIs(t, s.InTx(ctx, func(tx *store.Tx) error { return tx.UpdateConnection(&stale) }), store.ErrStale)
	tx(t, s, func(tx *store.Tx) error { return tx.KeepProbe(ctx, c.ID, []string{"works"}, time.Now()) })
	assert.JSONEq(t, `["works"]`, string(must[store.Connection](t)(s.Connection(ctx, c.ID)).Probe))
	missing[store.Connection](t)(s.ConnectionByKey(ctx, "xapi", "none"))
	assert.Empty(t, must[[]store.Dependent](t)(s.Dependents(ctx, c.ID)))

	tx(t, s, func(tx *store.Tx) error { return tx.RemoveConnection(ctx, c.ID, "Maud") })
	missing[store.Connection](t)(s.Connection(ctx, c.ID))
	assert.Equal(t, "Maud", must[store.Connection](t)(s.RemovedConnection(ctx, c.ID)).RemovedBy)
	assert.Len(t, must[[]store.Connection](t)(s.RemovedConnections(ctx)), 1)
	tx(t, s, func(tx *store.Tx) error { return tx.RestoreConnection(ctx, c.ID, "Chat again") })
	assert.Equal(t, "Chat again", must[store.Connection](t)(s.Connection(ctx, c.ID)).Name)
	tx(t, s, func(tx *store.Tx) error { return tx.RemoveConnection(ctx, c.ID, "Maud") })
	assert.Empty(t, must[[]string](t)(s.DeleteConnections(ctx, time.Now().Add(-time.Hour))), "not for 30 days")
	assert.Len(t, must[[]string](t)(s.DeleteConnections(ctx, time.Now().Add(time.Hour))), 1)
	missing[store.Connection](t)(s.RemovedConnection(ctx, c.ID))
}

func TestAdministrators(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	require.NoError(t, s.Ready(ctx))
	assert.Zero(t, must[int64](t)(s.Administrators(ctx)))
	require.NoError(t, s.AddSetupLink(ctx, []byte("link")))
	assert.True(t, must[bool](t)(s.SetupLinkOpen(ctx, []byte("link"))))
	tx(t, s, func(tx *store.Tx) error { return tx.UseSetupLink(ctx, []byte("link")) })
	assert.False(t, must[bool](t)(s.SetupLinkOpen(ctx, []byte("link"))))
	assert.Error(t, s.InTx(ctx, func(tx *store.Tx) error { return tx.UseSetupLink(ctx, []byte("link")) }), "once")
	maud := store.Administrator{ID: store.NewID(), Name: "Maud", Email: "maud@fernmoor.example", Role: "administrator"}
	token := store.APIToken{ID: store.NewID(), AdministratorID: maud.ID, Name: "t", Hash: []byte("token")}
	tx(t, s, func(tx *store.Tx) error {
		if err := store.Create(tx, &maud, "test"); err != nil {
			return err
		}
		return store.Create(tx, &token, "test")
	})
	assert.Equal(t, int64(1), must[int64](t)(s.Administrators(ctx)))
	assert.Len(t, must[[]store.Administrator](t)(s.AllAdministrators(ctx)), 1)
	assert.Equal(t, maud.ID, must[store.Administrator](t)(s.AdministratorByEmail(ctx, "MAUD@fernmoor.example")).ID)
	assert.Equal(t, "Maud", must[store.Administrator](t)(s.Administrator(ctx, maud.ID)).Name)
	assert.Equal(t, maud.ID, must[store.Administrator](t)(s.AdministratorByToken(ctx, []byte("token"))).ID)
	tx(t, s, func(tx *store.Tx) error { return tx.EndToken(ctx, []byte("token")) })
	missing[store.Administrator](t)(s.AdministratorByToken(ctx, []byte("token")))
	tx(t, s, func(tx *store.Tx) error { return tx.Audit(ctx, "Maud", "tested", "test/1", map[string]any{"a": 1}) })
	assert.Equal(t, 1, count(t, s, "audit_entries"))
	assert.True(t, must[bool](t)(store.Sealed(ctx, urlOf(s))), "by which the key is told from another one at the next start")
}

func urlOf(s *store.Store) string { return s.Pool.Config().ConnString() }

// A key is claimed by one request; its answer is given to repeats of that request.
func TestKeptAnswers(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	claim := func(request string) (bool, store.KeptAnswer) {
		claimed, kept, err := s.ClaimAnswer(ctx, "key", []byte(request))
		require.NoError(t, err)
		return claimed, kept
	}
	claimed, mine := claim("a")
	assert.True(t, claimed)
	claimed, kept := claim("a")
	assert.False(t, claimed)
	assert.Nil(t, kept.Status, "nobody has answered yet")
	status := 201
	mine.Key, mine.Request, mine.Status, mine.Body = "key", []byte("a"), &status, []byte("{}")
	require.NoError(t, s.KeepAnswer(ctx, mine))
	_, kept = claim("a")
	require.NotNil(t, kept.Status)
	assert.Equal(t, 201, *kept.Status)
	require.NoError(t, s.FreeAnswer(ctx, store.KeptAnswer{Key: "other"}))
}

func TestBadgesAndAwards(t *testing.T) {
	w, _ := school(t)
	s, ctx, ada := w.Store, t.Context(), w.Person("stu-001")
	i := store.Issuer{ID: store.NewID(), Name: "Fernmoor", KeyID: "k", Key: []byte("sealed")}
	b := store.Badge{ID: store.NewID(), IssuerID: i.ID, Name: "Sower", Description: "x", Criteria: "y"}
	number := must[int64](t)(s.NextAwardNumber(ctx))
	assert.Equal(t, number, must[int64](t)(s.LastAwardNumber(ctx)))
	e := w.Record(joined(w, "stu-001"))
	a := store.Award{ID: store.NewID(), BadgeID: b.ID, PersonID: ada.ID, EventID: &e.ID, Credential: "jws", Number: &number, AwardedAt: time.Now()}
	tx(t, s, func(tx *store.Tx) error {
		for _, create := range []func() error{func() error { return store.Create(tx, &i, "test") }, func() error { return store.Create(tx, &b, "test") }, func() error { return store.Create(tx, &a, "test") }} {
			if err := create(); err != nil {
				return err
			}
		}
		return nil
	})
	assert.Len(t, must[[]store.Issuer](t)(s.Issuers(ctx)), 1)
	assert.Equal(t, "Fernmoor", must[store.Issuer](t)(s.Issuer(ctx, i.ID)).Name)
	assert.Equal(t, 1, must[[]store.ListedBadge](t)(s.Badges(ctx))[0].Awards)
	assert.Equal(t, "Sower", must[store.Badge](t)(s.Badge(ctx, b.ID)).Name)
	assert.Equal(t, a.ID, must[store.Award](t)(s.Award(ctx, a.ID)).ID)
	assert.Equal(t, a.ID, must[store.Award](t)(s.AwardOf(ctx, b.ID, ada.ID, e.ID)).ID)
	assert.Equal(t, "Ada Alder", must[store.ListedAward](t)(s.ListedAward(ctx, a.ID)).Person)
	assert.Len(t, must[[]store.ListedAward](t)(s.Awards(ctx, b.ID, ada.ID, "", 9)), 1)
	assert.Empty(t, must[[]store.ListedAward](t)(s.Awards(ctx, "", "", a.ID, 9)))
	now := time.Now()
	a.RevokedAt, a.RevokedBy, a.Reason = &now, "Maud", "a mistake"
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *store.Tx) error {
			ok, err := tx.Revoke(ctx, &a)
			assert.Equal(t, want, ok)
			return err
		})
	}
	assert.Equal(t, []int64{number}, must[[]int64](t)(s.RevokedNumbers(ctx, i.ID, 0, number+1)))
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *store.Tx) error {
			ok, err := tx.Restore(ctx, &a)
			assert.Equal(t, want, ok)
			return err
		})
	}
	tx(t, s, func(tx *store.Tx) error {
		use, err := tx.UseOfBadge(ctx, b.ID)
		assert.Equal(t, 1, use.Awards)
		names, err2 := tx.BadgesOfIssuer(ctx, i.ID)
		assert.Equal(t, []string{"Sower"}, names)
		return errors.Join(err, err2)
	})
	_, err := s.Pool.Exec(ctx, `DELETE FROM awards`)
	require.NoError(t, err)
	tx(t, s, func(tx *store.Tx) error { return errors.Join(tx.DeleteBadge(ctx, b.ID), tx.DeleteIssuer(ctx, i.ID)) })
	missing[store.Issuer](t)(s.Issuer(ctx, i.ID))
}

func TestOffersAndAccess(t *testing.T) {
	w, _ := school(t)
	s, ctx, shop := w.Store, t.Context(), w.Shop()
	section, ada := w.Section("SOIL-A"), w.Person("stu-020")
	at := time.Now().UTC().Truncate(time.Microsecond)
	told := store.Access{ID: store.NewID(), ConnectionID: shop.ID, Offer: "place", Buyer: key(t, ada), OrderRef: "o-1", Name: "Ada"}
	tx(t, s, func(tx *store.Tx) error {
		_, err := tx.Tell(ctx, told, true, at)
		return err
	})
	unmapped := must[[]store.Unmapped](t)(s.Unmapped(ctx))
	require.Len(t, unmapped, 1)
	assert.Equal(t, 1, unmapped[0].Buyers)
	o := store.Offer{ID: store.NewID(), Name: "A place", ConnectionID: shop.ID, Offer: "place", SectionIDs: []string{section.ID}, AtEnd: "mark", Version: 1}
	tx(t, s, func(tx *store.Tx) error {
		if err := store.Create(tx, &o, "test"); err != nil {
			return err
		}
		return tx.Adopt(ctx)
	})
	assert.Empty(t, must[[]store.Unmapped](t)(s.Unmapped(ctx)))
	assert.Len(t, must[[]store.Offer](t)(s.Offers(ctx)), 1)
	kept := must[store.Offer](t)(s.Offer(ctx, o.ID))
	kept.Name = "The place"
	tx(t, s, func(tx *store.Tx) error { return tx.UpdateOffer(&kept) })
	for name, want := range map[string]bool{"place": true, "gloves": false} {
		_, ok, err := s.OfferOf(ctx, shop.ID, name)
		require.NoError(t, err)
		assert.Equal(t, want, ok)
		tx(t, s, func(tx *store.Tx) error {
			_, ok, err := tx.OfferFor(ctx, shop.ID, name)
			assert.Equal(t, want, ok)
			return err
		})
	}
	tx(t, s, func(tx *store.Tx) error {
		list, err := tx.AccessesFor(ctx, o.ID, "", 9)
		require.Len(t, list, 1)
		assert.Equal(t, ada.ID, *list[0].PersonID, "who has the address by now")
		if err != nil {
			return err
		}
		byID, err := tx.AccessesByID(ctx, []string{told.ID})
		require.Len(t, byID, 1)
		byID[0].SectionIDs, byID[0].Trouble = []string{section.ID}, ""
		if err == nil {
			err = tx.KeepAccess(ctx, byID[0])
		}
		return err
	})
	listed := must[[]store.ListedAccess](t)(s.Accesses(ctx, store.AccessFilter{OfferID: o.ID, Limit: 9}))
	require.Len(t, listed, 1)
	assert.Equal(t, []string{section.Title}, listed[0].Sections)
	sides := must[[]store.Side](t)(s.Sides(ctx, o.ID, at.Add(time.Minute)))
	require.Len(t, sides, 1)
	assert.Equal(t, must[bool](t)(s.IsEnrolled(ctx, ada.ID, section.ID)), sides[0].Enrolled)
	assert.Empty(t, must[[]store.Troubled](t)(s.Troubled(ctx)))
	assert.Empty(t, must[[]string](t)(s.Unsettled(ctx, at)))

	given := store.Access{ID: store.NewID(), ConnectionID: shop.ID, Offer: "place", Buyer: "by hand", OrderRef: "hand", OfferID: &o.ID, PersonID: &ada.ID, StartedAt: &at, GivenBy: "Maud", Reason: "won it"}
	other := w.Person("stu-021").ID
	tx(t, s, func(tx *store.Tx) error {
		if err := tx.GiveAccess(ctx, given); err != nil {
			return err
		}
		elsewhere, err := tx.HeldElsewhere(ctx, given, section.ID, at.Add(time.Minute))
		assert.True(t, elsewhere, "by the purchase")
		return errors.Join(err, tx.EndAccess(ctx, given.ID, at), tx.SayWhose(ctx, given.ID, other))
	})
	tx(t, s, func(tx *store.Tx) error {
		a, err := tx.AccessOf(ctx, given.ID)
		assert.Equal(t, other, *a.PersonID)
		assert.NotNil(t, a.Until)
		shared, err2 := tx.ShareAddress(ctx, key(t, w.Person("stu-003")))
		assert.True(t, shared, "the twins have one address")
		return errors.Join(err, err2)
	})
	tx(t, s, func(tx *store.Tx) error { return tx.RemoveOffer(ctx, o.ID) })
	missing[store.Offer](t)(s.Offer(ctx, o.ID))

	p := store.Pickup{ConnectionID: shop.ID, Person: "p", Section: "s", Role: "student", Active: true}
	tx(t, s, func(tx *store.Tx) error { return tx.KeepPickup(ctx, p) })
	list, _, err := s.Pickups(ctx, shop.ID, time.Time{})
	require.NoError(t, err)
	assert.Len(t, list, 1)
}

func TestSettingsAndAcknowledgements(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	var text string
	assert.False(t, must[bool](t)(s.Setting(ctx, "colour", &text)))
	tx(t, s, func(tx *store.Tx) error { return tx.Set(ctx, "colour", "green") })
	assert.True(t, must[bool](t)(s.Setting(ctx, "colour", &text)))
	assert.Equal(t, "green", text)
	now := time.Now()
	tx(t, s, func(tx *store.Tx) error {
		return tx.Set(ctx, "maintenance", store.Maintenance{Since: &now, By: "Maud"})
	})
	assert.Equal(t, "Maud", must[store.Maintenance](t)(s.Maintenance(ctx)).By)
	tx(t, s, func(tx *store.Tx) error { return tx.Acknowledge(ctx, "k", "known", "Maud") })
	assert.Equal(t, "known", must[map[string]store.Acknowledgement](t)(s.Acknowledgements(ctx))["k"].Note)
	tx(t, s, func(tx *store.Tx) error { return tx.Reopen(ctx, "k") })
	assert.Empty(t, must[map[string]store.Acknowledgement](t)(s.Acknowledgements(ctx)))
	months := must[[]store.Month](t)(s.Months(ctx))
	assert.NotEmpty(t, months)
	require.NoError(t, s.EnsurePartitions(ctx, time.Now()))
	require.NoError(t, s.Drop(ctx, time.Now().AddDate(-5, 0, 0)))
}

// What belongs to transactions: jobs, news, turns, errors.
func TestTransactions(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	require.NoError(t, s.InShortTx(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.Enqueue(ctx, store.Tick{}), tx.EnqueueAt(ctx, time.Now().Add(time.Hour), store.PassTime{}), tx.WaitForDisk(ctx))
	}))
	assert.Equal(t, 2, count(t, s, "river_job"))
	for range 2 {
		require.NoError(t, s.QueueEvery(ctx, "test", time.Hour, true, store.Tick{}))
	}
	assert.Equal(t, 3, count(t, s, "river_job"), "once an hour")
	tries := 0
	require.NoError(t, store.Again(func() error {
		if tries++; tries == 1 {
			return fmt.Errorf("made: %w", &pgconn.PgError{Code: "40P01"})
		}
		return nil
	}))
	assert.Equal(t, 2, tries)
	require.ErrorIs(t, store.Again(func() error { tries++; return store.ErrStale }), store.ErrStale)
	assert.Equal(t, 3, tries, "what would end the same is not tried again")
	inside := false
	require.NoError(t, s.OneByOne(ctx, "thing", func() { inside = true }))
	assert.True(t, inside)
	assert.True(t, store.Refused(fmt.Errorf("x: %w", store.ErrTaken)))
	assert.False(t, store.Refused(context.Canceled))
	assert.True(t, store.Unreachable(&pgconn.PgError{Code: "57P01"}))
	assert.False(t, store.Unreachable(store.ErrNotFound))
	assert.NotNil(t, s.Due(ctx))
	assert.Error(t, s.InTx(ctx, func(tx *store.Tx) error {
		return store.Create(tx, &store.Rule{ID: "no id", Trigger: string(rule.SectionJoined)}, "test")
	}))
	other, err := store.Open(ctx, store.Options{URL: urlOf(s), Keyset: must[[]byte](t)(store.NewKeyset())})
	if err == nil {
		other.Close()
	}
}
