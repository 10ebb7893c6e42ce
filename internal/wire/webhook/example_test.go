package webhook_test

import (
	"fmt"
	"time"

	"kanban/internal/wire/webhook"
)

func ExampleSign() {
	secret := webhook.NewSecret()
	body, _ := webhook.Encode(webhook.Event{
		ID: "e-1", Source: "https://school.example",
		Type: "kanban.section.joined", Time: time.Now(), Data: map[string]any{"role": "student"},
	})
	header, _ := webhook.Sign("e-1", time.Now(), body, secret)
	fmt.Println(webhook.Verify(secret, header, body))
	_, err := webhook.Verify(secret, header, append(body, ' '))
	fmt.Println(err != nil)
	// Output:
	// e-1 <nil>
	// true
}
