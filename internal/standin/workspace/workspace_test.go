package workspace_test

import (
	"fmt"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/standin/fault"
	"kanban/internal/standin/school"
	"kanban/internal/standin/workspace"
	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

// The SCIM client and the stand-in, against each other.
func TestClientAndService(t *testing.T) {
	s := fault.NewSwitch()
	w := workspace.New(school.Fernmoor(time.Now))
	server := httptest.NewServer(s.Wrap(w))
	defer server.Close()
	c := scim.NewClient(server.URL+"/scim/v2", workspace.Token, 0,
		call.Options{Retries: 2, WaitMin: time.Millisecond, WaitMax: 2 * time.Millisecond})
	user := func(n int) scim.User {
		return scim.User{
			ExternalID: fmt.Sprint("p", n), UserName: fmt.Sprintf("user%d", n), Active: true,
			Emails: []scim.Email{{Value: fmt.Sprintf("u%d@x.example", n), Primary: true}},
		}
	}
	seeded, err := c.Users(t.Context(), "")
	require.NoError(t, err)
	for n := range 120 { // more than two pages
		_, err := c.CreateUser(t.Context(), user(n))
		require.NoError(t, err)
	}
	all, err := c.Users(t.Context(), "")
	require.NoError(t, err)
	assert.Len(t, all, len(seeded)+120)

	require.NoError(t, s.Set(fault.Fault{Kind: fault.Cut, Count: 1, Method: "POST"})) // made, but the answer is lost
	made, err := c.CreateUser(t.Context(), user(500))
	require.NoError(t, err)
	assert.Equal(t, "p500", made.ExternalID)
	assert.Equal(t, 121, w.Created(), "made once")
	clash := user(1)
	clash.ExternalID = "somebody else"
	_, err = c.CreateUser(t.Context(), clash)
	p, ok := call.As(err)
	require.True(t, ok)
	assert.Equal(t, "The user name user1 is taken.", p.Detail, "the service's own words")

	group, err := c.CreateGroup(t.Context(), "Space", "key-1", nil)
	require.NoError(t, err)
	again, err := c.CreateGroup(t.Context(), "Space", "key-1", nil)
	require.NoError(t, err)
	assert.Equal(t, group.ID, again.ID)
	for range 2 { // each step is harmless to repeat
		require.NoError(t, c.AddMembers(t.Context(), group.ID, made.ID))
	}
	group, err = c.Group(t.Context(), group.ID)
	require.NoError(t, err)
	assert.Len(t, group.Members, 1)
	require.NoError(t, c.UpdateUser(t.Context(), made.ID, "", scim.Name{GivenName: "New"}, "new@x.example"))
	require.NoError(t, c.SetActive(t.Context(), made.ID, false))
	found, err := c.Users(t.Context(), scim.Equal("externalId", "p500"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Addresses(), "new@x.example")
	assert.Contains(t, found[0].Addresses(), "u500@x.example", "an address that is not ours stays")
	assert.False(t, found[0].Active)
	for range 2 {
		require.NoError(t, c.RemoveMembers(t.Context(), group.ID, made.ID))
		require.NoError(t, c.DeleteGroup(t.Context(), "gone"))
	}
	_, err = c.Group(t.Context(), "gone")
	p, ok = call.As(err)
	require.True(t, ok)
	assert.Equal(t, call.NotFound, p.Kind)
	_, err = c.Users(t.Context(), scim.Equal("shoeSize", "41"))
	assert.ErrorContains(t, err, "Cannot filter by shoesize")
	_, err = scim.NewClient(server.URL+"/scim/v2", "wrong", 0, call.Options{Retries: -1}).Config(t.Context())
	p, ok = call.As(err)
	require.True(t, ok)
	assert.Equal(t, call.WrongCredential, p.Kind)
}
