package badge_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/badge"
)

func award() badge.Award {
	return badge.Award{
		ID:     "https://badges.example.org/c/1",
		Issuer: badge.Profile{ID: "https://badges.example.org/i/1", Name: "Example School"},
		Achievement: badge.Achievement{
			ID: "https://badges.example.org/a/1", Name: "Fractions",
			Description: "Adds fractions.", Criteria: badge.Criteria{Narrative: "Score 80 or more."},
		},
		Address: "ana@example.org", Salt: "pepper",
		At: time.Date(2026, 1, 15, 10, 0, 0, 123, time.FixedZone("", 3600)),
	}
}

// The known answer for salt "pepper" and ana@example.org.
const anaHash = "sha256$b30ecdf569a8ea6cfbb956fc40a0ef8ad75cad3c32748a1fef83f8964453bf7a"

func TestBuildGivesTheStandardsShape(t *testing.T) {
	c, err := badge.Build(award())
	require.NoError(t, err)
	text, err := json.Marshal(c)
	require.NoError(t, err)
	assert.JSONEq(t, `{
	  "@context": ["https://www.w3.org/ns/credentials/v2", "https://purl.imsglobal.org/spec/ob/v3p0/context-3.0.3.json"],
	  "id": "https://badges.example.org/c/1", "type": ["VerifiableCredential", "OpenBadgeCredential"], "name": "Fractions",
	  "issuer": {"id": "https://badges.example.org/i/1", "type": ["Profile"], "name": "Example School"},
	  "validFrom": "2026-01-15T09:00:00Z",
	  "credentialSubject": {"type": ["AchievementSubject"],
	    "identifier": [{"type": "IdentityObject", "hashed": true, "identityHash": "`+anaHash+`", "identityType": "emailAddress", "salt": "pepper"}],
	    "achievement": {"id": "https://badges.example.org/a/1", "type": ["Achievement"], "name": "Fractions", "description": "Adds fractions.", "criteria": {"narrative": "Score 80 or more."}}}
	}`, string(text))
	assert.NotContains(t, string(text), "ana@", "the address itself is not published")
	assert.Equal(t, anaHash, badge.IdentityHash(" Ana@Example.org", "pepper"))
}

func TestBuildNamesWhatIsMissing(t *testing.T) {
	for want, change := range map[string]func(*badge.Award){
		"address of the issuer":   func(a *badge.Award) { a.Issuer.ID = "/i/1" },
		"badge criteria":          func(a *badge.Award) { a.Achievement.Criteria.Narrative = " " },
		"learner's address":       func(a *badge.Award) { a.Address = "" },
		"salt is missing":         func(a *badge.Award) { a.Salt = "" },
		"badge name is missing":   func(a *badge.Award) { a.Achievement.Name = "" },
		"badge description is mi": func(a *badge.Award) { a.Achievement.Description = "" },
	} {
		a := award()
		change(&a)
		_, err := badge.Build(a)
		require.ErrorIs(t, err, badge.ErrAward)
		assert.ErrorContains(t, err, want)
	}
}
