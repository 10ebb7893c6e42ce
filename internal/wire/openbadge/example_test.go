package openbadge_test

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/core/badge"
	"kanban/internal/wire/openbadge"
)

func ExampleExamine() {
	at := time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC)
	key, _ := openbadge.NewKey(openbadge.EdDSA)
	name, _ := openbadge.Multibase(key)
	c, _ := badge.Build(badge.Award{
		ID: "https://school.example/open/awards/1", Address: "ada@fernmoor.example", Salt: "s", At: at,
		Issuer: badge.Profile{ID: "did:key:" + name, Name: "Fernmoor Garden School"},
		Achievement: badge.Achievement{
			ID: "https://school.example/open/badges/1", Name: "Sower", Description: "Sows",
			Criteria: badge.Criteria{Narrative: "Sow."},
		},
	})
	file, err := openbadge.Embed(c, key, "did:key:"+name+"#"+name, at)
	if err != nil {
		fmt.Println(err)
		return
	}
	seen := openbadge.Examine(context.Background(), file, at.Add(time.Hour), nil)
	fmt.Println(seen.Verdict, seen.Seen.Achievement.Name)
	for _, c := range seen.Checks {
		fmt.Println(c.What, c.Outcome)
	}
	// Output:
	// valid Sower
	// read passed
	// issuer passed
	// signature passed
	// dates passed
	// status passed
}
