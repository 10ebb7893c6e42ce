package scim_test

import (
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	peer "github.com/elimity-com/scim"
	peererrors "github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/optional"
	"github.com/elimity-com/scim/schema"
	filter "github.com/scim2/filter-parser/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/standin/fault"
	"kanban/internal/wire/call"
	"kanban/internal/wire/scim"
)

// records keep what a server of somebody else's making has taken in. That server reads the
// messages, paths and filters; nothing of ours does.
type records struct {
	mu     sync.Mutex
	prefix string
	unique string // the attribute of which there is one of each
	all    []peer.Resource
}

func (s *records) Create(_ *http.Request, a peer.ResourceAttributes) (peer.Resource, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range s.all {
		if s.unique != "" && x.Attributes[s.unique] == a[s.unique] {
			return peer.Resource{}, peererrors.ScimErrorUniqueness
		}
	}
	external, _ := a["externalId"].(string)
	x := peer.Resource{
		ID: s.prefix + strconv.Itoa(len(s.all)+1), Attributes: a,
		ExternalID: optional.NewString(external),
	}
	s.all = append(s.all, x)
	return x, nil
}

func (s *records) at(id string) (int, error) {
	i := slices.IndexFunc(s.all, func(x peer.Resource) bool { return x.ID == id })
	if i < 0 {
		return i, peererrors.ScimErrorResourceNotFound(id)
	}
	return i, nil
}

func (s *records) Get(_ *http.Request, id string) (peer.Resource, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i, err := s.at(id)
	if err != nil {
		return peer.Resource{}, err
	}
	return copied(s.all[i]), nil
}

// copied is a record that nobody changes while it is being written out.
func copied(r peer.Resource) peer.Resource {
	r.Attributes = maps.Clone(r.Attributes)
	return r
}

func (s *records) GetAll(_ *http.Request, p peer.ListRequestParams) (peer.Page, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	fits := []peer.Resource{}
	for _, x := range s.all {
		if p.FilterValidator == nil || p.FilterValidator.PassesFilter(x.Attributes) == nil {
			fits = append(fits, copied(x))
		}
	}
	page := peer.Page{TotalResults: len(fits)}
	from := min(p.StartIndex-1, len(fits))
	page.Resources = fits[from:min(from+p.Count, len(fits))]
	return page, nil
}

func (s *records) Replace(*http.Request, string, peer.ResourceAttributes) (peer.Resource, error) {
	return peer.Resource{}, peererrors.ScimErrorMutability
}

func (s *records) Delete(_ *http.Request, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	i, err := s.at(id)
	if err == nil {
		s.all = slices.Delete(s.all, i, i+1)
	}
	return err
}

func (s *records) Patch(_ *http.Request, id string, operations []peer.PatchOperation) (peer.Resource, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i, err := s.at(id)
	if err != nil {
		return peer.Resource{}, err
	}
	for _, o := range operations {
		if err := change(s.all[i].Attributes, o); err != nil {
			return peer.Resource{}, err
		}
	}
	return copied(s.all[i]), nil
}

// change carries out one operation (RFC 7644, section 3.5.2).
func change(a peer.ResourceAttributes, o peer.PatchOperation) error {
	name := o.Path.AttributePath.AttributeName
	if sub := o.Path.AttributePath.SubAttribute; sub != nil {
		whole, _ := a[name].(map[string]any)
		if whole == nil {
			whole = map[string]any{}
		}
		whole[*sub] = o.Value
		a[name] = whole
		return nil
	}
	list, _ := a[name].([]any)
	if o.Path.ValueExpression == nil {
		if given, ok := o.Value.([]any); ok && o.Op == peer.PatchOperationAdd {
			a[name] = append(slices.Clone(list), given...)
			return nil
		}
		a[name] = o.Value
		return nil
	}
	is := o.Path.ValueExpression.(*filter.AttributeExpression)
	fits := func(x any) bool {
		m, _ := x.(map[string]any)
		return m != nil && m[is.AttributePath.AttributeName] == is.CompareValue
	}
	if !slices.ContainsFunc(list, fits) {
		return peererrors.ScimErrorNoTarget
	}
	if o.Op == peer.PatchOperationRemove {
		a[name] = slices.DeleteFunc(slices.Clone(list), fits)
		return nil
	}
	for _, x := range list {
		if fits(x) {
			x.(map[string]any)[*o.Path.SubAttribute] = o.Value
		}
	}
	return nil
}

// others starts a server of somebody else's making, that may misbehave, and calls it with a
// time limit of half a second.
func others(t *testing.T, misbehave *fault.Switch) (c *scim.Client, users, groups *records) {
	t.Helper()
	users, groups = &records{prefix: "u", unique: "userName"}, &records{prefix: "g"}
	server, err := peer.NewServer(&peer.ServerArgs{
		ServiceProviderConfig: &peer.ServiceProviderConfig{SupportFiltering: true, SupportPatch: true, MaxResults: 7},
		ResourceTypes: []peer.ResourceType{
			{
				ID: optional.NewString("User"), Name: "User", Endpoint: "/Users", Schema: schema.CoreUserSchema(),
				Handler: users,
			},
			{
				ID: optional.NewString("Group"), Name: "Group", Endpoint: "/Groups", Schema: schema.CoreGroupSchema(),
				Handler: groups,
			},
		},
	})
	require.NoError(t, err)
	s := httptest.NewServer(misbehave.Wrap(http.StripPrefix("/scim", server)))
	t.Cleanup(s.Close)
	return scim.NewClient(s.URL+"/scim/v2", "token", 0,
		call.Options{
			Timeout: limit, Retries: 3, WaitMin: time.Millisecond,
			WaitMax: 2 * time.Millisecond,
		}), users, groups
}

const limit = 500 * time.Millisecond

func somebody(n int) scim.User {
	return scim.User{
		ExternalID: fmt.Sprint("p", n), UserName: fmt.Sprintf("user%d",
			n), Active: true, Name: scim.Name{GivenName: "Ada", FamilyName: fmt.Sprint("Alder", n)},
		Emails: []scim.Email{{Value: fmt.Sprintf("u%d@x.example", n), Type: "home", Primary: true}},
	}
}

// What the client sends is understood by a server of somebody else's making, and what that
// answers is understood by the client.
func TestServerOfSomebodyElse(t *testing.T) {
	c, _, groups := others(t, fault.NewSwitch())
	config, err := c.Config(t.Context())
	require.NoError(t, err)
	assert.True(t, config.Patch.Supported)
	var ids []string
	for n := range 17 { // more than its pages hold
		made, err := c.CreateUser(t.Context(), somebody(n))
		require.NoError(t, err)
		require.NotEmpty(t, made.ID)
		ids = append(ids, made.ID)
	}
	all, err := c.Users(t.Context(), "")
	require.NoError(t, err)
	assert.Len(t, all, 17, "every page is read")
	again, err := c.CreateUser(t.Context(), somebody(3))
	require.NoError(t, err, "whoever has our key is taken for the one")
	assert.Equal(t, ids[3], again.ID)

	require.NoError(t, c.UpdateUser(t.Context(), ids[3], "", scim.Name{GivenName: "Ada", FamilyName: "Ash"},
		"ada@work.example"))
	require.NoError(t, c.UpdateUser(t.Context(), ids[3], "", scim.Name{GivenName: "Ada", FamilyName: "Ash"},
		"ada.ash@work.example"))
	require.NoError(t, c.SetActive(t.Context(), ids[3], false))
	found, err := c.Users(t.Context(), scim.Equal("userName", "user3"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, "Ash", found[0].Name.FamilyName)
	assert.ElementsMatch(t, []string{"u3@x.example", "ada.ash@work.example"}, found[0].Addresses(),
		"only the work address is ours")
	assert.False(t, found[0].Active)

	group, err := c.CreateGroup(t.Context(), "Propagation", "kanban-1", nil)
	require.NoError(t, err)
	same, err := c.CreateGroup(t.Context(), "Propagation", "kanban-1", nil)
	require.NoError(t, err)
	assert.Equal(t, group.ID, same.ID)
	assert.Len(t, groups.all, 1)
	require.NoError(t, c.AddMembers(t.Context(), group.ID, ids[:5]...))
	require.NoError(t, c.RemoveMembers(t.Context(), group.ID, ids[0], ids[1]))
	require.NoError(t, c.RemoveMembers(t.Context(), group.ID, ids[0]), "whoever is not in it is no error")
	require.NoError(t, c.RenameGroup(t.Context(), group.ID, "Propagation A"))
	got, err := c.Group(t.Context(), group.ID)
	require.NoError(t, err)
	assert.Equal(t, "Propagation A", got.DisplayName)
	assert.Len(t, got.Members, 3)
	for range 2 {
		require.NoError(t, c.DeleteUser(t.Context(), ids[16]), "one that is gone is no error")
	}
	left, err := c.Users(t.Context(), "")
	require.NoError(t, err)
	assert.Len(t, left, 16)
	_, err = c.Group(t.Context(), "none")
	p, ok := call.As(err)
	require.True(t, ok)
	assert.Equal(t, call.NotFound, p.Kind)
}

// Whatever answers are lost, and whatever is carried out only after the time limit, each
// thing is made once and everybody is put in once.
func TestServerOfSomebodyElseLosesAnswers(t *testing.T) {
	for name, f := range map[string]fault.Fault{
		"lost":                        {Kind: fault.Cut, Count: 1},
		"broken off":                  {Kind: fault.Truncate, Count: 1},
		"carried out after the limit": {Kind: fault.Latency, Millis: 700, Count: 1},
	} {
		t.Run(name, func(t *testing.T) {
			misbehave := fault.NewSwitch()
			c, users, groups := others(t, misbehave)
			first := func(method, path string) {
				f.Method, f.Path = method, path
				require.NoError(t, misbehave.Set(f))
			}
			first(http.MethodPost, "/Users")
			var ids []string
			for n := range 3 {
				made, err := c.CreateUser(t.Context(), somebody(n))
				require.NoError(t, err)
				ids = append(ids, made.ID)
			}
			first(http.MethodPost, "/Groups")
			group, err := c.CreateGroup(t.Context(), "Propagation", "kanban-1", nil)
			require.NoError(t, err)
			first(http.MethodPatch, "/Groups")
			require.NoError(t, c.AddMembers(t.Context(), group.ID, ids...))
			misbehave.Settle()
			assert.Len(t, users.all, 3)
			assert.Len(t, groups.all, 1)
			got, err := c.Group(t.Context(), group.ID)
			require.NoError(t, err)
			assert.Len(t, got.Members, 3)
		})
	}
}
