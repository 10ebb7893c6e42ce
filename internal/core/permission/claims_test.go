package permission_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/permission"
)

func claims(t testing.TB, text string) map[string]any {
	t.Helper()
	var out map[string]any
	require.NoError(t, json.Unmarshal([]byte(text), &out))
	return out
}

func TestClaimsGiveGrants(t *testing.T) {
	support := permission.Everywhere(permission.Support)[0]
	said := claims(t, `{"groups":["staff"," help-desk ",7,{"x":1},null],"admin":true,"off":false,"level":3,"none":[],
		"realm_access":{"roles":["grower"],"a.b":"c"},"https://school.example/unit":"orchard","empty":"",
		"_claim_names":{"wids":"src1"}}`)
	for _, c := range []struct{ claim, value, why string }{
		{"groups", "help-desk", ""},
		{"groups", "7", ""},
		{"groups", "", ""},
		{"groups", "Help-desk", "the claim groups is staff, help-desk, 7"},
		{"admin", "true", ""},
		{"admin", "", ""},
		{"off", "", "the claim off is false"},
		{"level", "3", ""},
		{"none", "", "the claim none is empty"},
		{"empty", "", "the claim empty is "},
		{"realm_access.roles", "grower", ""},
		{"realm_access.a.b", "c", ""},
		{"realm_access.none", "x", "the claim realm_access.none is not there"},
		{"groups.x", "x", "the claim groups.x is not there"},
		{"https://school.example/unit", "orchard", ""},
		{"wids", "x", "the provider names a place elsewhere for wids, which is not asked: have it say less, such as fewer groups"},
		{"missing", "", "the claim missing is not there"},
	} {
		m := permission.Mapping{Claim: c.claim, Value: c.value, Grant: support}
		got := permission.FromClaims(said, []permission.Mapping{m})
		assert.Equal(t, permission.Mapped{Mapping: m, Holds: c.why == "", Why: c.why}, got[0], c.claim)
	}
	many := claims(t, `{"groups":["1","2","3","4","5","6","7"]}`)
	got := permission.FromClaims(many, []permission.Mapping{
		{Claim: "groups", Value: "8", Grant: support},
		{Claim: "groups", Value: "1", Grant: support},
		{Claim: "groups", Value: "2", Grant: support},
	})
	assert.Equal(t, "the claim groups is 1, 2, 3, 4, 5 and 2 more", got[0].Why)
	assert.Equal(t, []permission.Grant{support}, permission.Granted(got), "each once")
	assert.Empty(t, permission.FromClaims(nil, nil))
}

// Whatever claims look like, a mapping holds only when its value is there; and what is not there gives nothing.
func TestClaimsOfAnyShape(t *testing.T) {
	value := rapid.Custom(func(t *rapid.T) any {
		return rapid.OneOf(
			rapid.Map(rapid.StringMatching(`[a-c]{0,2}`), func(s string) any { return s }),
			rapid.Map(rapid.Bool(), func(b bool) any { return b }), rapid.Map(rapid.Float64(),
				func(f float64) any { return f }),
			rapid.Map(rapid.SliceOfN(rapid.StringMatching(`[a-c]{0,2}`), 0, 3), func(s []string) any {
				out := make([]any, len(s))
				for i := range s {
					out[i] = s[i]
				}
				return out
			}), rapid.Just(any(nil)),
		).Draw(t, "value")
	})
	rapid.Check(t, func(t *rapid.T) {
		said := rapid.MapOf(rapid.StringMatching(`[a-c](\.[a-c])?`), value).Draw(t, "claims")
		if rapid.Bool().Draw(t, "nested") {
			said["a"] = rapid.MapOf(rapid.StringMatching(`[a-c]`), value).Draw(t, "inner")
		}
		m := permission.Mapping{
			Claim: rapid.StringMatching(`[a-c](\.[a-c]){0,2}`).Draw(t, "claim"),
			Value: rapid.StringMatching(`[a-c]{1,2}`).Draw(t, "wanted"),
			Grant: permission.Everywhere(permission.Reader)[0],
		}
		got := permission.FromClaims(said, []permission.Mapping{m})[0]
		values, there := permission.ClaimValues(said, m.Claim)
		holds := false
		for _, v := range values {
			holds = holds || v == m.Value
		}
		if got.Holds != holds || got.Holds == (got.Why != "") {
			t.Fatalf("%+v of %v", got, values)
		}
		if !there && !strings.Contains(got.Why, "is not there") {
			t.Fatal(got.Why)
		}
	})
}
