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
	"kanban/internal/core/badge"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/reportstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/settingstore"
	"kanban/internal/store/storetest"
)

// A connection names its interfaces, pauses them, takes them along when it goes, and brings them back.
func TestConnections(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	c := connectionstore.Connection{ID: db.NewID(), Name: "Platform", Version: 1}
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &c, "test") })
	labels := []string{"", "places"}
	ids := make([]string, len(labels))
	for i, label := range labels {
		x := connectionstore.Interface{
			ID: db.NewID(), ConnectionID: c.ID, Label: label, Kind: "scim", Version: 1,
			Name: connectionstore.FullName(c.Name, label), Settings: map[string]string{},
		}
		ids[i] = x.ID
		tx(t, s, func(tx *db.Tx) error { return connectionstore.CreateInterface(tx, &x) })
	}
	names := func() (out []string) {
		for _, x := range must[[]connectionstore.Interface](t)(connectionstore.InterfacesOf(ctx, s, c.ID)) {
			assert.Equal(t, c.ID, x.Connection.ID)
			out = append(out, x.Name)
		}
		return out
	}
	assert.Equal(t, []string{"Platform", "Platform: places"}, names())
	assert.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error {
		return db.Create(tx, &connectionstore.Connection{ID: db.NewID(), Name: "PLATFORM"}, "test")
	}), db.ErrTaken)

	now := time.Now()
	c.Name, c.Owner, c.PausedAt = "Course platform", "Learning team", &now
	stale := c
	tx(t, s, func(tx *db.Tx) error { return connectionstore.UpdateConnection(ctx, tx, &c) })
	assert.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return connectionstore.UpdateConnection(ctx, tx, &stale) }),
		db.ErrStale)
	assert.Equal(t, []string{"Course platform", "Course platform: places"}, names())
	one := must[connectionstore.Interface](t)(connectionstore.FindInterface(ctx, s, ids[1]))
	assert.True(t, one.Paused(), "with its connection")
	assert.Nil(t, one.PausedAt)
	found := must[connectionstore.Connection](t)(connectionstore.FindConnection(ctx, s, c.ID))
	assert.Equal(t, "Learning team", found.Owner)

	assert.Empty(t, must[map[string]map[string]string](t)(connectionstore.PageTemplates(ctx, s)))
	one.Settings = map[string]string{"classPage": "https://platform.example/{id}"}
	tx(t, s, func(tx *db.Tx) error { return connectionstore.UpdateInterface(tx, &one) })
	assert.Equal(t, map[string]map[string]string{one.ID: one.Settings},
		must[map[string]map[string]string](t)(connectionstore.PageTemplates(ctx, s)))

	one.Settings["origins"] = "https://a.example  https://b.example"
	tx(t, s, func(tx *db.Tx) error { return connectionstore.UpdateInterface(tx, &one) })
	for origin, listed := range map[string]bool{
		"https://a.example": true, "https://b.example": true, "https://a": false, "": false,
		"https://a.example ": false,
	} {
		assert.Equal(t, listed, must[bool](t)(connectionstore.OriginListed(ctx, s, "scim", origin)), origin)
	}

	tx(t, s, func(tx *db.Tx) error { return connectionstore.RemoveInterface(ctx, tx, ids[1], "Maud") })
	tx(t, s, func(tx *db.Tx) error {
		if _, err := connectionstore.LockConnection(ctx, tx, c.ID); err != nil {
			return err
		}
		if err := connectionstore.RemoveConnection(ctx, tx, c.ID, "Maud"); err != nil {
			return err
		}
		return connectionstore.RemoveInterface(ctx, tx, ids[0], "Maud")
	})
	missing[connectionstore.Connection](t)(connectionstore.FindConnection(ctx, s, c.ID))
	assert.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error {
		_, err := connectionstore.LockConnection(ctx, tx, c.ID)
		return err
	}), db.ErrNotFound)
	found = must[connectionstore.Connection](t)(connectionstore.FindRemovedConnection(ctx, s, c.ID))
	assert.Equal(t, "Maud", found.RemovedBy)
	var back []string
	tx(t, s, func(tx *db.Tx) (err error) {
		back, err = connectionstore.RestoreConnection(ctx, tx, c.ID, "Platform again")
		return err
	})
	assert.Equal(t, ids[:1], back, "the one that went before stays away")
	assert.Equal(t, []string{"Platform again"}, names())

	tx(t, s, func(tx *db.Tx) error { return connectionstore.RemoveConnection(ctx, tx, c.ID, "Maud") })
	later := time.Now().Add(time.Hour)
	assert.Empty(t, must[[]string](t)(connectionstore.DeleteConnections(ctx, s, later)), "it has interfaces still")
	tx(t, s, func(tx *db.Tx) error { return connectionstore.RemoveInterface(ctx, tx, ids[0], "Maud") })
	assert.Len(t, must[[]string](t)(connectionstore.DeleteInterfaces(ctx, s, later)), 2)
	assert.Equal(t, []string{"Platform again"}, must[[]string](t)(connectionstore.DeleteConnections(ctx, s, later)))
}

func TestInterfaces(t *testing.T) {
	w := apptest.New(t)
	s, ctx := w.Store, t.Context()
	assert.Empty(t, must[[]connectionstore.Interface](t)(connectionstore.Interfaces(ctx, s)))
	service := w.Workspace()
	assert.Len(t, must[[]connectionstore.Interface](t)(connectionstore.Interfaces(ctx, s)), 1)
	c := must[connectionstore.Interface](t)(connectionstore.FindInterface(ctx, s, service.ID))
	missing[connectionstore.Interface](t)(connectionstore.FindInterface(ctx, s, db.NewID()))
	stale := c
	c.Name = "Chat"
	tx(t, s, func(tx *db.Tx) error { return connectionstore.UpdateInterface(tx, &c) })
	assert.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return connectionstore.UpdateInterface(tx, &stale) }),
		db.ErrStale)
	tx(t, s, func(tx *db.Tx) error { return connectionstore.KeepProbe(ctx, tx, c.ID, []string{"works"}, time.Now()) })
	assert.JSONEq(t, `["works"]`, string(must[connectionstore.Interface](t)(connectionstore.FindInterface(ctx, s,
		c.ID)).Probe))
	missing[connectionstore.Interface](t)(connectionstore.InterfaceByKey(ctx, s, "xapi", "none"))
	assert.Empty(t, must[[]connectionstore.Dependent](t)(connectionstore.Dependents(ctx, s, c.ID)))

	tx(t, s, func(tx *db.Tx) error { return connectionstore.RemoveInterface(ctx, tx, c.ID, "Maud") })
	missing[connectionstore.Interface](t)(connectionstore.FindInterface(ctx, s, c.ID))
	assert.Equal(t, "Maud", must[connectionstore.Interface](t)(connectionstore.FindRemovedInterface(ctx, s,
		c.ID)).RemovedBy)
	assert.Len(t, must[[]connectionstore.Interface](t)(connectionstore.RemovedInterfaces(ctx, s)), 1)
	tx(t, s, func(tx *db.Tx) error { return connectionstore.RestoreInterface(ctx, tx, c.ID, "again", "Chat: again") })
	assert.Equal(t, "Chat: again", must[connectionstore.Interface](t)(connectionstore.FindInterface(ctx, s,
		c.ID)).Name)
	tx(t, s, func(tx *db.Tx) error { return connectionstore.RemoveInterface(ctx, tx, c.ID, "Maud") })
	assert.Empty(t, must[[]string](t)(connectionstore.DeleteInterfaces(ctx, s, time.Now().Add(-time.Hour))),
		"not for 30 days")
	assert.Len(t, must[[]string](t)(connectionstore.DeleteInterfaces(ctx, s, time.Now().Add(time.Hour))), 1)
	missing[connectionstore.Interface](t)(connectionstore.FindRemovedInterface(ctx, s, c.ID))
}

func TestAdministrators(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	require.NoError(t, s.Ready(ctx))
	assert.Zero(t, must[int64](t)(accessstore.CountUsers(ctx, s)))
	require.NoError(t, accessstore.AddSetupLink(ctx, s, []byte("link")))
	assert.True(t, must[bool](t)(accessstore.SetupLinkOpen(ctx, s, []byte("link"))))
	tx(t, s, func(tx *db.Tx) error { return accessstore.UseSetupLink(ctx, tx, []byte("link")) })
	assert.False(t, must[bool](t)(accessstore.SetupLinkOpen(ctx, s, []byte("link"))))
	assert.Error(t, s.InTx(ctx, func(tx *db.Tx) error { return accessstore.UseSetupLink(ctx, tx, []byte("link")) }),
		"once")
	maud := accessstore.User{ID: db.NewID(), Name: "Maud", Email: "maud@fernmoor.example"}
	token := accessstore.APIToken{ID: db.NewID(), UserID: maud.ID, Name: "t", Hash: []byte("token")}
	tx(t, s, func(tx *db.Tx) error {
		if err := db.Create(tx, &maud, "test"); err != nil {
			return err
		}
		return db.Create(tx, &token, "test")
	})
	assert.Equal(t, int64(1), must[int64](t)(accessstore.CountUsers(ctx, s)))
	assert.Len(t, must[[]accessstore.User](t)(accessstore.Users(ctx, s)), 1)
	assert.Equal(t, maud.ID, must[accessstore.User](t)(accessstore.UserByEmail(ctx, s,
		"MAUD@fernmoor.example")).ID)
	assert.Equal(t, "Maud", must[accessstore.User](t)(accessstore.FindUser(ctx, s, maud.ID)).Name)
	found, _, err := accessstore.UserByToken(ctx, s, []byte("token"))
	require.NoError(t, err)
	assert.Equal(t, maud.ID, found.ID)
	tx(t, s, func(tx *db.Tx) error { return accessstore.EndToken(ctx, tx, []byte("token")) })
	_, _, err = accessstore.UserByToken(ctx, s, []byte("token"))
	require.ErrorIs(t, err, db.ErrNotFound)
	tx(t, s, func(tx *db.Tx) error { return tx.Audit(ctx, "Maud", "tested", "test/1", map[string]any{"a": 1}) })
	assert.Equal(t, 1, count(t, s, "audit_entries"))
	assert.True(t, must[bool](t)(db.Sealed(ctx, urlOf(s))),
		"by which the key is told from another one at the next start")
}

func urlOf(s *db.Database) string { return s.Pool.Config().ConnString() }

// A key is claimed by one request; its answer is given to repeats of that request.
func TestOldSessionsAreRemoved(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	_, err := s.Pool.Exec(ctx, `INSERT INTO sessions (token, data, expiry)
		VALUES ('old', 'x', now() - interval '1 minute'), ('held', 'x', now() + interval '1 minute')`)
	require.NoError(t, err)
	require.NoError(t, accessstore.RemoveOldSessions(ctx, s))
	var left string
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT string_agg(token, ' ') FROM sessions`).Scan(&left))
	assert.Equal(t, "held", left)
}

func TestKeptAnswers(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	claim := func(request string) (bool, accessstore.KeptAnswer) {
		claimed, kept, err := accessstore.ClaimAnswer(ctx, s, "key", []byte(request))
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
	require.NoError(t, accessstore.KeepAnswer(ctx, s, mine))
	_, kept = claim("a")
	require.NotNil(t, kept.Status)
	assert.Equal(t, 201, *kept.Status)
	require.NoError(t, accessstore.FreeAnswer(ctx, s, accessstore.KeptAnswer{Key: "other"}))
}

func TestBadgesInVersions(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	i := badgestore.Issuer{ID: db.NewID(), Name: "Fernmoor"}
	b := badgestore.Badge{
		ID: db.NewID(), IssuerID: i.ID, Name: "Sower", Description: "x", Criteria: "y", State: badgestore.Published,
		Version: 1, Revision: 1,
	}
	tx(t, s, func(tx *db.Tx) error {
		return errors.Join(db.Create(tx, &i, "test"), db.Create(tx, &b, "test"))
	})
	next, asks := b, []stage.Criterion{{Kind: stage.Course, CourseID: "c-propagation"}}
	next.Version, next.Criteria, next.Tags, next.Asks = 2, "z", []string{"seeds"}, asks
	tx(t, s, func(tx *db.Tx) error { return badgestore.EditBadge(ctx, tx, b, next, "Maud", time.Now()) })
	now := must[badgestore.Badge](t)(badgestore.FindBadge(ctx, s, b.ID))
	assert.Equal(t, []any{2, 2, "z", []string{"seeds"}, asks},
		[]any{now.Version, now.Revision, now.Criteria, now.Tags, now.Asks})
	former := must[[]badgestore.Former](t)(badgestore.FormerBadges(ctx, s, b.ID))
	require.Len(t, former, 1)
	assert.Equal(t, []any{1, "y", "Maud", 0, 0}, []any{
		former[0].Version, former[0].Badge.Criteria, former[0].ChangedBy, former[0].Awards, len(former[0].Badge.Asks),
	})
	err := s.InTx(ctx, func(tx *db.Tx) error { return badgestore.EditBadge(ctx, tx, b, next, "Otto", time.Now()) })
	require.Error(t, err, "somebody changed it meanwhile")
	assert.Equal(t, "Fernmoor", must[badgestore.ListedBadge](t)(badgestore.FindListed(ctx, s, b.ID, nil)).Issuer)
	missing[badgestore.ListedBadge](t)(badgestore.FindListed(ctx, s, db.NewID(), nil))
	i.Email, i.Terms = "badges@fernmoor.example", "Ask first."
	tx(t, s, func(tx *db.Tx) error { return badgestore.EditIssuer(ctx, tx, i) })
	assert.Equal(t, i.Email, must[badgestore.Issuer](t)(badgestore.FindIssuer(ctx, s, i.ID)).Email)
}

func TestHoldersOfBadges(t *testing.T) {
	w, _ := school(t)
	s, ctx, ada := w.Store, t.Context(), w.Person("stu-001")
	i := badgestore.Issuer{ID: db.NewID(), Name: "Fernmoor"}
	b := badgestore.Badge{ID: db.NewID(), IssuerID: i.ID, Name: "Sower", Description: "x", Criteria: "y"}
	a := badgestore.Award{ID: db.NewID(), BadgeID: b.ID, PersonID: ada.ID, Credential: "jws", AwardedAt: time.Now()}
	tx(t, s, func(tx *db.Tx) error {
		return errors.Join(db.Create(tx, &i, "test"), db.Create(tx, &b, "test"), db.Create(tx, &a, "test"))
	})
	missing[badgestore.Holder](t)(badgestore.FindHolder(ctx, s, ada.ID))
	for _, name := range []string{"Ada", "A. Alder"} {
		h := badgestore.Holder{PersonID: ada.ID, ShownName: name, Terms: 1, AcceptedAt: time.Now()}
		tx(t, s, func(tx *db.Tx) error { return badgestore.KeepHolder(ctx, tx, h) })
		assert.Equal(t, name, must[badgestore.Holder](t)(badgestore.FindHolder(ctx, s, ada.ID)).ShownName)
	}
	now := time.Now()
	for _, at := range []*time.Time{&now, nil} {
		tx(t, s, func(tx *db.Tx) error { return badgestore.Share(ctx, tx, a.ID, at) })
		held := must[[]badgestore.ListedAward](t)(badgestore.AwardsOfHolder(ctx, s, ada.ID))
		require.Len(t, held, 1)
		assert.Equal(t, []any{at != nil, "Sower"}, []any{held[0].SharedAt != nil, held[0].Badge})
	}
	for day := range 2 {
		for _, program := range []bool{true, false, false} {
			require.NoError(t, badgestore.NoteLook(ctx, s, a.ID, program, now.AddDate(0, 0, -day)))
		}
	}
	looks := must[map[string]badgestore.Looks](t)(badgestore.LooksAt(ctx, s, []string{a.ID, b.ID}))
	assert.Equal(t, []int{1, 4, 2}, []int{len(looks), looks[a.ID].People, looks[a.ID].Programs})
	assert.Equal(t, now.Unix(), looks[a.ID].LastAt.Unix())
}

func TestBadgesAndAwards(t *testing.T) {
	w, _ := school(t)
	s, ctx, ada := w.Store, t.Context(), w.Person("stu-001")
	i := badgestore.Issuer{ID: db.NewID(), Name: "Fernmoor"}
	b := badgestore.Badge{ID: db.NewID(), IssuerID: i.ID, Name: "Sower", Description: "x", Criteria: "y"}
	number := must[int64](t)(badgestore.NextAwardNumber(ctx, s))
	assert.Equal(t, number, must[int64](t)(badgestore.LastAwardNumber(ctx, s)))
	e := w.Record(joined(w, "stu-001"))
	a := badgestore.Award{
		ID: db.NewID(), BadgeID: b.ID, PersonID: ada.ID, EventID: &e.ID, Credential: "jws",
		Number: &number, AwardedAt: time.Now(),
	}
	tx(t, s, func(tx *db.Tx) error {
		for _, create := range []func() error{
			func() error { return db.Create(tx, &i, "test") },
			func() error { return db.Create(tx, &b, "test") }, func() error { return db.Create(tx, &a, "test") },
		} {
			if err := create(); err != nil {
				return err
			}
		}
		return nil
	})
	assert.Len(t, must[[]badgestore.Issuer](t)(badgestore.Issuers(ctx, s)), 1)
	assert.Equal(t, "Fernmoor", must[badgestore.Issuer](t)(badgestore.FindIssuer(ctx, s, i.ID)).Name)
	assert.Equal(t, 1, must[[]badgestore.ListedBadge](t)(badgestore.Badges(ctx, s, nil))[0].Awards)
	assert.Equal(t, "Sower", must[badgestore.Badge](t)(badgestore.FindBadge(ctx, s, b.ID)).Name)
	assert.Equal(t, a.ID, must[badgestore.Award](t)(badgestore.FindAward(ctx, s, a.ID)).ID)
	assert.Equal(t, a.ID, must[badgestore.Award](t)(badgestore.AwardOf(ctx, s, b.ID, ada.ID, e.ID)).ID)
	assert.Equal(t, "Ada Alder", must[badgestore.ListedAward](t)(badgestore.FindListedAward(ctx, s, a.ID)).Person)
	awards := func(f badgestore.AwardFilter) []badgestore.ListedAward {
		f.Limit = 9
		return must[[]badgestore.ListedAward](t)(badgestore.Awards(ctx, s, f))
	}
	assert.Len(t, awards(badgestore.AwardFilter{BadgeID: b.ID, PersonID: ada.ID}), 1)
	assert.Empty(t, awards(badgestore.AwardFilter{Before: a.ID}))
	assert.Equal(
		t,
		map[[2]string]badgestore.Held{{b.ID, ada.ID}: {ID: a.ID, BadgeID: b.ID, PersonID: ada.ID}},
		must[map[[2]string]badgestore.Held](
			t,
		)(
			badgestore.Holders(ctx, s, []string{b.ID}, []string{ada.ID, w.Person("stu-002").ID}),
		),
	)
	now := time.Now()
	a.RevokedAt, a.RevokedBy, a.Reason = &now, "Maud", "a mistake"
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *db.Tx) error {
			ok, err := badgestore.Revoke(ctx, tx, &a)
			assert.Equal(t, want, ok)
			return err
		})
	}
	assert.Equal(t, []int64{number}, must[[]int64](t)(badgestore.NumbersSet(ctx, s, i.ID, false, 0, number+1)))
	assert.Empty(t, must[[]int64](t)(badgestore.NumbersSet(ctx, s, i.ID, true, 0, number+1)))
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *db.Tx) error {
			ok, err := badgestore.Restore(ctx, tx, &a)
			assert.Equal(t, want, ok)
			return err
		})
	}
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *db.Tx) error {
			ok, err := badgestore.Renew(ctx, tx, a.ID, now)
			assert.Equal(t, want, ok)
			return err
		})
	}
	held := must[map[[2]string]badgestore.Held](t)(badgestore.Holders(ctx, s, []string{b.ID}, []string{ada.ID}))
	assert.Empty(t, held)
	a.SuspendedAt, a.SuspendedBy, a.SuspendedReason = &now, "Maud", "looked into"
	for _, change := range []func(context.Context, *db.Tx, *badgestore.Award) (bool, error){
		badgestore.Suspend, badgestore.Reinstate,
	} {
		for _, want := range []bool{true, false} {
			tx(t, s, func(tx *db.Tx) error {
				ok, err := change(ctx, tx, &a)
				assert.Equal(t, want, ok)
				return err
			})
		}
	}
	tx(t, s, func(tx *db.Tx) error {
		use, err := badgestore.FindUseOfBadge(ctx, tx, b.ID)
		assert.Equal(t, 1, use.Awards)
		names, err2 := badgestore.BadgesOfIssuer(ctx, tx, i.ID)
		assert.Equal(t, []string{"Sower"}, names)
		return errors.Join(err, err2)
	})
	_, err := s.Pool.Exec(ctx, `DELETE FROM awards`)
	require.NoError(t, err)
	tx(t, s, func(tx *db.Tx) error {
		return errors.Join(badgestore.DeleteBadge(ctx, tx, b.ID), badgestore.DeleteIssuer(ctx, tx, i.ID))
	})
	missing[badgestore.Issuer](t)(badgestore.FindIssuer(ctx, s, i.ID))
}

// A picture is kept once, and a badge may have one.
func TestPictures(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	i := badgestore.Issuer{ID: db.NewID(), Name: "Fernmoor"}
	b := badgestore.Badge{ID: db.NewID(), IssuerID: i.ID, Name: "Sower", Description: "x", Criteria: "y"}
	p := badgestore.Picture{ID: "sum", Kind: "image/png", Content: []byte("x")}
	design := &badge.Design{Shape: "round", Symbol: "leaf"}
	assert.Nil(t, must[*badge.Design](t)(badgestore.DesignOfIssuer(ctx, s, i.ID)))
	tx(t, s, func(tx *db.Tx) error {
		return errors.Join(db.Create(tx, &i, "test"), db.Create(tx, &b, "test"), badgestore.KeepPicture(ctx, tx, p),
			badgestore.KeepPicture(ctx, tx, p),
			badgestore.SetPicture(ctx, tx, b.ID, p.ID, design),
			badgestore.SetIssuerPicture(ctx, tx, i.ID, p.ID))
	})
	assert.Equal(t, "sum", must[badgestore.Badge](t)(badgestore.FindBadge(ctx, s, b.ID)).Picture)
	assert.Equal(t, p.Content, must[badgestore.Picture](t)(badgestore.FindPicture(ctx, s, "sum")).Content)
	missing[badgestore.Picture](t)(badgestore.FindPicture(ctx, s, "other"))
	assert.Equal(t, design, must[*badge.Design](t)(badgestore.DesignOfIssuer(ctx, s, i.ID)))
	for _, drawn := range []bool{false, true} {
		kind, png, err := badgestore.PictureKind(ctx, s, "sum")
		require.NoError(t, err)
		assert.Equal(t, []any{"image/png", drawn}, []any{kind, png})
		p.PNG = []byte("png")
		tx(t, s, func(tx *db.Tx) error { return badgestore.KeepPicture(ctx, tx, p) })
	}
	_, _, err := badgestore.PictureKind(ctx, s, "other")
	require.ErrorIs(t, err, db.ErrNotFound)
	tx(t, s, func(tx *db.Tx) error { return badgestore.SetPicture(ctx, tx, b.ID, "", nil) })
	assert.Nil(t, must[*badge.Design](t)(badgestore.DesignOfIssuer(ctx, s, i.ID)), "a picture from a file is like none")
}

// An issuer signs with one key of an algorithm; the retired ones stay.
func TestIssuerKeys(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	i := badgestore.Issuer{ID: db.NewID(), Name: "Fernmoor"}
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &i, "test") })
	add := func(id string) error {
		return s.InTx(ctx, func(tx *db.Tx) error {
			return badgestore.AddKey(tx, &badgestore.IssuerKey{
				ID: id, IssuerID: i.ID, Algorithm: "EdDSA", Key: []byte("sealed"), CreatedAt: time.Now(),
			})
		})
	}
	require.NoError(t, add("a"))
	require.ErrorIs(t, add("b"), db.ErrTaken)
	tx(t, s, func(tx *db.Tx) error { return badgestore.RetireKeys(ctx, tx, i.ID, time.Now()) })
	require.NoError(t, add("b"))
	keys := must[[]badgestore.IssuerKey](t)(badgestore.IssuerKeys(ctx, s, i.ID))
	require.Len(t, keys, 2)
	assert.Equal(
		t,
		[]any{"b", true, "a", false},
		[]any{keys[0].ID, keys[0].RetiredAt == nil, keys[1].ID, keys[1].RetiredAt == nil},
	)
	for _, address := range []string{"https://a.example", "https://b.example", "https://a.example"} {
		require.NoError(t, badgestore.NotePublicAddress(ctx, s, address))
	}
	assert.Equal(
		t,
		[]string{"https://a.example", "https://b.example"},
		must[[]string](t)(badgestore.PublicAddresses(ctx, s)),
	)
}

func TestOffersAndAccess(t *testing.T) {
	w, _ := school(t)
	s, ctx, shop := w.Store, t.Context(), w.Shop()
	section, ada := w.Section("SOIL-A"), w.Person("stu-020")
	at := time.Now().UTC().Truncate(time.Microsecond)
	told := purchasestore.Access{
		ID: db.NewID(), InterfaceID: shop.ID, Offer: "place", Buyer: key(t, ada),
		OrderRef: "o-1", Name: "Ada",
	}
	tx(t, s, func(tx *db.Tx) error {
		_, err := purchasestore.KeepAccessNews(ctx, tx, told, true, at)
		return err
	})
	unmapped := must[[]purchasestore.Unmapped](t)(purchasestore.UnmappedOffers(ctx, s))
	require.Len(t, unmapped, 1)
	assert.Equal(t, 1, unmapped[0].Buyers)
	o := purchasestore.Offer{
		ID: db.NewID(), Name: "A place", InterfaceID: shop.ID, Offer: "place",
		SectionIDs: []string{section.ID}, AtEnd: "mark", Version: 1,
	}
	tx(t, s, func(tx *db.Tx) error {
		if err := db.Create(tx, &o, "test"); err != nil {
			return err
		}
		return purchasestore.AssignAccesses(ctx, tx)
	})
	assert.Empty(t, must[[]purchasestore.Unmapped](t)(purchasestore.UnmappedOffers(ctx, s)))
	assert.Len(t, must[[]purchasestore.Offer](t)(purchasestore.Offers(ctx, s)), 1)
	kept := must[purchasestore.Offer](t)(purchasestore.FindOffer(ctx, s, o.ID))
	kept.Name = "The place"
	tx(t, s, func(tx *db.Tx) error { return purchasestore.UpdateOffer(tx, &kept) })
	for name, want := range map[string]bool{"place": true, "gloves": false} {
		_, ok, err := purchasestore.OfferOf(ctx, s, shop.ID, name)
		require.NoError(t, err)
		assert.Equal(t, want, ok)
		tx(t, s, func(tx *db.Tx) error {
			_, ok, err := purchasestore.OfferOf(ctx, tx, shop.ID, name)
			assert.Equal(t, want, ok)
			return err
		})
	}
	tx(t, s, func(tx *db.Tx) error {
		list, err := purchasestore.AccessesFor(ctx, tx, o.ID, "", 9)
		require.Len(t, list, 1)
		assert.Equal(t, ada.ID, *list[0].PersonID, "who has the address by now")
		if err != nil {
			return err
		}
		byID, err := purchasestore.AccessesByID(ctx, tx, []string{told.ID})
		require.Len(t, byID, 1)
		byID[0].SectionIDs, byID[0].Trouble = []string{section.ID}, ""
		if err == nil {
			err = purchasestore.KeepAccess(ctx, tx, byID[0])
		}
		return err
	})
	listed := must[[]purchasestore.ListedAccess](t)(purchasestore.Accesses(ctx, s,
		purchasestore.AccessFilter{OfferID: o.ID, Limit: 9}))
	require.Len(t, listed, 1)
	assert.Equal(t, []string{section.Title}, listed[0].Sections)
	sides := must[[]purchasestore.Side](t)(purchasestore.Sides(ctx, s, o.ID, at.Add(time.Minute)))
	require.Len(t, sides, 1)
	assert.Equal(t, must[bool](t)(rosterstore.IsEnrolled(ctx, s, ada.ID, section.ID)), sides[0].Enrolled)
	assert.Empty(t, must[[]purchasestore.Troubled](t)(purchasestore.TroubledAccesses(ctx, s)))
	assert.Empty(t, must[[]string](t)(purchasestore.Unsettled(ctx, s, at)))

	given := purchasestore.Access{
		ID: db.NewID(), InterfaceID: shop.ID, Offer: "place", Buyer: "by hand",
		OrderRef: "hand", OfferID: &o.ID, PersonID: &ada.ID, StartedAt: &at, GivenBy: "Maud", Reason: "won it",
	}
	other := w.Person("stu-021").ID
	tx(t, s, func(tx *db.Tx) error {
		if err := purchasestore.GiveAccess(ctx, tx, given); err != nil {
			return err
		}
		elsewhere, err := purchasestore.HeldElsewhere(ctx, tx, given, section.ID, at.Add(time.Minute))
		assert.True(t, elsewhere, "by the purchase")
		return errors.Join(err, purchasestore.EndAccess(ctx, tx, given.ID, at),
			purchasestore.AssignAccess(ctx, tx, given.ID, other))
	})
	tx(t, s, func(tx *db.Tx) error {
		a, err := purchasestore.AccessOf(ctx, tx, given.ID)
		assert.Equal(t, other, *a.PersonID)
		assert.NotNil(t, a.Until)
		shared, err2 := purchasestore.ShareAddress(ctx, tx, key(t, w.Person("stu-003")))
		assert.True(t, shared, "the twins have one address")
		return errors.Join(err, err2)
	})
	tx(t, s, func(tx *db.Tx) error { return purchasestore.RemoveOffer(ctx, tx, o.ID) })
	missing[purchasestore.Offer](t)(purchasestore.FindOffer(ctx, s, o.ID))

	p := deliverystore.Pickup{InterfaceID: shop.ID, Person: "p", Section: "s", Role: "student", Active: true}
	tx(t, s, func(tx *db.Tx) error { return deliverystore.KeepPickup(ctx, tx, p) })
	list, _, err := deliverystore.Pickups(ctx, s, shop.ID, time.Time{})
	require.NoError(t, err)
	assert.Len(t, list, 1)
}

func TestSettingsAndAcknowledgements(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	var text string
	assert.False(t, must[bool](t)(settingstore.FindSetting(ctx, s, "colour", &text)))
	tx(t, s, func(tx *db.Tx) error { return settingstore.SaveSetting(ctx, tx, "colour", "green") })
	assert.True(t, must[bool](t)(settingstore.FindSetting(ctx, s, "colour", &text)))
	assert.Equal(t, "green", text)
	now := time.Now()
	tx(t, s, func(tx *db.Tx) error {
		return settingstore.SaveSetting(ctx, tx, "maintenance", settingstore.Maintenance{Since: &now, By: "Maud"})
	})
	assert.Equal(t, "Maud", must[settingstore.Maintenance](t)(settingstore.FindMaintenance(ctx, s)).By)
	tx(t, s, func(tx *db.Tx) error { return reportstore.Acknowledge(ctx, tx, "k", "known", "Maud") })
	assert.Equal(t, "known", must[map[string]reportstore.Acknowledgement](t)(reportstore.Acknowledgements(ctx,
		s))["k"].Note)
	tx(t, s, func(tx *db.Tx) error { return reportstore.DropAcknowledgement(ctx, tx, "k") })
	assert.Empty(t, must[map[string]reportstore.Acknowledgement](t)(reportstore.Acknowledgements(ctx, s)))
	months := must[[]eventstore.Month](t)(eventstore.Months(ctx, s))
	assert.NotEmpty(t, months)
	require.NoError(t, s.EnsurePartitions(ctx, time.Now()))
	require.NoError(t, eventstore.Drop(ctx, s, time.Now().AddDate(-5, 0, 0)))
}

// What belongs to transactions: jobs, news, turns, errors.
func TestTransactions(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	require.NoError(t, s.InShortTx(ctx, func(tx *db.Tx) error {
		return errors.Join(tx.Enqueue(ctx, jobs.Tick{}),
			tx.EnqueueAt(ctx, time.Now().Add(time.Hour), jobs.PassTime{}), tx.WaitForDisk(ctx))
	}))
	assert.Equal(t, 2, count(t, s, "river_job"))
	for range 2 {
		require.NoError(t, jobs.QueueEvery(ctx, s, "test", time.Hour, true, jobs.Tick{}))
	}
	assert.Equal(t, 3, count(t, s, "river_job"), "once an hour")
	tries := 0
	require.NoError(t, db.Again(func() error {
		if tries++; tries == 1 {
			return fmt.Errorf("made: %w", &pgconn.PgError{Code: "40P01"})
		}
		return nil
	}))
	assert.Equal(t, 2, tries)
	require.ErrorIs(t, db.Again(func() error { tries++; return db.ErrStale }), db.ErrStale)
	assert.Equal(t, 3, tries, "what would end the same is not tried again")
	inside := false
	require.NoError(t, s.OneByOne(ctx, "thing", func() { inside = true }))
	assert.True(t, inside)
	assert.True(t, db.Refused(fmt.Errorf("x: %w", db.ErrTaken)))
	assert.False(t, db.Refused(context.Canceled))
	assert.True(t, db.Unreachable(&pgconn.PgError{Code: "57P01"}))
	assert.False(t, db.Unreachable(db.ErrNotFound))
	assert.NotNil(t, s.Due(ctx))
	assert.Error(t, s.InTx(ctx, func(tx *db.Tx) error {
		return db.Create(tx, &rulestore.Rule{ID: "no id", Trigger: string(rule.SectionJoined)}, "test")
	}))
	other, err := db.Open(ctx, db.Options{URL: urlOf(s), Keyset: must[[]byte](t)(db.NewKeyset())})
	if err == nil {
		other.Close()
	}
}
