package openbadge_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/badge"
	"kanban/internal/wire/openbadge"
)

// fetched answers addresses with what is kept for them.
type fetched map[string]any

func (f fetched) Fetch(_ context.Context, address string) ([]byte, error) {
	switch x := f[address].(type) {
	case nil:
		return nil, fmt.Errorf("%w: %s", openbadge.ErrNothing, address)
	case error:
		return nil, x
	case string:
		return []byte(x), nil
	case []byte:
		return x, nil
	default:
		return json.Marshal(x)
	}
}

// knownKey is the key of the known answers: its seed is the bytes 1 to 32.
func knownKey(t require.TestingT) jwk.Key {
	seed := make([]byte, ed25519.SeedSize)
	for i := range seed {
		seed[i] = byte(i + 1)
	}
	key, err := jwk.Import(ed25519.NewKeyFromSeed(seed))
	require.NoError(t, err)
	return key
}

const (
	knownMultikey = "z6MkneMkZqwqRiU5mJzSG3kDwzt9P8C59N4NGTfBLfSGE7c7"
	knownProof    = "z48vtaQutby8CN9f6qkyjRmLCa7GzdGoBTh4EAQLJtMDSY3URLUoLKNBtXpaAyqtFfSWwuPgeEMGriaJw3fA1syQ8"
	knownDID      = "did:web:badges.example.org"
	knownDocument = `{
  "@context": ["https://www.w3.org/ns/credentials/v2", "https://purl.imsglobal.org/spec/ob/v3p0/context-3.0.3.json"],
  "id": "https://badges.example.org/c/1",
  "type": ["VerifiableCredential", "OpenBadgeCredential"],
  "name": "Fractions",
  "issuer": {"id": "did:web:badges.example.org", "type": ["Profile"], "name": "Example School"},
  "validFrom": "2026-01-15T09:00:00Z",
  "credentialSubject": {
    "type": ["AchievementSubject"],
    "identifier": [{"type": "IdentityObject", "hashed": true, "identityHash": "sha256$b30ecdf569a8ea6cfbb956fc40a0ef8ad75cad3c32748a1fef83f8964453bf7a", "identityType": "emailAddress", "salt": "pepper"}],
    "achievement": {"id": "https://badges.example.org/a/1", "type": ["Achievement"], "name": "Fractions", "description": "Adds fractions.", "criteria": {"narrative": "Score 80 or more."}}
  },
  "credentialStatus": {"id": "https://badges.example.org/s/1#42", "type": "BitstringStatusListEntry", "statusPurpose": "revocation", "statusListIndex": "42", "statusListCredential": "https://badges.example.org/s/1"}
}`
)

var knownTime = time.Date(2026, 1, 15, 9, 0, 1, 0, time.UTC)

// Where the known issuer's document is, and an empty status list of its.
func knownPlaces(t require.TestingT, set ...int) fetched {
	key := knownKey(t)
	list, err := badge.BuildStatusList(badge.Revocation, "https://badges.example.org/s/1", knownDID, set, knownTime)
	require.NoError(t, err)
	signed, err := openbadge.Embed(list, key, knownDID+"#key-1", knownTime)
	require.NoError(t, err)
	return fetched{
		"https://badges.example.org/.well-known/did.json": map[string]any{
			"id": knownDID, "assertionMethod": []string{"#key-1"},
			"verificationMethod": []openbadge.Method{{
				ID: knownDID + "#key-1", Type: openbadge.Multikey, Controller: knownDID, Multibase: knownMultikey,
			}},
		},
		"https://badges.example.org/s/1": signed,
	}
}

func knownCredential(t require.TestingT) []byte {
	signed, err := openbadge.Embed(json.RawMessage(knownDocument), knownKey(t), knownDID+"#key-1", knownTime)
	require.NoError(t, err)
	return signed
}

// The known answer of the cryptosuite eddsa-rdfc-2022 for a badge.
func TestEmbedGivesTheKnownSignature(t *testing.T) {
	multikey, err := openbadge.Multibase(knownKey(t))
	require.NoError(t, err)
	assert.Equal(t, knownMultikey, multikey)
	var signed struct {
		Proof struct {
			Type, Cryptosuite, ProofPurpose, ProofValue string
		}
	}
	credential := knownCredential(t)
	require.NoError(t, json.Unmarshal(credential, &signed))
	assert.Equal(t, knownProof, signed.Proof.ProofValue)
	seen := openbadge.Examine(t.Context(), credential, knownTime, knownPlaces(t))
	assert.Equal(t, openbadge.Valid, seen.Verdict, "%+v", seen.Checks)
	assert.Equal(t, "Data Integrity", seen.Secured)
	for _, c := range seen.Checks {
		assert.Equal(t, openbadge.Passed, c.Outcome, c.What)
	}
	assert.True(t, seen.Seen.BelongsTo("ana@example.org"))
	assert.False(t, seen.Seen.BelongsTo("bea@example.org"))
	assert.Equal(t, "Score 80 or more.", seen.Seen.Achievement.Criteria)
}

// Each way in which a credential, its keys or its status list can be wrong has its own answer.
func TestExamineSaysWhatIsWrong(t *testing.T) {
	good := string(knownCredential(t))
	did := "https://badges.example.org/.well-known/did.json"
	list := "https://badges.example.org/s/1"
	in := func(places func(fetched)) fetched {
		f := knownPlaces(t)
		places(f)
		return f
	}
	same := knownPlaces(t)
	replaced := func(old, with string) string {
		require.Contains(t, good, old)
		return strings.Replace(good, old, with, 1)
	}
	otherList := func(issuer string, at time.Time, purpose, id string) []byte {
		l, err := badge.BuildStatusList(purpose, id, issuer, nil, at)
		require.NoError(t, err)
		signed, err := openbadge.Embed(l, knownKey(t), knownDID+"#key-1", at)
		require.NoError(t, err)
		return signed
	}
	for name, c := range map[string]struct {
		file    string
		at      time.Time
		places  fetched
		verdict openbadge.Verdict
		why     string
	}{
		"revoked":               {good, knownTime, knownPlaces(t, 42), openbadge.Revoked, "revoked it"},
		"somebody else's entry": {good, knownTime, knownPlaces(t, 41, 43), openbadge.Valid, ""},
		"not yet": {
			good, knownTime.Add(-time.Hour), same,
			openbadge.NotYetValid, "valid from 15 January 2026",
		},
		"another name": {
			replaced("Fractions", "Factions"), knownTime, same,
			openbadge.Altered, "changed after it was signed",
		},
		"a member added": {
			replaced(`"name":"Fractions",`, `"name":"Fractions", "nickname": "x",`), knownTime, same,
			openbadge.Altered, "cannot have signed",
		},
		"a type added": {
			replaced(`["Profile"]`, `["Profile", "Saint"]`), knownTime, same,
			openbadge.Altered, "no full address",
		},
		"evidence added": {
			replaced(`"name":"Fractions",`, `"name":"Fractions", "evidence": [{"id": "here", "type": ["Evidence"]}],`), knownTime, same,
			openbadge.Altered, "no full address",
		},
		"an end added": {
			replaced(`"validFrom"`, `"validUntil": "2030-01-01T00:00:00Z", "validFrom"`), knownTime, same,
			openbadge.Altered, "changed",
		},
		"a vocabulary of its": {
			replaced(`"@context":["https://www.w3.org/ns/credentials/v2",`, `"@context":["https://www.w3.org/ns/credentials/v2",{"x":"https://x.example"},`), knownTime, same,
			openbadge.Unchecked, "vocabulary of its own",
		},
		"another purpose": {
			replaced("assertionMethod", "authentication"), knownTime, same,
			openbadge.Altered, "made for",
		},
		"another cryptosuite": {
			replaced("eddsa-rdfc-2022", "ecdsa-sd-2023"), knownTime, same,
			openbadge.Unchecked, "not known here",
		},
		"another issuer": {
			replaced(`"did:web:badges.example.org","type":["Profile"]`, `"did:web:else.example", "type": ["Profile"]`), knownTime, same,
			openbadge.UnknownIssuer, "the issuer is did:web:else.example",
		},
		"another key": {
			replaced("#key-1\",\"proofPurpose", "#key-2\",\"proofPurpose"), knownTime, same,
			openbadge.UnknownIssuer, "does not list",
		},
		"an issuer that is gone": {
			good, knownTime, in(func(f fetched) { delete(f, did) }),
			openbadge.UnknownIssuer, "nothing at",
		},
		"an issuer not reached": {
			good, knownTime, in(func(f fetched) { f[did] = context.DeadlineExceeded }),
			openbadge.Unchecked, "cannot be had",
		},
		"an issuer that babbles": {
			good, knownTime, in(func(f fetched) { f[did] = "<html>" }),
			openbadge.Unchecked, "cannot be read",
		},
		"a key withdrawn": {good, knownTime, in(func(f fetched) {
			d := maps.Clone(f[did].(map[string]any))
			d["assertionMethod"] = []string{}
			f[did] = d
		}), openbadge.UnknownIssuer, "does not list"},
		"somebody else's document": {good, knownTime, in(func(f fetched) {
			d := maps.Clone(f[did].(map[string]any))
			d["id"] = "did:web:else.example"
			f[did] = d
		}), openbadge.UnknownIssuer, "says that it is did:web:else.example's"},
		"list not reached": {
			good, knownTime, in(func(f fetched) { f[list] = context.DeadlineExceeded }),
			openbadge.Unchecked, "cannot be had",
		},
		"list gone": {
			good, knownTime, in(func(f fetched) { delete(f, list) }),
			openbadge.Unchecked, "cannot be had",
		},
		"list of another": {
			good, knownTime, in(func(f fetched) { f[list] = otherList("did:web:else.example", knownTime, "revocation", list) }),
			openbadge.Unchecked, "not by its issuer",
		},
		"list unsigned": {
			good, knownTime, in(func(f fetched) { f[list] = `{"issuer":"` + knownDID + `"}` }),
			openbadge.Unchecked, "cannot be read",
		},
		"list altered": {
			good, knownTime, in(func(f fetched) {
				f[list] = bytes.Replace(f[list].([]byte), []byte("2026"), []byte("2025"), 1)
			}),
			openbadge.Unchecked, "does not verify",
		},
		"list of a purpose": {
			good, knownTime, in(func(f fetched) { f[list] = otherList(knownDID, knownTime, "suspension", list) }),
			openbadge.Unchecked, "expected",
		},
		"list elsewhere": {
			good, knownTime, in(func(f fetched) { f[list] = otherList(knownDID, knownTime, "revocation", list+"x") }),
			openbadge.Unchecked, "expected",
		},
		"nothing": {"", knownTime, same, openbadge.Unchecked, "neither a picture"},
		"a page":  {"<html></html>", knownTime, same, openbadge.Unchecked, "no SVG"},
		"JSON":    {`{"a":1}`, knownTime, same, openbadge.Unchecked, "no proof"},
		"another credential": {
			replaced(`"OpenBadgeCredential"`, `"DriversLicence"`), knownTime, same, openbadge.Unchecked,
			"no badge of Open Badges 3.0",
		},
	} {
		t.Run(name, func(t *testing.T) {
			seen := openbadge.Examine(t.Context(), []byte(c.file), c.at, c.places)
			assert.Equal(t, c.verdict, seen.Verdict, "%+v", seen.Checks)
			assert.Contains(t, seen.Why, c.why)
			if c.verdict != openbadge.Valid {
				assert.True(
					t,
					slices.ContainsFunc(
						seen.Checks,
						func(k openbadge.Check) bool { return k.Outcome != openbadge.Passed },
					),
				)
			}
		})
	}
}

// Whatever one changes in a signed credential, it does not verify any more, unless it still says the same.
func TestNoChangedCredentialVerifies(t *testing.T) {
	good, places := knownCredential(t), knownPlaces(t)
	var doc any
	require.NoError(t, json.Unmarshal(good, &doc))
	rapid.Check(t, func(t *rapid.T) {
		changed := bytes.Clone(good)
		i := rapid.IntRange(0, len(good)-1).Draw(t, "at")
		changed[i] = rapid.Byte().Draw(t, "byte")
		var now any
		if json.Unmarshal(changed, &now) == nil && assert.ObjectsAreEqual(doc, now) {
			t.Skip("says the same")
		}
		seen := openbadge.Examine(t.Context(), changed, knownTime, places)
		require.NotEqual(t, openbadge.Valid, seen.Verdict, "byte %d: %s", i, changed)
	})
}

// Members that are left out, doubled or put elsewhere do not verify either.
func TestNoCredentialWithOtherMembersVerifies(t *testing.T) {
	places := knownPlaces(t)
	var tried int
	var walk func(root, at map[string]any)
	walk = func(root, at map[string]any) {
		for key, value := range at {
			for _, with := range []any{
				nil, "x", "https://x.example/", 7, []any{}, []any{value, "https://x.example/"}, map[string]any{},
			} {
				if at[key] = with; with == nil {
					delete(at, key)
				}
				text, err := json.Marshal(root)
				require.NoError(t, err)
				seen := openbadge.Examine(t.Context(), text, knownTime, places)
				assert.NotEqual(t, openbadge.Valid, seen.Verdict, "%s = %v: %s", key, with, text)
				tried++
			}
			at[key] = value
			if inner, ok := value.(map[string]any); ok {
				walk(root, inner)
			}
			if list, ok := value.([]any); ok {
				for _, x := range list {
					if inner, ok := x.(map[string]any); ok {
						walk(root, inner)
					}
				}
			}
		}
	}
	var doc map[string]any
	require.NoError(t, json.Unmarshal(knownCredential(t), &doc))
	walk(doc, doc)
	assert.Greater(t, tried, 200)
}

// A graph made to keep a verifier busy is refused at once.
func TestPoisonedGraphIsRefused(t *testing.T) {
	var doc map[string]any
	require.NoError(t, json.Unmarshal(knownCredential(t), &doc))
	var alike []any
	for range 14 {
		alike = append(alike, map[string]any{"type": []string{"Evidence"}})
	}
	doc["evidence"] = alike
	text, err := json.Marshal(doc)
	require.NoError(t, err)
	seen := openbadge.Examine(t.Context(), text, knownTime, knownPlaces(t))
	assert.Equal(t, openbadge.Altered, seen.Verdict)
	assert.Contains(t, seen.Why, "look alike")
}
