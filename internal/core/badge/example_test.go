package badge_test

import (
	"fmt"
	"time"

	"kanban/internal/core/badge"
)

func ExampleBuild() {
	c, err := badge.Build(badge.Award{
		ID: "https://school.example/open/awards/1", Address: "ada@fernmoor.example", Salt: "s", At: time.Date(2026,
			10, 1, 0, 0, 0, 0, time.UTC),
		Issuer: badge.Profile{ID: "https://school.example/open/issuers/1", Name: "Fernmoor Garden School"},
		Achievement: badge.Achievement{
			ID: "https://school.example/open/badges/1", Name: "Sower",
			Description: "Sows seeds", Criteria: badge.Criteria{Narrative: "Sow."},
		},
	})
	fmt.Println(c.Subject.Achievement.Name, c.ValidFrom, err)
	fmt.Println(c.Subject.Identifier[0].Hashed,
		c.Subject.Identifier[0].IdentityHash == badge.IdentityHash("ada@fernmoor.example", "s"))
	// Output:
	// Sower 2026-10-01 00:00:00 +0000 UTC <nil>
	// true true
}
