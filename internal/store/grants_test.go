package store_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/permission"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
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
	reach := must[permission.Reach](t)(accessstore.Reach(ctx, s, want, permission.Sync))
	assert.Equal(t, []string{section.ID}, reach.IDs())
	assert.Equal(t, permission.Reach{}, must[permission.Reach](t)(accessstore.Reach(ctx, s, want, permission.Connect)))
	all := permission.Everywhere(permission.Administrator)
	assert.True(t, must[permission.Reach](t)(accessstore.Reach(ctx, s, all, permission.Connect)).All)

	for there, x := range map[bool]permission.Scope{
		true: scope, false: {Kind: permission.Course, ID: section.ID},
	} {
		assert.Equal(t, there, must[bool](t)(accessstore.ScopeThere(ctx, s, x)))
	}
	assert.True(t, must[bool](t)(accessstore.ScopeThere(ctx, s, permission.Scope{Kind: permission.Institution})))
	assert.False(t, must[bool](t)(accessstore.ScopeThere(ctx, s, permission.Scope{Kind: "planet"})))
	assert.False(t, must[bool](t)(accessstore.IssuerThere(ctx, s, db.NewID())))
	assert.Equal(t, accessstore.InRegister{Teaches: true},
		must[accessstore.InRegister](t)(accessstore.FindInRegister(ctx, s, teacher.ID)))
	assert.Equal(t, accessstore.InRegister{Learns: true},
		must[accessstore.InRegister](t)(accessstore.FindInRegister(ctx, s, w.Person("stu-001").ID)))
	taught := must[[]string](t)(accessstore.SectionsIn(ctx, s, []permission.Scope{
		{Kind: permission.Taught, ID: teacher.ID},
	}))
	assert.Contains(t, taught, section.ID)
	of := must[[]string](t)(accessstore.SectionsIn(ctx, s, []permission.Scope{
		{Kind: permission.Course, ID: section.CourseID},
	}))
	assert.Len(t, of, 3, "all of the course")

	assert.Equal(t, []string{section.ID}, must[[]string](t)(accessstore.SectionsOf(ctx, s, permission.OfSection,
		section.ID)))
	mover := must[[]string](t)(accessstore.SectionsOf(ctx, s, permission.OfPerson, w.Person("stu-012").ID))
	assert.True(t, slices.Contains(mover, section.ID) && len(mover) > 1)
	_, err = accessstore.SectionsOf(ctx, s, "planet", section.ID)
	require.Error(t, err)
	_, err = accessstore.Reached(ctx, s, permission.OfSection, reach)
	require.Error(t, err)
	assert.Empty(t, must[map[string]bool](t)(accessstore.Reached(ctx, s, permission.OfPairing, reach)))
	ada, other := w.Person("stu-001").ID, w.Person("stu-030").ID
	assert.Equal(t, map[string]bool{ada: true},
		must[map[string]bool](t)(accessstore.ReachedPeople(ctx, s, []string{ada, other}, reach)))

	tx(t, s, func(tx *db.Tx) error { return accessstore.RemoveGrant(ctx, tx, u.ID, g.ID) })
	require.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return accessstore.RemoveGrant(ctx, tx, u.ID, g.ID) }),
		db.ErrNotFound)
	assert.Empty(t, must[accessstore.User](t)(accessstore.FindUser(ctx, s, u.ID)).Grants)
}
