package scim_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/scim"
)

func TestFilterEscapesWhatItIsGiven(t *testing.T) {
	assert.Equal(t, `userName eq "a\"b\\c"`, scim.Equal("userName", `a"b\c`))
	for _, bad := range []string{"", "userName", `userName co "a"`, `userName eq a`, `userName eq "a" or x eq "b"`} {
		_, _, err := scim.ParseEqual(bad)
		assert.Error(t, err, bad)
	}
	id, ok := scim.RemovedMember(`members[value eq "u1"]`)
	assert.True(t, ok)
	assert.Equal(t, "u1", id)
	_, ok = scim.RemovedMember("members")
	assert.False(t, ok)
}

func FuzzFilter(f *testing.F) {
	f.Add(`a"b`)
	f.Add("\x00é\n")
	f.Fuzz(func(t *testing.T, value string) {
		attribute, got, err := scim.ParseEqual(scim.Equal("userName", value))
		if err != nil || attribute != "username" {
			t.Fatalf("%q: %v", value, err)
		}
		if got != string([]rune(value)) { // what is no UTF-8 is replaced, as JSON demands
			t.Fatalf("%q came back as %q", value, got)
		}
		both, err := scim.ParseAny(scim.Any(scim.Equal("id", value), scim.Equal("userName", "x")))
		if err != nil || len(both) != 2 || both[0].Value != got ||
			both[1] != (scim.Term{Attribute: "username", Value: "x"}) {
			t.Fatalf("%q beside another came back as %v: %v", value, both, err)
		}
	})
}

func TestUserGolden(t *testing.T) {
	u := scim.User{
		Schemas: []string{scim.UserSchema}, ExternalID: "p1", UserName: "ana",
		Name: scim.Name{GivenName: "Ana"}, Emails: []scim.Email{{
			Value: "ana@example.org", Type: "work",
			Primary: true,
		}}, Active: true,
	}
	text, err := json.Marshal(u)
	require.NoError(t, err)
	assert.JSONEq(t, `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"externalId":"p1","userName":"ana","name":{"givenName":"Ana"},
		"emails":[{"value":"ana@example.org","type":"work","primary":true}],"active":true}`, string(text))
	assert.Equal(t, "ana@example.org", u.Email())
	assert.Equal(t, "b@x", scim.User{Emails: []scim.Email{{Value: "b@x"}, {Value: "c@x"}}}.Email())
}
