// Package badge builds Open Badges 3.0 credentials out of awards. It signs
// nothing and reads no clock; signing is the business of wire/openbadge.
//
//	credential := badge.Build(award)
package badge

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"
)

// Contexts of a credential, in the order that the standard demands (Open Badges
// 3.0, "OpenBadgeCredential").
var Contexts = []string{
	"https://www.w3.org/ns/credentials/v2",
	"https://purl.imsglobal.org/spec/ob/v3p0/context-3.0.3.json",
}

// Credential is an OpenBadgeCredential (VC Data Model 2.0, Open Badges 3.0).
type Credential struct {
	Context   []string  `json:"@context"`
	ID        string    `json:"id"`
	Type      []string  `json:"type"`
	Name      string    `json:"name"`
	Image     *Image    `json:"image,omitempty"`
	Issuer    Profile   `json:"issuer"`
	ValidFrom time.Time `json:"validFrom"`
	// ValidUntil is when it expires, nil for never.
	ValidUntil *time.Time `json:"validUntil,omitempty"`
	Subject    Subject    `json:"credentialSubject"`
	Evidence   []Evidence `json:"evidence,omitempty"`
	Status     []Status   `json:"credentialStatus,omitempty"`
}

// Image is a picture at an address, or in a data: URI.
type Image struct {
	ID      string `json:"id"`
	Type    string `json:"type"`
	Caption string `json:"caption,omitempty"`
}

// Picture names the picture at an address.
func Picture(address, caption string) *Image {
	return &Image{ID: address, Type: "Image", Caption: caption}
}

// Profile is the issuer.
type Profile struct {
	ID          string   `json:"id"`
	Type        []string `json:"type,omitempty"`
	Name        string   `json:"name,omitempty"`
	URL         string   `json:"url,omitempty"`
	Email       string   `json:"email,omitempty"`
	Description string   `json:"description,omitempty"`
	Image       *Image   `json:"image,omitempty"`
}

// Subject is who holds the achievement, given by a salted hash of the address.
type Subject struct {
	Type        []string    `json:"type"`
	Identifier  []Identity  `json:"identifier"`
	Achievement Achievement `json:"achievement"`
	Result      []Result    `json:"result,omitempty"`
	Narrative   string      `json:"narrative,omitempty"`
}

// Identity is an IdentityObject.
type Identity struct {
	Type         string `json:"type"`
	Hashed       bool   `json:"hashed"`
	IdentityHash string `json:"identityHash"`
	IdentityType string `json:"identityType"`
	Salt         string `json:"salt"`
}

// Achievement is what was achieved.
type Achievement struct {
	ID              string   `json:"id"`
	Type            []string `json:"type"`
	AchievementType string   `json:"achievementType,omitempty"`
	Name            string   `json:"name"`
	Description     string   `json:"description"`
	Criteria        Criteria `json:"criteria"`
	Image           *Image   `json:"image,omitempty"`
	// Version is of the achievement, when it was changed after it had been awarded.
	Version   string      `json:"version,omitempty"`
	Tag       []string    `json:"tag,omitempty"`
	Alignment []Alignment `json:"alignment,omitempty"`
	// Results are what is said of how well it was achieved.
	Results []ResultDescription `json:"resultDescription,omitempty"`
}

// ResultDescription says what a result of an achievement is (Open Badges 3.0, "ResultDescription").
type ResultDescription struct {
	ID            string   `json:"id"`
	Type          []string `json:"type"`
	Name          string   `json:"name"`
	ResultType    string   `json:"resultType"`
	RequiredValue string   `json:"requiredValue,omitempty"`
}

// Result is one of somebody.
type Result struct {
	Type        []string `json:"type"`
	Description string   `json:"resultDescription"`
	Value       string   `json:"value"`
}

// Level gives an achievement its level, as a result that everybody who achieves it has.
func (a Achievement) Level(level string) Achievement {
	if level != "" {
		a.Results = []ResultDescription{{
			ID: a.ID + "#level", Type: []string{"ResultDescription"}, Name: "Level", ResultType: "PerformanceLevel",
			RequiredValue: level,
		}}
	}
	return a
}

// results are those that an achievement requires.
func (a Achievement) results() (all []Result) {
	for _, r := range a.Results {
		if r.RequiredValue != "" {
			all = append(all, Result{[]string{"Result"}, r.ID, r.RequiredValue})
		}
	}
	return all
}

// Alignment says to which goal of a framework an achievement belongs.
type Alignment struct {
	Type        []string `json:"type"`
	Name        string   `json:"targetName"`
	URL         string   `json:"targetUrl"`
	Description string   `json:"targetDescription,omitempty"`
	Framework   string   `json:"targetFramework,omitempty"`
	Code        string   `json:"targetCode,omitempty"`
}

// Criteria says what one has to do.
type Criteria struct {
	ID        string `json:"id,omitempty"` // where programs read it
	Narrative string `json:"narrative"`
}

// Evidence is something that shows that it was achieved.
type Evidence struct {
	ID        string   `json:"id,omitempty"`
	Type      []string `json:"type"`
	Narrative string   `json:"narrative,omitempty"`
}

// Award is what a credential is built from.
type Award struct {
	ID          string // address of the award, the credential's id
	Issuer      Profile
	Achievement Achievement
	// Address is the learner's e-mail address; only its salted hash is published.
	Address string
	// Salt makes the hash of each award different. Not empty.
	Salt string
	At   time.Time
	// Until is when it expires; zero for never.
	Until time.Time
	// Note of whoever awarded it, for everybody who looks.
	Note     string
	Evidence []Evidence
	// Status is where its revocation and suspension are to be seen.
	Status []Status
}

// HoldsUntil says until when an award holds that is given at a time: so many days, 0 for good, and to the end of a
// last day, as 2027-07-31, "" for none; whichever is first. Zero is for good.
func HoldsUntil(at time.Time, days int, lastDay string) (until time.Time) {
	if days > 0 {
		until = at.AddDate(0, 0, days)
	}
	if day, err := time.Parse(time.DateOnly, lastDay); err == nil {
		if end := day.AddDate(0, 0, 1).Add(-time.Second); until.IsZero() || end.Before(until) {
			until = end
		}
	}
	return until
}

// renewsBefore is how long before its end an award of a renewable badge is renewed at the earliest, in days.
const renewsBefore = 60

// Renews reports whether an award that ends can be renewed at a time; until is nil for one that never ends.
func Renews(until *time.Time, at time.Time) bool {
	return until != nil && !at.Before(until.AddDate(0, 0, -renewsBefore))
}

// ErrAward is wrapped by every error of Build.
var ErrAward = errors.New("award cannot become a credential")

// Build makes the credential, or says which member is missing or wrong.
func Build(a Award) (Credential, error) {
	if err := a.check(); err != nil {
		return Credential{}, err
	}
	a.Issuer.Type = []string{"Profile"}
	a.Achievement.Type = []string{"Achievement"}
	for i := range a.Evidence {
		a.Evidence[i].Type = []string{"Evidence"}
	}
	for i := range a.Achievement.Alignment {
		a.Achievement.Alignment[i].Type = []string{"Alignment"}
	}
	c := Credential{
		Context:   Contexts,
		ID:        a.ID,
		Type:      []string{"VerifiableCredential", "OpenBadgeCredential"},
		Name:      a.Achievement.Name,
		Image:     a.Achievement.Image,
		Issuer:    a.Issuer,
		ValidFrom: a.At.UTC().Truncate(time.Second),
		Subject: Subject{
			Type: []string{"AchievementSubject"},
			Identifier: []Identity{{
				Type: "IdentityObject", Hashed: true, IdentityType: "emailAddress",
				IdentityHash: IdentityHash(a.Address, a.Salt), Salt: a.Salt,
			}},
			Achievement: a.Achievement,
			Narrative:   a.Note,
			Result:      a.Achievement.results(),
		},
		Evidence: a.Evidence,
		Status:   a.Status,
	}
	if !a.Until.IsZero() {
		until := a.Until.UTC().Truncate(time.Second)
		c.ValidUntil = &until
	}
	return c, nil
}

func (a Award) check() error {
	for what, address := range map[string]string{"award": a.ID, "issuer": a.Issuer.ID, "badge": a.Achievement.ID} {
		if u, err := url.Parse(address); err != nil || !u.IsAbs() {
			return fmt.Errorf("%w: the address of the %s is %q, which is not a full address", ErrAward, what, address)
		}
	}
	if !a.Until.IsZero() && !a.Until.After(a.At) {
		return fmt.Errorf("%w: it would expire before it holds", ErrAward)
	}
	for what, text := range map[string]string{
		"badge name": a.Achievement.Name, "badge description": a.Achievement.Description,
		"badge criteria": a.Achievement.Criteria.Narrative, "learner's address": a.Address, "salt": a.Salt,
	} {
		if strings.TrimSpace(text) == "" {
			return fmt.Errorf("%w: the %s is missing", ErrAward, what)
		}
	}
	return nil
}

// IdentityHash is the hash under which an address is published: "sha256$" and
// the hexadecimal SHA-256 of address and salt (Open Badges 3.0,
// "IdentityObject"). The address is trimmed and lower-cased first.
func IdentityHash(address, salt string) string {
	sum := sha256.Sum256([]byte(strings.ToLower(strings.TrimSpace(address)) + salt))
	return "sha256$" + hex.EncodeToString(sum[:])
}
