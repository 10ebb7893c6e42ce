package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/launchstore"
	"kanban/internal/store/rosterstore"
)

func TestLaunchesEndOnce(t *testing.T) {
	w, _ := school(t)
	s, ctx, now := w.Store, t.Context(), time.Now().UTC().Truncate(time.Microsecond)
	of := w.Workspace().ID
	begun := launchstore.Begun{
		InterfaceID: of, Nonce: "n", Browser: []byte("b"), Storage: "_parent",
		ExpiresAt: now.Add(time.Minute),
	}
	tx(t, s, func(tx *db.Tx) error { return launchstore.Begin(ctx, tx, []byte("one"), begun) })
	old := begun
	old.ExpiresAt = now.Add(-time.Minute)
	tx(t, s, func(tx *db.Tx) error { return launchstore.Begin(ctx, tx, []byte("two"), old) })
	tx(t, s, func(tx *db.Tx) error { return launchstore.RemoveOld(ctx, tx, now) })
	_, err := launchstore.FindBegun(ctx, s, []byte("two"))
	require.ErrorIs(t, err, db.ErrNotFound)
	found := must[launchstore.Begun](t)(launchstore.FindBegun(ctx, s, []byte("one")))
	assert.Equal(t, []any{"n", "_parent", of}, []any{found.Nonce, found.Storage, found.InterfaceID})
	tx(t, s, func(tx *db.Tx) error {
		b, err := launchstore.End(ctx, tx, []byte("one"))
		assert.Equal(t, []byte("b"), b.Browser)
		return err
	})
	tx(t, s, func(tx *db.Tx) error {
		_, err := launchstore.End(ctx, tx, []byte("one"))
		require.ErrorIs(t, err, db.ErrNotFound)
		return nil
	})
}

func TestCoursePagesAreKept(t *testing.T) {
	w, _ := school(t)
	s, ctx, now := w.Store, t.Context(), time.Now().UTC().Truncate(time.Microsecond)
	of, section := w.Workspace().ID, w.Section("PROP-A")
	var d launchstore.Deployment
	var c launchstore.Course
	var u launchstore.Subject
	tx(t, s, func(tx *db.Tx) (err error) {
		if d, err = launchstore.MeetDeployment(ctx, tx, of, "one", now); err != nil {
			return err
		}
		assert.Nil(t, d.AdmittedAt)
		return launchstore.AdmitDeployment(ctx, tx, d.ID, "Maud", now)
	})
	tx(t, s, func(tx *db.Tx) error {
		again, err := launchstore.MeetDeployment(ctx, tx, of, "one", now.Add(time.Hour))
		assert.Equal(t, []any{d.ID, "Maud", now}, []any{again.ID, again.AdmittedBy, again.FirstAt.UTC()})
		require.ErrorIs(t, launchstore.AdmitDeployment(ctx, tx, "none", "Maud", now), db.ErrNotFound)
		return err
	})
	tx(t, s, func(tx *db.Tx) (err error) {
		c, err = launchstore.MeetCourse(ctx, tx, launchstore.Course{
			DeploymentID: d.ID, Context: "c", Label: "L",
			Title: "T",
		}, now)
		assert.Empty(t, c.SectionIDs)
		return err
	})
	undecided := launchstore.CourseFilter{InterfaceID: of, Undecided: true, Limit: 10}
	assert.Equal(t, 1, must[int](t)(launchstore.CountCourses(ctx, s, undecided)))
	assert.Equal(t, []string{section.ID}, must[[]string](t)(launchstore.SectionsCalled(ctx, s, "sec-prop-a")))
	assert.Empty(t, must[[]string](t)(launchstore.SectionsCalled(ctx, s, "none")))
	tx(t, s, func(tx *db.Tx) error {
		require.ErrorIs(t, launchstore.SetSections(ctx, tx, "none", nil, ""), db.ErrNotFound)
		return launchstore.SetSections(ctx, tx, c.ID, []string{section.ID}, "Maud")
	})
	assert.Empty(t, must[[]launchstore.ListedCourse](t)(launchstore.Courses(ctx, s, undecided)))
	one := must[launchstore.Course](t)(launchstore.FindCourse(ctx, s, c.ID))
	assert.Equal(t, []any{[]string{section.ID}, "Maud", of}, []any{one.SectionIDs, one.DecidedBy, one.InterfaceID})
	assert.Empty(t, must[[]launchstore.ListedCourse](t)(launchstore.Courses(ctx, s,
		launchstore.CourseFilter{InterfaceID: of, After: c.ID, Limit: 10})))

	assert.False(t, must[bool](t)(launchstore.Opened(ctx, s, of)))
	tx(t, s, func(tx *db.Tx) (err error) {
		u, err = launchstore.MeetSubject(ctx, tx, launchstore.Subject{InterfaceID: of, Subject: "x", Why: "nobody"},
			now)
		return err
	})
	assert.Equal(t, 1, must[int](t)(launchstore.CountUnrecognised(ctx, s, of)))
	assert.Len(t, must[[]launchstore.Subject](t)(launchstore.Unrecognised(ctx, s, of, 10)), 1)
	assert.Equal(t, "nobody", must[launchstore.Subject](t)(launchstore.FindSubject(ctx, s, u.ID)).Why)
	ada := must[rosterstore.Person](t)(rosterstore.PersonBySourcedID(ctx, s, "stu-001"))
	tx(t, s, func(tx *db.Tx) error {
		if err := connectionstore.KeepAccount(ctx, tx, of, "x", ada.ID); err != nil {
			return err
		}
		if err := launchstore.Recognised(ctx, tx, u.ID); err != nil {
			return err
		}
		for range 2 {
			if err := launchstore.CountOpening(ctx, tx, c.ID, u.ID, "learner", now); err != nil {
				return err
			}
		}
		return nil
	})
	assert.Zero(t, must[int](t)(launchstore.CountUnrecognised(ctx, s, of)))
	assert.True(t, must[bool](t)(launchstore.Opened(ctx, s, of)))
	opened := must[[]launchstore.Opening](t)(launchstore.Openings(ctx, s, c.ID))
	require.Greater(t, len(opened), 2)
	assert.Nil(t, opened[0].LatestAt, "who never did stands first")
	last := opened[len(opened)-1]
	assert.Equal(t, []any{ada.ID, int64(2)}, []any{last.PersonID, last.Times})
	shared := must[[]launchstore.Shared](t)(launchstore.SharedWith(ctx, s, c.ID))
	require.NotEmpty(t, shared)
	assert.Contains(t, shared, launchstore.Shared{SectionID: section.ID, Shared: 1, Opened: 1})
	page := launchstore.Session{
		CourseID: c.ID, PersonID: ada.ID, Role: "learner", ReturnURL: "https://x.example",
		ExpiresAt: now.Add(time.Hour),
	}
	tx(t, s, func(tx *db.Tx) error { return launchstore.KeepSession(ctx, tx, []byte("page"), page) })
	kept := must[launchstore.Session](t)(launchstore.FindSession(ctx, s, []byte("page"), now))
	assert.Equal(t, []any{c.ID, ada.ID, "learner"}, []any{kept.CourseID, kept.PersonID, kept.Role})
	_, err := launchstore.FindSession(ctx, s, []byte("page"), now.Add(2*time.Hour))
	require.ErrorIs(t, err, db.ErrNotFound)
	list := must[[]launchstore.ListedDeployment](t)(launchstore.Deployments(ctx, s, of))
	assert.Equal(t, []any{1, 1}, []any{len(list), list[0].Courses})
	assert.Equal(t, "one", must[launchstore.Deployment](t)(launchstore.FindDeployment(ctx, s, d.ID)).Deployment)
	assert.Equal(t, []string{}, must[[]string](t)(launchstore.PlatformOf(ctx, s, "lti", "https://none.example", "")))
}

func TestRegistrationAddressesWorkOnce(t *testing.T) {
	w, _ := school(t)
	s, ctx, now := w.Store, t.Context(), time.Now().UTC().Truncate(time.Microsecond)
	r := launchstore.Registration{
		ID: db.NewID(), Name: "Courses", MadeBy: "Maud", CreatedAt: now,
		ExpiresAt: now.Add(time.Hour),
	}
	tx(t, s, func(tx *db.Tx) error { return launchstore.KeepRegistration(ctx, tx, r, []byte("secret")) })
	found := must[launchstore.Registration](t)(launchstore.FindRegistration(ctx, s, []byte("secret")))
	assert.Equal(t, r.Name, found.Name)
	tx(t, s, func(tx *db.Tx) error {
		require.ErrorIs(t, launchstore.ClaimRegistration(ctx, tx, r.ID, now.Add(2*time.Hour)), db.ErrNotFound,
			"it has ended")
		require.NoError(t, launchstore.ClaimRegistration(ctx, tx, r.ID, now))
		require.ErrorIs(t, launchstore.ClaimRegistration(ctx, tx, r.ID, now), db.ErrNotFound)
		require.ErrorIs(t, launchstore.RemoveRegistration(ctx, tx, r.ID), db.ErrNotFound, "it is in use")
		require.NoError(t, launchstore.ReleaseRegistration(ctx, tx, r.ID))
		require.NoError(t, launchstore.ClaimRegistration(ctx, tx, r.ID, now))
		require.NoError(t, launchstore.EndRegistration(ctx, tx, r.ID, w.Workspace().ID))
		return launchstore.ReleaseRegistration(ctx, tx, r.ID) // too late
	})
	list := must[[]launchstore.Registration](t)(launchstore.Registrations(ctx, s, now.Add(-time.Hour)))
	require.Len(t, list, 1)
	assert.NotNil(t, list[0].UsedAt)
	assert.NotNil(t, list[0].InterfaceID)
	assert.Empty(t, must[[]launchstore.Registration](t)(launchstore.Registrations(ctx, s, now.Add(time.Hour))))
}

func TestToolKeysFollowEachOther(t *testing.T) {
	w, _ := school(t)
	s, ctx, now := w.Store, t.Context(), time.Now().UTC().Truncate(time.Microsecond)
	add := func(id string, at time.Time, over time.Time) {
		tx(t, s, func(tx *db.Tx) error {
			return launchstore.ReplaceKey(ctx, tx, launchstore.Key{ID: id, Key: []byte(id), CreatedAt: at}, over)
		})
	}
	tx(t, s, func(tx *db.Tx) error {
		return launchstore.AddKey(ctx, tx, launchstore.Key{
			ID: "a", Key: []byte("a"),
			CreatedAt: now.Add(-2 * time.Hour),
		})
	})
	require.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error {
		return launchstore.AddKey(ctx, tx, launchstore.Key{ID: "z", Key: []byte("z"), CreatedAt: now})
	}), db.ErrTaken, "one signs")
	add("b", now.Add(-time.Hour), now.Add(-24*time.Hour))
	add("c", now, now.Add(-time.Minute))
	keys := must[[]launchstore.Key](t)(launchstore.Keys(ctx, s))
	require.Len(t, keys, 2, "the oldest is gone")
	assert.Equal(t, []string{"c", "b"}, []string{keys[0].ID, keys[1].ID})
}
