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
		if want, _ := json.Marshal(value); string(want) != string(must(json.Marshal(got))) {
			t.Fatalf("%q came back as %q", value, got)
		}
	})
}

func must(text []byte, _ error) []byte { return text }

func TestUserGolden(t *testing.T) {
	u := scim.User{Schemas: []string{scim.UserSchema}, ExternalID: "p1", UserName: "ana", Name: scim.Name{GivenName: "Ana"}, Emails: []scim.Email{{Value: "ana@example.org", Type: "work", Primary: true}}, Active: true}
	text, err := json.Marshal(u)
	require.NoError(t, err)
	assert.JSONEq(t, `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"externalId":"p1","userName":"ana","name":{"givenName":"Ana"},
		"emails":[{"value":"ana@example.org","type":"work","primary":true}],"active":true}`, string(text))
	assert.Equal(t, "ana@example.org", u.Email())
	assert.Equal(t, "b@x", scim.User{Emails: []scim.Email{{Value: "b@x"}, {Value: "c@x"}}}.Email())
}
