package roster

import (
	"strings"
	"testing"

	"pgregory.net/rapid"
)

// The short way and the long way give the same key.
func TestPlainKeyAgreesWithGeneralKey(t *testing.T) {
	part := rapid.StringMatching(`[A-Za-z0-9._+-]{0,12}`)
	rapid.Check(t, func(t *rapid.T) {
		address := part.Draw(t, "local") + rapid.SampledFrom([]string{"@", "", "@@", " @"}).Draw(t,
			"at") + part.Draw(t, "domain") + rapid.SampledFrom([]string{
			".example", "", ".ex-ample",
			".",
		}).Draw(t, "end")
		key, ok := plainKey(address)
		if !ok {
			return
		}
		general, err := generalKey(address)
		if err != nil || general != key {
			t.Fatalf("%q: %q by the short way, %q (%v) by the long way", address, key, general, err)
		}
	})
}

func BenchmarkAddressKey(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		if _, err := AddressKey("learner" + strings.Repeat("x", 5) + "@fernmoor.example"); err != nil {
			b.Fatal(err)
		}
	}
}
