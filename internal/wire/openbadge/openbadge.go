// Package openbadge secures Open Badges 3.0 credentials, as VC-JWT and by a proof inside them, puts them into
// pictures, and looks at badges of any issuer.
//
//	key, _ := openbadge.NewKey(openbadge.EdDSA)
//	credential, _ := openbadge.Embed(award, key, "https://school.example/issuers/1/keys/k1", at)
//	seen := openbadge.Examine(ctx, credential, at, fetch)
package openbadge

import (
	"encoding/json"
	"errors"
	"fmt"

	"github.com/lestrrat-go/jwx/v3/jwa"
	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/lestrrat-go/jwx/v3/jws"

	"kanban/internal/core/badge"
)

// Media types of a credential: secured as a JWT (VC-JOSE-COSE 6.1), and with its proof inside (VC Data Model 2.0,
// 6.2).
const (
	MediaType     = "application/vc+jwt"
	MediaTypeJSON = "application/vc"
)

// ErrInvalid is wrapped by every reason for which a credential does not verify.
var ErrInvalid = errors.New("credential does not verify")

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

// Sign secures a credential as a JWT. kid is the address at which the public JWK can be fetched.
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
	alg := jwa.RS256()
	if key.KeyType() == jwa.OKP() {
		alg = jwa.EdDSA()
	}
	token, err := jws.Sign(payload, jws.WithKey(alg, signing, jws.WithProtectedHeaders(header)))
	if err != nil {
		return "", fmt.Errorf("signing the credential %s: %w", id, err)
	}
	return string(token), nil
}

// Plain gives the credential of a compact JWS as JSON, without what secures it and without the token's claims.
func Plain(token string) ([]byte, error) {
	doc, _, err := openCredential([]byte(token))
	if err != nil {
		return nil, err
	}
	for _, claim := range []string{"iss", "jti", "nbf", "exp", "sub"} {
		delete(doc, claim)
	}
	return json.Marshal(doc)
}
