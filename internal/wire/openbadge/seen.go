package openbadge

import (
	"cmp"
	"crypto/md5" //nolint:gosec // the standard's older way to hash an address, only read
	"crypto/sha256"
	"encoding/hex"
	"strings"
	"time"
)

// Seen is what a credential of any issuer says. Everything in it is text of strangers.
type Seen struct {
	ID                  string
	Issuer              SeenIssuer
	Achievement         SeenAchievement
	Narrative           string
	Evidence            []SeenEvidence
	Results             []SeenResult
	ValidFrom           time.Time
	ValidUntil          time.Time // zero when it has no end
	Status              []SeenStatus
	identities          []identity
	validFrom, validEnd string
}

// SeenIssuer is who says to have awarded it.
type SeenIssuer struct{ ID, Name, URL string }

// SeenAchievement is what it was awarded for; its criteria are a text, or the address of one.
type SeenAchievement struct{ Name, Description, Criteria string }

// SeenEvidence is a piece of evidence.
type SeenEvidence struct{ ID, Name, Narrative string }

// SeenResult is a result that was reached.
type SeenResult struct{ Name, Value, Status string }

// SeenStatus says where to look whether it still holds.
type SeenStatus struct{ Type, Purpose, Index, List string }

type identity struct {
	hashed     bool
	hash, salt string
	kind       string
}

// HasAddress reports whether it says whose it is by an e-mail address.
func (s Seen) HasAddress() bool {
	for _, i := range s.identities {
		if i.kind == "emailAddress" {
			return true
		}
	}
	return false
}

// BelongsTo reports whether it was given to the holder of an e-mail address, written as it is or in small letters.
func (s Seen) BelongsTo(address string) bool {
	for _, i := range s.identities {
		for _, a := range []string{strings.TrimSpace(address), strings.ToLower(strings.TrimSpace(address))} {
			if i.kind == "emailAddress" && a != "" && i.is(a) {
				return true
			}
		}
	}
	return false
}

func (i identity) is(address string) bool {
	if !i.hashed {
		return strings.EqualFold(i.hash, address)
	}
	if hash, ok := strings.CutPrefix(i.hash, "md5$"); ok {
		sum := md5.Sum([]byte(address + i.salt)) //nolint:gosec // see above
		return strings.EqualFold(hash, hex.EncodeToString(sum[:]))
	}
	hash, ok := strings.CutPrefix(i.hash, "sha256$")
	sum := sha256.Sum256([]byte(address + i.salt))
	return ok && strings.EqualFold(hash, hex.EncodeToString(sum[:]))
}

// see reads a credential as it was decoded, of the data model 2.0 or 1.1.
func see(doc map[string]any) Seen {
	subject := part(doc["credentialSubject"])
	achievement := part(subject["achievement"])
	criteria := part(achievement["criteria"])
	issuer := part(doc["issuer"])
	s := Seen{
		ID:     text(doc["id"]),
		Issuer: SeenIssuer{ID: text(issuer["id"]), Name: text(issuer["name"]), URL: text(issuer["url"])},
		Achievement: SeenAchievement{
			Name: text(achievement["name"]), Description: text(achievement["description"]),
			Criteria: cmp.Or(text(criteria["narrative"]), text(criteria["id"])),
		},
		Narrative: text(subject["narrative"]),
		validFrom: cmp.Or(text(doc["validFrom"]), text(doc["issuanceDate"])),
		validEnd:  cmp.Or(text(doc["validUntil"]), text(doc["expirationDate"])),
	}
	s.ValidFrom, _ = time.Parse(time.RFC3339, s.validFrom)
	s.ValidUntil, _ = time.Parse(time.RFC3339, s.validEnd)
	for _, x := range many(subject["identifier"]) {
		i := part(x)
		hashed, _ := i["hashed"].(bool)
		s.identities = append(s.identities, identity{
			hashed: hashed, hash: text(i["identityHash"]), salt: text(i["salt"]), kind: text(i["identityType"]),
		})
	}
	s.shown(doc, subject, achievement)
	for _, x := range many(doc["credentialStatus"]) {
		e := part(x)
		s.Status = append(s.Status, SeenStatus{
			Type: text(e["type"]), Purpose: text(e["statusPurpose"]), Index: text(e["statusListIndex"]),
			List: text(e["statusListCredential"]),
		})
	}
	return s
}

// shown reads what is shown for it: evidence, and results by their descriptions.
func (s *Seen) shown(doc, subject, achievement map[string]any) {
	for _, x := range many(doc["evidence"]) {
		e := part(x)
		s.Evidence = append(s.Evidence, SeenEvidence{
			ID: text(e["id"]), Name: text(e["name"]), Narrative: cmp.Or(text(e["narrative"]), text(e["description"])),
		})
	}
	names := map[string]string{}
	for _, x := range many(achievement["resultDescription"]) {
		names[text(part(x)["id"])] = text(part(x)["name"])
	}
	for _, x := range many(subject["result"]) {
		r := part(x)
		s.Results = append(s.Results, SeenResult{
			Name: names[text(r["resultDescription"])], Value: text(r["value"]), Status: text(r["status"]),
		})
	}
}

// many gives a member that may be one or several.
func many(x any) []any {
	switch x := x.(type) {
	case nil:
		return nil
	case []any:
		return x
	}
	return []any{x}
}

// part gives a member that is an object, the first of several, or one that is only named.
func part(x any) map[string]any {
	switch x := x.(type) {
	case map[string]any:
		return x
	case string:
		return map[string]any{"id": x}
	case []any:
		if len(x) > 0 {
			return part(x[0])
		}
	}
	return nil
}

// text gives a member that is text, the first of several, or one with a language.
func text(x any) string {
	switch x := x.(type) {
	case string:
		return x
	case []any:
		if len(x) > 0 {
			return text(x[0])
		}
	case map[string]any:
		return text(x["@value"])
	}
	return ""
}

func hasType(doc map[string]any, names ...string) bool {
	for _, t := range many(doc["type"]) {
		for _, n := range names {
			if t == n {
				return true
			}
		}
	}
	return false
}
