package badges

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/lestrrat-go/jwx/v3/jwk"

	"kanban/internal/core/badge"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/wire/openbadge"
)

// What anybody may read stands below an address of the installation. It may have moved: credentials name the address
// under which they were signed for ever, and asked under that one, everything answers as it did then.

// IssuerAddress is the public profile of an issuer.
func (s *Service) IssuerAddress(id string) string { return issuerAddress(s.Public, id) }

// AwardAddress is the public page of an award.
func (s *Service) AwardAddress(id string) string { return s.Public + "/awards/" + id }

func issuerAddress(base, id string) string { return base + "/issuers/" + id }

func keyAddress(base, issuerID, keyID string) string {
	return issuerAddress(base, issuerID) + "/keys/" + keyID
}

// KeyAddress is where a key is published.
func (s *Service) KeyAddress(k badgestore.IssuerKey) string {
	return keyAddress(s.Public, k.IssuerID, k.ID)
}

func listAddress(base, purpose, issuerID string, list int64) string {
	part := "/status/"
	if purpose == badge.Suspension {
		part = "/suspensions/"
	}
	return issuerAddress(base, issuerID) + part + strconv.FormatInt(list, 10)
}

// NoteAddress notes under which address the installation is reached, and learns under which it was before.
func (s *Service) NoteAddress(ctx context.Context) error {
	if err := badgestore.NotePublicAddress(ctx, s.Store, s.Public); err != nil {
		return err
	}
	all, err := badgestore.PublicAddresses(ctx, s.Store)
	s.addresses.Store(&all)
	return err
}

// bases are the addresses under which the installation is and was reached, the one of now first.
func (s *Service) bases() []string {
	if all := s.addresses.Load(); all != nil {
		return append([]string{s.Public}, *all...)
	}
	return []string{s.Public}
}

// Base is the address under which the installation is or was reached by a scheme and a host: that of both, else of the
// host alone, and the one of now for any other. scheme is "" where it is not known.
func (s *Service) Base(scheme, host string) string {
	bases := s.bases()
	for _, wanted := range []string{scheme, ""} {
		for _, base := range bases {
			if u, err := url.Parse(base); err == nil && u.Host == host && (wanted == "" || u.Scheme == wanted) {
				return base
			}
		}
	}
	return s.Public
}

// own cuts the address off one that is this installation's, now or before.
func (s *Service) own(address string) (base, path string, ok bool) {
	for _, base := range s.bases() {
		if path, ok := strings.CutPrefix(address, base+"/"); ok {
			return base, path, true
		}
	}
	return "", "", false
}

func (s *Service) profile(base string, i badgestore.Issuer) badge.Profile {
	p := badge.Profile{
		ID: issuerAddress(base, i.ID), Type: []string{"Profile"}, Name: i.Name, URL: i.URL,
		Email: i.Email, Description: i.Description,
	}
	if i.Picture != "" {
		p.Image = badge.Picture(pictureAddress(base, i.Picture), i.Name)
	}
	return p
}

func (s *Service) achievement(base string, b badgestore.Badge) badge.Achievement {
	out := badge.Achievement{
		ID: base + "/badges/" + b.ID, Type: []string{"Achievement"}, AchievementType: "Badge",
		Name: b.Name, Description: b.Description, Criteria: badge.Criteria{Narrative: b.Criteria},
		Image: badge.Picture(pictureAddress(base, b.Picture), b.Name), Tag: b.Tags,
	}
	if len(b.Asks) > 0 {
		out.Criteria.ID = out.ID + "/criteria"
	}
	if b.Version > 1 {
		out.Version = strconv.Itoa(b.Version)
	}
	for _, x := range b.Alignments {
		out.Alignment = append(out.Alignment, badge.Alignment{
			Type: []string{"Alignment"}, Name: x.Name, URL: x.Address, Description: x.Description,
			Framework: x.Framework, Code: x.Code,
		})
	}
	return out.Level(b.Level)
}

// Document is an issuer's public document: its profile, and the keys that are its own, the retired ones too
// (Controlled Identifiers 1.0, 2).
type Document struct {
	Context []string `json:"@context"`
	badge.Profile
	AlsoKnownAs []string `json:"alsoKnownAs,omitempty"`
	Methods     []any    `json:"verificationMethod"`
	Assertion   []string `json:"assertionMethod"`
}

// jsonMethod is a verification method whose key is a JWK (Controlled Identifiers 1.0, 2.2.3).
type jsonMethod struct {
	ID         string  `json:"id"`
	Type       string  `json:"type"`
	Controller string  `json:"controller"`
	Key        jwk.Key `json:"publicKeyJwk"`
}

// The contexts of such a document: DID documents say in the same terms whose a key is, and are known everywhere.
var documentContexts = []string{
	"https://www.w3.org/ns/did/v1", openbadge.MultikeyContext, "https://w3id.org/security/jwk/v1",
}

// Issuer is the public document of an issuer.
func (s *Service) Issuer(ctx context.Context, base, issuerID string) (d Document, err error) {
	i, err := badgestore.FindIssuer(ctx, s.Store, issuerID)
	if err != nil {
		return d, err
	}
	d = Document{Context: append(slices.Clip(documentContexts), badge.Contexts[1]), Profile: s.profile(base, i)}
	if did := didOf(base, issuerID); did != "" {
		d.AlsoKnownAs = []string{did}
	}
	address := issuerAddress(base, issuerID)
	d.Methods, d.Assertion, err = s.methods(ctx, issuerID, address, address+"/keys/")
	return d, err
}

// didOf is an issuer's did:web, which leads to its document over https only; "" where the installation has no https
// (did:web, 3.1).
func didOf(base, issuerID string) string {
	rest, ok := strings.CutPrefix(issuerAddress(base, issuerID), "https://")
	if !ok {
		return ""
	}
	host, path, _ := strings.Cut(rest, "/")
	return "did:web:" + strings.ReplaceAll(host, ":", "%3A") + ":" + strings.ReplaceAll(path, "/", ":")
}

// IssuerDID is an issuer's did:web; "" where the installation has no https.
func (s *Service) IssuerDID(id string) string { return didOf(s.Public, id) }

// DID is an issuer's DID document, with the same keys; there is none over http.
func (s *Service) DID(ctx context.Context, base, issuerID string) (d Document, err error) {
	i, err := badgestore.FindIssuer(ctx, s.Store, issuerID)
	if err != nil {
		return d, err
	}
	did := didOf(base, issuerID)
	if did == "" {
		return d, db.ErrNotFound
	}
	d = Document{
		Context: documentContexts,
		Profile: badge.Profile{ID: did, Name: i.Name}, AlsoKnownAs: []string{issuerAddress(base, issuerID)},
	}
	d.Methods, d.Assertion, err = s.methods(ctx, issuerID, did, did+"#")
	return d, err
}

// methods are the verification methods of an issuer: Multikeys for proofs inside credentials, JWKs for tokens.
func (s *Service) methods(ctx context.Context, issuerID, controller, prefix string) (all []any, ids []string,
	err error,
) {
	keys, err := badgestore.IssuerKeys(ctx, s.Store, issuerID)
	if err != nil {
		return nil, nil, err
	}
	all, ids = []any{}, []string{}
	for _, k := range keys {
		method, err := s.method(controller, prefix+k.ID, k)
		if err != nil {
			return nil, nil, err
		}
		all, ids = append(all, method), append(ids, prefix+k.ID)
	}
	return all, ids, nil
}

func (s *Service) method(controller, id string, k badgestore.IssuerKey) (any, error) {
	key, err := s.unsealed(k)
	if err != nil {
		return nil, err
	}
	if openbadge.Algorithm(k.Algorithm) == openbadge.EdDSA {
		text, err := openbadge.Multibase(key)
		return openbadge.Method{ID: id, Type: openbadge.Multikey, Controller: controller, Multibase: text}, err
	}
	public, err := openbadge.Public(key)
	return jsonMethod{ID: id, Type: "JsonWebKey", Controller: controller, Key: public}, err
}

// Achievement is the public description of a badge.
func (s *Service) Achievement(ctx context.Context, base, badgeID string) (badge.Achievement, error) {
	b, err := badgestore.FindBadge(ctx, s.Store, badgeID)
	return s.achievement(base, b), err
}

// BadgeCriteria is what a badge asks for, as programs read it: all of what it lists.
type BadgeCriteria struct {
	ID        string          `json:"id"`
	Badge     string          `json:"badge"` // its address
	Narrative string          `json:"narrative"`
	All       []SaidCriterion `json:"all"`
}

// SaidCriterion is a criterion, and the same in words.
type SaidCriterion struct {
	stage.Criterion
	Says string `json:"says"`
}

// CriteriaOf gives what a badge asks for; ErrNotFound for one that people judge.
func (s *Service) CriteriaOf(ctx context.Context, base, badgeID string) (c BadgeCriteria, err error) {
	b, err := badgestore.FindBadge(ctx, s.Store, badgeID)
	if err != nil {
		return c, err
	}
	if len(b.Asks) == 0 {
		return c, db.ErrNotFound
	}
	says, err := s.Criteria.Say(ctx, b.Asks)
	if err != nil {
		return c, err
	}
	c = BadgeCriteria{
		ID: base + "/badges/" + b.ID + "/criteria", Badge: base + "/badges/" + b.ID,
		Narrative: b.Criteria,
	}
	for i, x := range b.Asks {
		c.All = append(c.All, SaidCriterion{x, says[i]})
	}
	return c, nil
}

// PublicKey is a key of an issuer as it is found at its address: a JWK, or a Multikey, by which credentials are
// checked.
func (s *Service) PublicKey(ctx context.Context, base, issuerID, keyID string) (any, error) {
	keys, err := badgestore.IssuerKeys(ctx, s.Store, issuerID)
	if err != nil {
		return nil, err
	}
	for _, k := range keys {
		if k.ID != keyID {
			continue
		}
		method, err := s.method(issuerAddress(base, issuerID), keyAddress(base, issuerID, k.ID), k)
		if m, ok := method.(openbadge.Method); ok {
			m.Context = openbadge.MultikeyContext
			return m, err
		}
		if err != nil {
			return nil, err
		}
		return s.publicJWK(base, k)
	}
	return nil, db.ErrNotFound
}

func (s *Service) publicJWK(base string, k badgestore.IssuerKey) (jwk.Key, error) {
	key, err := s.unsealed(k)
	if err != nil {
		return nil, err
	}
	public, err := openbadge.Public(key)
	if err != nil {
		return nil, err
	}
	return openbadge.Named(public, keyAddress(base, k.IssuerID, k.ID))
}

// KeySet is all keys of an issuer, the retired ones too, under the ids by which credentials name them (RFC 7517 5).
func (s *Service) KeySet(ctx context.Context, base, issuerID string) (jwk.Set, error) {
	keys, err := s.Keys(ctx, issuerID)
	if err != nil {
		return nil, err
	}
	set := jwk.NewSet()
	for _, k := range keys {
		key, err := s.publicJWK(base, k)
		if err != nil {
			return nil, err
		}
		if err := set.AddKey(key); err != nil {
			return nil, err
		}
	}
	return set, nil
}

// entries says where an award's revocation and suspension are to be seen.
func (s *Service) entries(issuerID string, number int64) (all []badge.Status) {
	for _, purpose := range []string{badge.Revocation, badge.Suspension} {
		all = append(all, badge.StatusAt(purpose, listAddress(s.Public, purpose, issuerID, number/badge.Entries),
			int(number%badge.Entries)))
	}
	return all
}

// StatusList is one of an issuer's lists of what is revoked, or suspended, by its number: signed as a token, or with a
// proof inside.
func (s *Service) StatusList(ctx context.Context, base, purpose, issuerID, number string, inside bool) ([]byte,
	error,
) {
	list, err := strconv.ParseInt(number, 10, 32)
	if err != nil || list < 0 || strconv.FormatInt(list, 10) != number {
		return nil, db.ErrNotFound
	}
	highest, err := badgestore.LastAwardNumber(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	if list > highest/badge.Entries {
		return nil, db.ErrNotFound // nothing stands there yet
	}
	if _, err := badgestore.FindIssuer(ctx, s.Store, issuerID); err != nil {
		return nil, err
	}
	numbers, err := badgestore.NumbersSet(ctx, s.Store, issuerID, purpose == badge.Suspension, list*badge.Entries,
		(list+1)*badge.Entries)
	if err != nil {
		return nil, err
	}
	places := make([]int, len(numbers))
	for i, n := range numbers {
		places[i] = int(n - list*badge.Entries)
	}
	l, err := badge.BuildStatusList(purpose, listAddress(base, purpose, issuerID, list), issuerAddress(base, issuerID),
		places, s.Clock.Now())
	if err != nil {
		return nil, err
	}
	return s.signList(ctx, base, issuerID, l, inside)
}

func (s *Service) signList(ctx context.Context, base, issuerID string, l badge.StatusList, inside bool) ([]byte,
	error,
) {
	if inside {
		key, err := s.signer(ctx, issuerID, openbadge.EdDSA)
		if err != nil {
			return nil, err
		}
		return openbadge.Embed(l, key, keyAddress(base, issuerID, openbadge.ID(key)), l.ValidFrom)
	}
	key, err := s.signer(ctx, issuerID, openbadge.RS256)
	if err != nil {
		return nil, err
	}
	token, err := openbadge.SignList(l, key, keyAddress(base, issuerID, openbadge.ID(key)))
	return []byte(token), err
}

// asked gives what is served at an address of this installation, without asking over the network.
func (s *Service) asked(ctx context.Context, base, path string) ([]byte, error) {
	parts := strings.Split(path, "/")
	is := func(n int, first, third string) bool {
		return len(parts) == n && parts[0] == first && (n < 3 || parts[2] == third)
	}
	var record any
	var err error
	switch {
	case is(2, "issuers", ""):
		record, err = s.Issuer(ctx, base, parts[1])
	case is(4, "issuers", "keys"):
		record, err = s.PublicKey(ctx, base, parts[1], parts[3])
	case is(4, "issuers", "status"):
		return s.StatusList(ctx, base, badge.Revocation, parts[1], parts[3], false)
	case is(4, "issuers", "suspensions"):
		return s.StatusList(ctx, base, badge.Suspension, parts[1], parts[3], false)
	default:
		return nil, fmt.Errorf("%s: %w", path, db.ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	return json.Marshal(record)
}
