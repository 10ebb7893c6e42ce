// Package openbadge secures Open Badges 3.0 credentials as VC-JWT and checks
// them (Open Badges 3.0, "JSON Web Token Proof Format").
//
//	key, _ := openbadge.NewKey("https://school.example/issuers/1/keys/k1")
//	token, _ := openbadge.Sign(credential, key)
//	got, err := openbadge.Verify(token, keys)
package openbadge

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwa"
	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/lestrrat-go/jwx/v3/jws"

	"kanban/internal/core/badge"
)

// MediaType of a credential secured as a JWT (VC-JOSE-COSE 6.1).
const MediaType = "application/vc+jwt"

// ErrInvalid is wrapped by every reason for which a credential does not verify.
var ErrInvalid = errors.New("credential does not verify")

// NewKey makes an RSA key of 2048 bits for RS256, the algorithm that every
// verifier understands. The key id is its RFC 7638 thumbprint.
func NewKey() (jwk.Key, error) {
	raw, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, fmt.Errorf("making a signing key: %w", err)
	}
	key, err := jwk.Import(raw)
	if err != nil {
		return nil, fmt.Errorf("making a signing key: %w", err)
	}
	thumb, err := key.Thumbprint(crypto.SHA256)
	if err != nil {
		return nil, fmt.Errorf("naming a signing key: %w", err)
	}
	id := base64.RawURLEncoding.EncodeToString(thumb)
	return key, errors.Join(key.Set(jwk.KeyIDKey, id), key.Set(jwk.AlgorithmKey, jwa.RS256()),
		key.Set(jwk.KeyUsageKey, "sig"))
}

// ID is the key's id, the member kid (RFC 7517 4.5).
func ID(key jwk.Key) string {
	id, _ := key.KeyID()
	return id
}

// Public is the JWK without its private members (RFC 7517 9.3).
func Public(key jwk.Key) (jwk.Key, error) { return key.PublicKey() }

// Named is the key under another id: the address at which it can be fetched, by which credentials
// name it, so that a verifier finds it in a key set too.
func Named(key jwk.Key, address string) (jwk.Key, error) {
	named, err := key.Clone()
	if err != nil {
		return nil, fmt.Errorf("naming a key: %w", err)
	}
	return named, named.Set(jwk.KeyIDKey, address)
}

// claims mirror members of the credential in the token.
type claims struct {
	Iss string `json:"iss"`
	Jti string `json:"jti"`
	Nbf int64  `json:"nbf"`
}

// An award or a status list, each with its claims.
type (
	signedAward struct {
		badge.Credential
		claims
	}
	signedList struct {
		badge.StatusList
		claims
	}
)

// Sign secures a credential. kid is the address at which the public JWK can be
// fetched.
func Sign(c badge.Credential, key jwk.Key, kid string) (string, error) {
	return sign(signedAward{c, claims{c.Issuer.ID, c.ID, c.ValidFrom.Unix()}}, c.ID, key, kid)
}

// SignList secures a status list in the same way (Bitstring Status List 1.0, 2.2).
func SignList(l badge.StatusList, key jwk.Key, kid string) (string, error) {
	return sign(signedList{l, claims{l.Issuer, l.ID, l.ValidFrom.Unix()}}, l.ID, key, kid)
}

func sign(credential any, id string, key jwk.Key, kid string) (string, error) {
	payload, err := json.Marshal(credential)
	if err != nil {
		return "", fmt.Errorf("writing the credential %s: %w", id, err)
	}
	signing, err := Named(key, kid) // or its own short id would stand in the header
	if err != nil {
		return "", err
	}
	header := jws.NewHeaders()
	if err := header.Set(jws.TypeKey, "JWT"); err != nil {
		return "", err
	}
	token, err := jws.Sign(payload, jws.WithKey(jwa.RS256(), signing, jws.WithProtectedHeaders(header)))
	if err != nil {
		return "", fmt.Errorf("signing the credential %s: %w", id, err)
	}
	return string(token), nil
}

// KeyAt finds the public key published at an address, or reports that there is none.
type KeyAt func(kid string) (jwk.Key, error)

// Verify checks structure, signature, the agreement of the token's claims with
// the credential, and its dates at the given time. keyAt must answer only for
// keys that belong to the issuer it is asked about.
func Verify(token string, at time.Time, keyAt KeyAt) (badge.Credential, error) {
	var c signedAward
	if err := open(token, keyAt, &c); err != nil {
		return badge.Credential{}, err
	}
	if err := c.agree(c.Issuer.ID, c.ID, c.ValidFrom, at); err != nil {
		return badge.Credential{}, err
	}
	return c.Credential, nil
}

// ListAt fetches the signed status list at an address.
type ListAt func(address string) (token string, err error)

// Revoked looks a verified credential up in the status list that it names, which must be
// signed by the same issuer (Bitstring Status List 1.0, 3.2).
func Revoked(c badge.Credential, at time.Time, listAt ListAt, keyAt KeyAt) (bool, error) {
	if c.Status == nil {
		return false, nil
	}
	token, err := listAt(c.Status.Credential)
	if err != nil {
		return false, fmt.Errorf("%w: its status list %s cannot be had: %w", ErrInvalid, c.Status.Credential, err)
	}
	var l signedList
	if err := open(token, keyAt, &l); err != nil {
		return false, fmt.Errorf("its status list: %w", err)
	}
	if err := l.agree(l.Issuer, l.ID, l.ValidFrom, at); err != nil {
		return false, fmt.Errorf("its status list: %w", err)
	}
	return l.Revoked(c)
}

// open checks a token's signature and reads what it holds.
func open(token string, keyAt KeyAt, into any) error {
	message, err := jws.Parse([]byte(token))
	if err != nil || len(message.Signatures()) != 1 {
		return fmt.Errorf("%w: it is not a signed token", ErrInvalid)
	}
	kid, _ := message.Signatures()[0].ProtectedHeaders().KeyID()
	if alg, _ := message.Signatures()[0].ProtectedHeaders().Algorithm(); alg != jwa.RS256() {
		return fmt.Errorf("%w: it is signed with %v, expected RS256", ErrInvalid, alg)
	}
	key, err := keyAt(kid)
	if err != nil {
		return fmt.Errorf("%w: its key %q cannot be had: %w", ErrInvalid, kid, err)
	}
	payload, err := jws.Verify([]byte(token), jws.WithKey(jwa.RS256(), key))
	if err != nil {
		return fmt.Errorf("%w: its signature is wrong", ErrInvalid)
	}
	if err := json.Unmarshal(payload, into); err != nil {
		return fmt.Errorf("%w: its contents cannot be read: %w", ErrInvalid, err)
	}
	return nil
}

// agree compares the claims with the members that they mirror, and the dates with a time.
func (c claims) agree(issuer, id string, validFrom, at time.Time) error {
	switch {
	case c.Iss != issuer || c.Jti != id || c.Nbf != validFrom.Unix():
		return fmt.Errorf("%w: its claims do not agree with its contents", ErrInvalid)
	case at.Before(validFrom.Add(-time.Minute)):
		return fmt.Errorf("%w: it is not valid before %s", ErrInvalid, validFrom.Format(time.RFC3339))
	}
	return nil
}
