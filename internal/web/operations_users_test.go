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
	x.do(422, "POST", "/users", api.NewUser{Name: "Otto", Email: "otto", Role: "operator"})
	x.do(422, "POST", "/users", api.NewUser{Name: "Otto", Email: "otto@fernmoor.example", Role: "king"})
	in := made[api.Invitation](x, "/users", api.NewUser{
		Name: "Otto", Email: "otto@fernmoor.example",
		Role: "operator",
	})
	assert.Equal(t, []string{"invited", "operator"}, []string{in.User.State, in.User.Role})
	x.do(409, "POST", "/users", api.NewUser{Name: "Second", Email: "OTTO@fernmoor.example", Role: "reader"})
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
	assert.Equal(t, support, as[api.User](x, x.do(200, "PATCH", "/users/"+otto.ID,
		api.EditUser{Role: &support})).Role)
	x.do(422, "PUT", "/session/password", api.NewPassword{Old: "wrong-wrong-wrong", Password: password})
	x.do(204, "PUT", "/session/password", api.NewPassword{Old: password, Password: password})
	users := get[api.Page[api.User]](x, "/users").Items
	require.Len(t, users, 2)
	x.do(409, "DELETE", "/users/"+get[api.Caller](x, "/session").ID, nil)
	x.do(409, "PATCH", "/users/"+get[api.Caller](x, "/session").ID, api.EditUser{Role: &support})
	x.do(204, "DELETE", "/users/"+otto.ID, nil)
	x.do(404, "DELETE", "/users/"+otto.ID, nil)
}

// Every operation declares an act, and each role may do what the table says and nothing else.
func TestWhatEachRoleMay(t *testing.T) {
	s := open(t, nil)
	x := &talk{s, describe(t)}
	maud, err := x.Access.ByToken(t.Context(), x.token)
	require.NoError(t, err)
	token := map[permission.Role]func() string{}
	for _, role := range permission.Roles {
		in, err := x.Access.Invite(t.Context(), maud, string(role), string(role)+"@fernmoor.example", role)
		require.NoError(t, err)
		caller := access.Caller{ID: in.User.ID, Name: in.User.Name, Role: role}
		token[role] = func() string {
			secret, err := x.Access.NewToken(t.Context(), caller, "matrix")
			require.NoError(t, err)
			return secret
		}
	}
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
		for _, role := range permission.Roles {
			if permission.May(role, act) && (act == permission.Anyone || o.id == "live") {
				continue // what anyone may do is refused for other reasons; news never end
			}
			body := ""
			if o.body != "" {
				body = `{"none` // whoever may do it is told that this is no body
			}
			resp, text := x.ask(o.method, path, body, "Authorization", "Bearer "+token[role]())
			if permission.May(role, act) {
				assert.NotEqual(t, 403, resp.StatusCode, "%s, %s: %s", role, o.id, text)
				continue
			}
			refused++
			assert.Equal(t, 403, resp.StatusCode, "%s, %s: %s", role, o.id, text)
			assert.Contains(t, text, "your role ("+string(role)+")")
		}
	}
	assert.Greater(t, refused, 400)
}

// Whoever is removed, or is something else from now on, is so at once: by session, by token, and on pages that
// listen.
func TestARoleThatIsTakenAwayEndsAtOnce(t *testing.T) {
	s := open(t, nil)
	maud, err := s.Access.ByToken(t.Context(), s.token)
	require.NoError(t, err)
	in, err := s.Access.Invite(t.Context(), maud, "Otto", "otto@fernmoor.example", permission.Operator)
	require.NoError(t, err)
	otto := access.Caller{ID: in.User.ID, Name: "Otto", Role: permission.Operator}
	token, err := s.Access.NewToken(t.Context(), otto, "his")
	require.NoError(t, err)
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
	_, err = s.Access.Invite(t.Context(), otto, "Friend", "friend@fernmoor.example", permission.Administrator)
	require.ErrorContains(t, err, "more than your own")
	require.NoError(t, s.Access.RemoveUser(t.Context(), maud, otto.ID))
	assert.Equal(t, 401, ask("GET", "/reports"))
	require.ErrorContains(t, s.Access.RemoveUser(t.Context(), maud, maud.ID), "last administrator")
}
