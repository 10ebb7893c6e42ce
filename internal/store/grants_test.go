package store_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/permission"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/reachstore"
)

func TestRoleGrants(t *testing.T) {
	w, _ := school(t)
	ctx, s := t.Context(), w.Store
	section, teacher := w.Section("PROP-A"), w.Person("tea-001")
	u := accessstore.User{ID: db.NewID(), Name: "Otto", Email: "otto@fernmoor.example", PersonID: &teacher.ID}
	scope := permission.Scope{Kind: permission.Section, ID: section.ID}
	g := accessstore.Grant{
		ID: db.NewID(), UserID: u.ID, Role: permission.Operator, Scope: scope.Kind, ScopeID: scope.ID,
	}
	tx(t, s, func(tx *db.Tx) error {
		require.NoError(t, db.Create(tx, &u, "test"))
		return accessstore.AddGrant(ctx, tx, &g)
	})
	again := g
	again.ID = db.NewID()
	err := s.InTx(ctx, func(tx *db.Tx) error { return accessstore.AddGrant(ctx, tx, &again) })
	require.ErrorIs(t, err, db.ErrTaken)
	found := must[accessstore.User](t)(accessstore.FindUser(ctx, s, u.ID))
	require.Len(t, found.Grants, 1)
	assert.Equal(t, section.Title, found.Grants[0].ScopeName)
	want := []permission.Grant{{Role: permission.Operator, Scope: scope}}
	assert.Equal(t, want, found.Granted())
	reachOf := func(grants []permission.Grant, a permission.Act) permission.Reach {
		return must[permission.Reach](t)(reachstore.Reach(ctx, s, permission.Rights{Grants: grants}, a))
	}
	reach := reachOf(want, permission.Sync)
	assert.Equal(t, []string{section.ID}, reach.IDs())
	assert.Equal(t, permission.Reach{}, reachOf(want, permission.Connect))
	all := permission.Everywhere(permission.Administrator)
	assert.True(t, reachOf(all, permission.Connect).All)

	for there, x := range map[bool]permission.Scope{
		true: scope, false: {Kind: permission.Course, ID: section.ID},
	} {
		assert.Equal(t, there, must[bool](t)(reachstore.ScopeThere(ctx, s, x)))
	}
	assert.True(t, must[bool](t)(reachstore.ScopeThere(ctx, s, permission.Scope{Kind: permission.Institution})))
	assert.False(t, must[bool](t)(reachstore.ScopeThere(ctx, s, permission.Scope{Kind: "planet"})))
	assert.False(t, must[bool](t)(accessstore.IssuerThere(ctx, s, db.NewID())))
	assert.Equal(t, reachstore.InRegister{Teaches: true},
		must[reachstore.InRegister](t)(reachstore.FindInRegister(ctx, s, teacher.ID)))
	assert.Equal(t, reachstore.InRegister{Learns: true},
		must[reachstore.InRegister](t)(reachstore.FindInRegister(ctx, s, w.Person("stu-001").ID)))
	taught := must[[]string](t)(reachstore.SectionsIn(ctx, s, []permission.Scope{
		{Kind: permission.Taught, ID: teacher.ID},
	}))
	assert.Contains(t, taught, section.ID)
	of := must[[]string](t)(reachstore.SectionsIn(ctx, s, []permission.Scope{
		{Kind: permission.Course, ID: section.CourseID},
	}))
	assert.Len(t, of, 3, "all of the course")

	assert.Equal(t, []string{section.ID}, must[[]string](t)(reachstore.SectionsOf(ctx, s, permission.OfSection,
		section.ID)))
	mover := must[[]string](t)(reachstore.SectionsOf(ctx, s, permission.OfPerson, w.Person("stu-012").ID))
	assert.True(t, slices.Contains(mover, section.ID) && len(mover) > 1)
	_, err = reachstore.SectionsOf(ctx, s, "planet", section.ID)
	require.Error(t, err)
	assert.Equal(t, map[string]bool{section.ID: true},
		must[map[string]bool](t)(reachstore.Reached(ctx, s, permission.OfSection, reach)))
	for _, of := range []permission.Subject{ // each can be asked for
		permission.OfRun, permission.OfPreview, permission.OfSet, permission.OfScoreLink, permission.OfScorePreview,
		permission.OfTask, permission.OfAward, permission.OfDelivery,
	} {
		assert.Empty(t, must[map[string]bool](t)(reachstore.Reached(ctx, s, of, reach)), of)
		assert.Empty(t, must[[]string](t)(reachstore.SectionsOf(ctx, s, of, db.NewID())), of)
		assert.Contains(t, reachstore.In(of, "x.id", "$1"), "x.id IN (")
	}
	assert.Empty(t, must[[]string](t)(reachstore.SectionsOf(ctx, s, permission.OfRun, "no id")))
	assert.Empty(t, must[map[string]bool](t)(reachstore.Reached(ctx, s, permission.OfPairing, reach)))
	ada, other := w.Person("stu-001").ID, w.Person("stu-030").ID
	assert.Equal(t, map[string]bool{ada: true},
		must[map[string]bool](t)(reachstore.Reached(ctx, s, permission.OfPerson, reach, ada, other)))

	tx(t, s, func(tx *db.Tx) error { return accessstore.RemoveGrant(ctx, tx, u.ID, g.ID) })
	require.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return accessstore.RemoveGrant(ctx, tx, u.ID, g.ID) }),
		db.ErrNotFound)
	assert.Empty(t, must[accessstore.User](t)(accessstore.FindUser(ctx, s, u.ID)).Grants)
}
