package web_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/wire/api"
)

// walkUsers walks what is done with those who may sign in.
func walkUsers(x *talk, _ *story) {
	t := x.site.t
	grant := func(role string) *api.NewRoleGrant { return &api.NewRoleGrant{Role: role} }
	x.do(422, "POST", "/users", api.NewUser{Name: "Otto", Email: "otto", Grant: grant("operator")})
	x.do(422, "POST", "/users", api.NewUser{Name: "Otto", Email: "otto@fernmoor.example", Grant: grant("king")})
	x.do(422, "POST", "/users", api.NewUser{Name: "Otto", Email: "otto@fernmoor.example"})
	in := made[api.Invitation](x, "/users", api.NewUser{
		Name: "Otto", Email: "otto@fernmoor.example", Grant: grant("operator"),
	})
	assert.Equal(t, []string{"invited", "operator", "institution"},
		[]string{in.User.State, in.User.Grants[0].Role, in.User.Grants[0].Scope})
	x.do(409, "POST", "/users", api.NewUser{Name: "Second", Email: "OTTO@fernmoor.example", Grant: grant("reader")})
	first := strings.SplitAfter(in.Link, "secret=")[1]
	again := post[api.Invitation](x, "/users/"+in.User.ID+"/invitation", nil)
	secret := strings.SplitAfter(again.Link, "secret=")[1]
	x.do(403, "POST", "/invitations", api.AcceptInvitation{Secret: first, Password: password})
	x.do(422, "POST", "/invitations", api.AcceptInvitation{Secret: secret, Password: "short"})
	assert.Equal(t, "Otto", post[api.Caller](x, "/invitations", api.AcceptInvitation{
		Secret:   secret,
		Password: password,
	}).Name)
	x.do(403, "POST", "/invitations", api.AcceptInvitation{Secret: secret, Password: password})
	otto := post[api.Caller](x, "/session", api.SignIn{Email: "otto@fernmoor.example", Password: password})
	assert.Contains(t, otto.May, "rosters")
	assert.NotContains(t, otto.May, "connect")
	support := "support"
	edited := as[api.User](x, x.do(200, "PATCH", "/users/"+otto.ID, api.EditUser{Role: &support}))
	assert.Equal(t, "support", edited.Grants[0].Role)
	x.do(422, "PUT", "/session/password", api.NewPassword{Old: "wrong-wrong-wrong", Password: password})
	x.do(204, "PUT", "/session/password", api.NewPassword{Old: password, Password: password})
	users := get[api.Page[api.User]](x, "/users").Items
	require.Len(t, users, 2)
	x.do(409, "DELETE", "/users/"+get[api.Caller](x, "/session").ID, nil)
	x.do(409, "PATCH", "/users/"+get[api.Caller](x, "/session").ID, api.EditUser{Role: &support})
	x.do(204, "DELETE", "/users/"+otto.ID, nil)
	x.do(404, "DELETE", "/users/"+otto.ID, nil)
	trail := get[api.Page[api.AuditEntry]](x, "/audit-entries?subject=user&text=remove&limit=1")
	require.Len(t, trail.Items, 1)
	assert.Equal(t, "user/"+otto.ID, trail.Items[0].Subject)
	older := get[api.Page[api.AuditEntry]](x, "/audit-entries?limit=1&cursor="+trail.Items[0].ID)
	assert.NotEqual(t, trail.Items[0].ID, older.Items[0].ID)
	assert.NotEmpty(t, older.Next)
	x.do(422, "GET", "/audit-entries?cursor=x", nil)
}

// walkRoles gives a user more roles and ends them.
func walkRoles(x *talk, _ *story) {
	t := x.site.t
	there := get[api.Page[api.Role]](x, "/roles").Items
	require.Len(t, there, 7)
	assert.Equal(t, api.Role{
		Role: "awarder", Scopes: []string{"institution", "organisation", "course", "section"},
		May: []string{"own", "look", "award"}, MayPart: []string{"own", "look", "award"}, Given: true, Token: true,
	}, there[4])
	assert.Equal(t, []bool{false, false}, []bool{there[5].Given, there[5].Token}, "teachers come from the register")
	id := made[api.Invitation](x, "/users", api.NewUser{
		Name: "Pia", Email: "pia@users.example", Grant: &api.NewRoleGrant{Role: "support"},
	}).User.ID
	roles := func(u api.User) (all []string) {
		for _, g := range u.Grants {
			all = append(all, strings.TrimSpace(g.Role+" "+g.Scope+" "+g.ScopeName))
		}
		return all
	}
	section := x.Section("PROP-A").ID
	wanted := api.NewRoleGrant{Role: "operator", Scope: "section", ScopeID: section}
	now := post[api.User](x, "/users/"+id+"/grants", wanted)
	require.Equal(t, []string{"support institution", "operator section Propagation A"}, roles(now))
	x.do(409, "POST", "/users/"+id+"/grants", wanted)
	for _, bad := range []api.NewRoleGrant{
		{Role: "reader", Scope: "section", ScopeID: section},
		{Role: "administrator", Scope: "section", ScopeID: section},
		{Role: "operator", Scope: "section"},
		{Role: "operator", Scope: "section", ScopeID: "00000000-0000-7000-8000-000000000000"},
		{Role: "operator", Scope: "course", ScopeID: section},
		{Role: "operator", Scope: "institution", ScopeID: section},
		{Role: "operator", IssuerID: section},
		{Role: "awarder", IssuerID: section},
		{Role: "teacher", Scope: "section", ScopeID: section},
	} {
		x.do(422, "POST", "/users/"+id+"/grants", bad)
	}
	x.do(404, "POST", "/users/00000000-0000-7000-8000-000000000000/grants", wanted)
	at := "/users/" + id + "/grants/"
	left := as[api.User](x, x.do(200, "DELETE", at+now.Grants[1].ID, nil))
	assert.Equal(t, []string{"support institution"}, roles(left))
	x.do(404, "DELETE", at+now.Grants[1].ID, nil)
	maud := get[api.Caller](x, "/session").ID
	for _, u := range get[api.Page[api.User]](x, "/users").Items {
		if u.ID == maud {
			x.do(409, "DELETE", "/users/"+maud+"/grants/"+u.Grants[0].ID, nil)
		}
	}
	ada := x.Person("stu-001").ID
	assert.Equal(t, ada, as[api.User](x, x.do(200, "PATCH", "/users/"+id, api.EditUser{PersonID: &ada})).PersonID)
	nobody := ""
	assert.Empty(t, as[api.User](x, x.do(200, "PATCH", "/users/"+id, api.EditUser{PersonID: &nobody})).PersonID)
	x.do(422, "PATCH", "/users/"+id, api.EditUser{PersonID: &maud})
	x.do(204, "DELETE", "/users/"+id, nil)
}

// invited makes somebody with a grant, or somebody of the register, and gives what makes tokens for them.
func (x *site) invited(name string, grant *permission.Grant, person string) (id string, token func() string) {
	x.t.Helper()
	maud, err := x.Access.ByToken(x.t.Context(), x.token)
	require.NoError(x.t, err)
	email := name + "@users.example"
	in, err := x.Access.Invite(x.t.Context(), maud, access.Draft{Name: &name, Email: &email, PersonID: &person}, grant)
	require.NoError(x.t, err)
	return in.User.ID, func() string {
		who := access.Caller{ID: in.User.ID, Name: name}
		secret, err := x.Access.NewToken(x.t.Context(), who, access.TokenDraft{Name: "test"})
		require.NoError(x.t, err)
		return secret
	}
}

// Every operation declares an act, and each role may do what the table says and nothing else: what is no more than for
// a part of the institution is refused to nobody's role there.
func TestWhatEachRoleMay(t *testing.T) {
	s := open(t, nil)
	x := &talk{s, describe(t)}
	x.World.Read(x.Register(), false)
	type somebody struct {
		name  string
		grant permission.Grant
		token func() string
	}
	var all []somebody
	for _, role := range []permission.Role{
		permission.Administrator, permission.Operator, permission.Support, permission.Reader, permission.Awarder,
	} {
		for _, scope := range []permission.Scope{
			{Kind: permission.Institution}, {Kind: permission.Section, ID: x.Section("PROP-A").ID},
		} {
			if !permission.Holds(role, scope.Kind) {
				continue
			}
			one := somebody{string(role) + "-" + string(scope.Kind), permission.Grant{Role: role, Scope: scope}, nil}
			_, one.token = x.invited(one.name, &one.grant, "")
			all = append(all, one)
		}
	}
	_, teacher := x.invited("teacher", nil, x.Person("tea-001").ID)
	all = append(all, somebody{"teacher", permission.Grant{
		Role: permission.Teacher, Scope: permission.Scope{Kind: permission.Taught},
	}, teacher})
	refused := 0
	for _, o := range x.operations {
		if !strings.HasPrefix(o.path, "/api/v1/") {
			continue
		}
		act := permission.Act(o.act)
		require.Contains(t, permission.Acts, act, "%s declares no act", o.id)
		path := o.path
		for _, segment := range o.segments {
			if strings.HasPrefix(segment, "{") {
				path = strings.Replace(path, segment, "00000000-0000-7000-8000-000000000000", 1)
			}
		}
		for _, who := range all {
			may, own := who.grant.Allows(act), act == permission.Anyone || act == permission.Own
			if act == permission.Anyone || may && o.id == "live" {
				continue // what anyone may do is refused for other reasons; news never end
			}
			if may && !own && who.grant.Scope.Kind != permission.Institution && o.scope == "" {
				may = false
			}
			body := ""
			if o.body != "" {
				body = `{"none` // whoever may do it is told that this is no body
			}
			resp, text := x.ask(o.method, path, body, "Authorization", "Bearer "+who.token())
			if may {
				assert.NotEqual(t, 403, resp.StatusCode, "%s, %s: %s", who.name, o.id, text)
				continue
			}
			refused++
			assert.Equal(t, 403, resp.StatusCode, "%s, %s: %s", who.name, o.id, text)
			assert.Regexp(t, `your role \(`+string(who.grant.Role)+`|your role holds for a part`, text)
		}
	}
	assert.Greater(t, refused, 1200)
}

// Whoever is removed, or is something else from now on, is so at once: by session, by token, and on pages that
// listen.
func TestARoleThatIsTakenAwayEndsAtOnce(t *testing.T) {
	s := open(t, nil)
	maud, err := s.Access.ByToken(t.Context(), s.token)
	require.NoError(t, err)
	operator := permission.Everywhere(permission.Operator)[0]
	id, made := s.invited("Otto", &operator, "")
	otto, token := access.Caller{
		ID: id, Name: "Otto", Rights: permission.Rights{Grants: []permission.Grant{operator}},
	}, made()
	ask := func(method, path string) int {
		resp, _ := s.ask(method, "/api/v1"+path, "", "Authorization", "Bearer "+token)
		return resp.StatusCode
	}
	assert.Equal(t, 200, ask("GET", "/sections"))
	reader := permission.Reader
	_, err = s.Access.ChangeUser(t.Context(), maud, otto.ID, access.Draft{Role: &reader})
	require.NoError(t, err)
	assert.Equal(t, 403, ask("GET", "/sections"))
	assert.Equal(t, 200, ask("GET", "/reports"))
	resp, _ := s.ask("GET", "/metrics", "", "Authorization", "Bearer "+token)
	assert.Equal(t, 403, resp.StatusCode)
	name, email := "Friend", "friend@fernmoor.example"
	_, err = s.Access.Invite(t.Context(), otto, access.Draft{Name: &name, Email: &email},
		&permission.Everywhere(permission.Administrator)[0])
	require.ErrorContains(t, err, "more than your own")
	require.NoError(t, s.Access.RemoveUser(t.Context(), maud, otto.ID))
	assert.Equal(t, 401, ask("GET", "/reports"))
	require.ErrorContains(t, s.Access.RemoveUser(t.Context(), maud, maud.ID), "last administrator")
}
