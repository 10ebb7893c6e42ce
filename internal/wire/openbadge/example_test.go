package openbadge_test

import (
	"fmt"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwk"

	"kanban/internal/core/badge"
	"kanban/internal/wire/openbadge"
)

func ExampleSign() {
	at := time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC)
	issuer := badge.Profile{ID: "https://school.example/open/issuers/1", Name: "Fernmoor Garden School"}
	c, _ := badge.Build(badge.Award{
		ID: "https://school.example/open/awards/1", Address: "ada@fernmoor.example",
		Salt: "s", At: at, Issuer: issuer, Achievement: badge.Achievement{
			ID:   "https://school.example/open/badges/1",
			Name: "Sower", Description: "Sows", Criteria: badge.Criteria{Narrative: "Sow."},
		},
	})
	key, _ := openbadge.NewKey()
	token, err := openbadge.Sign(c, key, issuer.ID+"/keys/1")
	if err != nil {
		fmt.Println(err)
		return
	}
	got, err := openbadge.Verify(token, at.Add(time.Hour),
		func(string) (jwk.Key, error) { return openbadge.Public(key) })
	fmt.Println(got.Subject.Achievement.Name, err)
	other, _ := openbadge.NewKey()
	_, err = openbadge.Verify(token, at.Add(time.Hour),
		func(string) (jwk.Key, error) { return openbadge.Public(other) })
	fmt.Println(err != nil)
	// Output:
	// Sower <nil>
	// true
}
