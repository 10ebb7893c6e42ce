package openbadge

import (
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwa"
	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/lestrrat-go/jwx/v3/jws"
	"github.com/mr-tron/base58"

	"kanban/internal/core/badge"
)

// secured is a credential with what secures it: a token, or proofs inside it.
type secured struct {
	token  []byte
	header jws.Headers
	claims map[string]any

	doc    map[string]any
	proofs []map[string]any
}

// open reads a credential; nothing is verified yet.
func (x *examiner) open(credential []byte) (map[string]any, secured, error) {
	doc, s, err := openCredential(credential)
	if s.token != nil {
		x.out.Secured = "JWT"
	} else if err == nil {
		x.out.Secured = "Data Integrity"
	}
	return doc, s, err
}

func openCredential(credential []byte) (map[string]any, secured, error) {
	if !isToken(credential) {
		doc, err := decode(credential)
		if err != nil {
			return nil, secured{}, fmt.Errorf("%w: it is neither a picture with a badge, nor a credential in JSON, nor a signed token",
				ErrInvalid)
		}
		proofs, err := proofsOf(doc)
		return doc, secured{doc: doc, proofs: proofs}, err
	}
	message, err := jws.Parse(credential, jws.WithCompact())
	if err != nil || len(message.Signatures()) != 1 {
		return nil, secured{}, fmt.Errorf("%w: it is not a signed token", ErrInvalid)
	}
	claims, err := decode(message.Payload())
	if err != nil {
		return nil, secured{}, fmt.Errorf("%w: its contents cannot be read", ErrInvalid)
	}
	return unwrapped(claims), secured{
		token: credential, header: message.Signatures()[0].ProtectedHeaders(), claims: claims,
	}, nil
}

// unwrapped gives the credential in a token: its payload itself, or, in the data model 1.1, a member of it (VC Data
// Model 1.1, 6.3.1).
func unwrapped(claims map[string]any) map[string]any {
	inner, ok := claims["vc"].(map[string]any)
	if !ok || claims["@context"] != nil {
		return claims
	}
	if text(part(inner["issuer"])["id"]) == "" {
		inner["issuer"] = claims["iss"]
	}
	if inner["id"] == nil {
		inner["id"] = claims["jti"]
	}
	for member, claim := range map[string]string{"issuanceDate": "nbf", "expirationDate": "exp"} {
		if n, ok := claims[claim].(float64); ok && inner[member] == nil {
			inner[member] = time.Unix(int64(n), 0).UTC().Format(time.RFC3339)
		}
	}
	return inner
}

// secured verifies what secures a credential with keys of its issuer, and gives the address of the key.
func (x *examiner) secured(s secured, issuer string) (string, error) {
	if s.token != nil {
		return x.token(s, issuer)
	}
	method := ""
	for _, p := range s.proofs {
		m, err := x.proof(s.doc, p, issuer)
		if err != nil {
			return "", err
		}
		method = m
	}
	return method, nil
}

// algorithms are those with which tokens may be signed (Open Badges 3.0; VC-JOSE-COSE).
var algorithms = map[jwa.SignatureAlgorithm]bool{
	jwa.RS256(): true, jwa.PS256(): true, jwa.ES256(): true, jwa.EdDSA(): true,
}

func (x *examiner) token(s secured, issuer string) (string, error) {
	alg, _ := s.header.Algorithm()
	if !algorithms[alg] {
		return "", fmt.Errorf("%w: it is signed with %q, which is not known here", errUnchecked, alg.String())
	}
	key, method, err := x.tokenKey(s, issuer)
	if err != nil {
		return "", err
	}
	if _, err := jws.Verify(s.token, jws.WithKey(alg, key)); err != nil {
		return "", fmt.Errorf("%w: the signature does not fit what it says, so it was changed after it was signed", errAltered)
	}
	return method, x.claims(s, issuer)
}

// claims compares a token's claims with the members that they mirror (Open Badges 3.0, "JSON Web Token Claims").
func (x *examiner) claims(s secured, issuer string) error {
	doc := unwrapped(s.claims)
	seen := see(doc)
	for claim, want := range map[string]string{"iss": issuer, "jti": seen.ID} {
		if have, ok := s.claims[claim]; ok && have != want {
			return fmt.Errorf("%w: its claim %s does not agree with its contents", errAltered, claim)
		}
	}
	for claim, want := range map[string]time.Time{"nbf": seen.ValidFrom, "exp": seen.ValidUntil} {
		have, ok := s.claims[claim].(float64)
		if _, there := s.claims[claim]; there && (!ok || want.IsZero() || int64(have) != want.Unix()) {
			return fmt.Errorf("%w: its claim %s does not agree with its contents", errAltered, claim)
		}
	}
	return nil
}

// proof verifies one proof inside a credential (Data Integrity 1.0, 4.4).
func (x *examiner) proof(doc, p map[string]any, issuer string) (string, error) {
	suite, method := text(p["cryptosuite"]), text(p["verificationMethod"])
	switch {
	case p["type"] != proofType || suite != suiteRDFC && suite != suiteJCS:
		return "", fmt.Errorf("%w: its proof is a %s %s, which is not known here", errUnchecked, text(p["type"]), suite)
	case p["proofPurpose"] != proofPurpose:
		return "", fmt.Errorf("%w: its proof was made for %q, not to say that it is true", errAltered, text(p["proofPurpose"]))
	case p["previousProof"] != nil || p["domain"] != nil || p["challenge"] != nil:
		return "", fmt.Errorf("%w: its proof depends on other proofs or on where it is shown", errUnchecked)
	}
	if end := text(p["expires"]); end != "" {
		if t, err := time.Parse(time.RFC3339, end); err != nil || x.at.After(t) {
			return "", fmt.Errorf("%w: its proof was good until %s", errUnchecked, end)
		}
	}
	key, err := x.keyAt(method, issuer)
	if err != nil {
		return "", err
	}
	var public ed25519.PublicKey
	if err := jwk.Export(key, &public); err != nil {
		return "", fmt.Errorf("%w: its key is of another kind than its proof", errAltered)
	}
	if suite == suiteRDFC {
		if err := knownContexts(doc["@context"]); err != nil {
			return "", fmt.Errorf("%w: %w", errUnchecked, err)
		}
	}
	sum, err := digest(doc, p)
	if err != nil {
		return "", fmt.Errorf("%w: it holds what its issuer cannot have signed: %w", errAltered, err)
	}
	value, _ := p["proofValue"].(string)
	if len(value) < 2 || len(value) > 200 || value[0] != 'z' {
		return "", fmt.Errorf("%w: its signature is not in base58btc", errAltered)
	}
	signature, err := base58.Decode(value[1:])
	if err != nil || !ed25519.Verify(public, sum, signature) {
		return "", fmt.Errorf("%w: the signature does not fit what it says, so it was changed after it was signed", errAltered)
	}
	return method, nil
}

// status looks up whether a credential was revoked or suspended.
func (x *examiner) status() {
	if len(x.out.Seen.Status) == 0 {
		x.pass(CheckStatus, "Its issuer cannot revoke it: it names no status list.")
		return
	}
	if len(x.out.Seen.Status) > 8 {
		x.fail(CheckStatus, Unchecked, Unknown, fmt.Errorf("it names %d status lists", len(x.out.Seen.Status)))
		return
	}
	fine := true
	for _, s := range x.out.Seen.Status {
		if s.Purpose == "refresh" || s.Purpose == "message" {
			continue
		}
		set, err := x.entry(s)
		switch {
		case err != nil:
			fine = false
			x.fail(CheckStatus, Unchecked, Unknown, err)
		case set && s.Purpose == badge.Suspension:
			fine = false
			x.fail(CheckStatus, Suspended, Failed, errors.New("its issuer suspended it: it does not hold for now"))
		case set:
			fine = false
			x.fail(CheckStatus, Revoked, Failed, errors.New("its issuer revoked it: it does not hold any more"))
		}
	}
	if fine {
		x.pass(CheckStatus, "Its issuer's status list says that it was neither revoked nor suspended.")
	}
}

// entry looks one entry up in its status list, which must be by the same issuer (Bitstring Status List 1.0, 3.2).
func (x *examiner) entry(s SeenStatus) (bool, error) {
	if s.Type != badge.StatusEntry || s.Purpose != badge.Revocation && s.Purpose != badge.Suspension {
		return false, fmt.Errorf("its status is told by a %s %s, which is not known here", s.Type, s.Purpose)
	}
	body, err := x.get(s.List)
	if err != nil {
		return false, fmt.Errorf("its status list %s cannot be had: %w", s.List, err)
	}
	doc, signed, err := openCredential(body)
	if err != nil {
		return false, fmt.Errorf("its status list %s cannot be read: %w", s.List, err)
	}
	issuer := text(part(doc["issuer"])["id"])
	if issuer != x.out.Seen.Issuer.ID {
		return false, fmt.Errorf("its status list is by %s, not by its issuer", issuer)
	}
	if _, err := x.secured(signed, issuer); err != nil {
		return false, fmt.Errorf("its status list does not verify: %w", err)
	}
	list := see(doc)
	if !list.ValidUntil.IsZero() && x.at.After(list.ValidUntil) {
		return false, fmt.Errorf("its status list is stale: it was good until %s", day(list.ValidUntil))
	}
	if x.at.Before(list.ValidFrom.Add(-time.Minute)) {
		return false, fmt.Errorf("its status list is of the future: %s", day(list.ValidFrom))
	}
	bits := part(doc["credentialSubject"])
	if !oneOf(bits["statusPurpose"], s.Purpose) || list.ID != s.List {
		return false, fmt.Errorf("its status list is %s for %s, expected %s for %s", list.ID, text(bits["statusPurpose"]),
			s.List, s.Purpose)
	}
	index, err := strconv.Atoi(s.Index)
	if err != nil {
		return false, fmt.Errorf("%q is no place in a status list", s.Index)
	}
	return badge.StatusBit(text(bits["encodedList"]), index)
}

func oneOf(x any, want string) bool {
	for _, v := range many(x) {
		if v == want {
			return true
		}
	}
	return false
}

// tokenKey finds the key that signed a token: at the address that it names, or in the token itself.
func (x *examiner) tokenKey(s secured, issuer string) (jwk.Key, string, error) {
	if kid, _ := s.header.KeyID(); kid != "" {
		key, err := x.keyAt(kid, issuer)
		return key, kid, err
	}
	inside, ok := s.header.JWK()
	if !ok {
		return nil, "", fmt.Errorf("%w: it does not say with which key it is signed", errUnknown)
	}
	body, err := x.get(wellKnown(issuer))
	if err != nil {
		return nil, "", fmt.Errorf("%w: it brings its own key, and whether that is its issuer's cannot be seen: %w", errUnchecked, err)
	}
	set, err := jwk.Parse(body)
	if err != nil {
		return nil, "", fmt.Errorf("%w: the key set %s cannot be read", errUnchecked, wellKnown(issuer))
	}
	for i := range set.Len() {
		if key, ok := set.Key(i); ok && jwk.Equal(key, inside) {
			return inside, wellKnown(issuer), nil
		}
	}
	return nil, "", fmt.Errorf("%w: it is signed with a key that is not its issuer's", errUnknown)
}

// jsonKey reads a JWK out of a document, or finds it in a set by its id.
func jsonKey(doc map[string]any, ids ...string) (jwk.Key, error) {
	list := []any{doc}
	if set, ok := doc["keys"].([]any); ok {
		list = nil
		for _, k := range set {
			for _, id := range ids {
				if id != "" && part(k)["kid"] == id {
					list = append(list, k)
				}
			}
		}
	}
	if len(list) != 1 {
		return nil, fmt.Errorf("%w: its key set has %d keys of this name", errUnknown, len(list))
	}
	body, err := json.Marshal(list[0])
	if err != nil {
		return nil, err
	}
	key, err := jwk.ParseKey(body)
	if err != nil {
		return nil, fmt.Errorf("%w: its key cannot be read", errUnchecked)
	}
	return key.PublicKey()
}
