package openbadge

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"errors"
	"fmt"
	"math/big"
	"strings"

	"github.com/lestrrat-go/jwx/v3/jwa"
	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/mr-tron/base58"
)

// Algorithm is how a key signs.
type Algorithm string

// The algorithms of an issuer's keys: RS256 for credentials as JWT, which every verifier understands, and EdDSA for
// proofs inside credentials.
const (
	RS256 Algorithm = "RS256"
	EdDSA Algorithm = "EdDSA"
)

// NewKey makes a signing key: RSA of 2048 bits or Ed25519. Its id is its RFC 7638 thumbprint.
func NewKey(algorithm Algorithm) (jwk.Key, error) {
	var raw any
	var err error
	alg := jwa.RS256()
	if algorithm == EdDSA {
		alg = jwa.EdDSA()
		_, raw, err = ed25519.GenerateKey(rand.Reader)
	} else {
		raw, err = rsa.GenerateKey(rand.Reader, 2048)
	}
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
	return key, errors.Join(key.Set(jwk.KeyIDKey, id), key.Set(jwk.AlgorithmKey, alg), key.Set(jwk.KeyUsageKey, "sig"))
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

// Method is a verification method: a public key, where it is found and whose it is (Controlled Identifiers 1.0, 2.2).
type Method struct {
	Context    string `json:"@context,omitempty"`
	ID         string `json:"id"`
	Type       string `json:"type"`
	Controller string `json:"controller"`
	Multibase  string `json:"publicKeyMultibase"`
}

// Multikey is the type of a key as multibase text (Controlled Identifiers 1.0, 2.2.2).
const Multikey = "Multikey"

// MultikeyContext is the context of a Multikey on its own.
const MultikeyContext = "https://w3id.org/security/multikey/v1"

// The first bytes of keys as multibase text.
var (
	ed25519Prefix = []byte{0xed, 0x01}
	p256Prefix    = []byte{0x80, 0x24}
)

// Multibase writes the public part of an Ed25519 key as multibase text: "z" and base58btc.
func Multibase(key jwk.Key) (string, error) {
	public, err := key.PublicKey()
	if err != nil {
		return "", fmt.Errorf("writing a key: %w", err)
	}
	var raw ed25519.PublicKey
	if err := jwk.Export(public, &raw); err != nil {
		return "", fmt.Errorf("writing a key: %w", err)
	}
	return "z" + base58.Encode(append(bytes.Clone(ed25519Prefix), raw...)), nil
}

// fromMultibase reads a public key of Ed25519 or P-256.
func fromMultibase(text string) (jwk.Key, error) {
	if len(text) > 200 || !strings.HasPrefix(text, "z") {
		return nil, errors.New("the key is not in base58btc")
	}
	raw, err := base58.Decode(text[1:])
	if err != nil || len(raw) < 3 {
		return nil, errors.New("the key is not in base58btc")
	}
	prefix, raw := raw[:2], raw[2:]
	switch {
	case bytes.Equal(prefix, ed25519Prefix) && len(raw) == ed25519.PublicKeySize:
		return jwk.Import(ed25519.PublicKey(raw))
	case bytes.Equal(prefix, p256Prefix) && len(raw) == 33:
		x, y := elliptic.UnmarshalCompressed(elliptic.P256(), raw)
		if x == nil {
			return nil, errors.New("the key is no point of its curve")
		}
		return jwk.Import(&ecdsa.PublicKey{Curve: elliptic.P256(), X: new(big.Int).Set(x), Y: new(big.Int).Set(y)})
	}
	return nil, fmt.Errorf("keys that begin with %x are not known here", prefix)
}
