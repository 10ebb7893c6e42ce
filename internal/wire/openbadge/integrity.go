package openbadge

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"time"

	"github.com/gowebpki/jcs"
	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/mr-tron/base58"
)

// The ways to put a document into the one form that is signed (Data Integrity EdDSA Cryptosuites 1.0).
const (
	suiteRDFC = "eddsa-rdfc-2022"
	suiteJCS  = "eddsa-jcs-2022"
)

// proof is a Data Integrity proof (Data Integrity 1.0, 2.1).
type proof struct {
	Type    string `json:"type"`
	Created string `json:"created,omitempty"`
	Expires string `json:"expires,omitempty"`
	Suite   string `json:"cryptosuite"`
	Method  string `json:"verificationMethod"`
	Purpose string `json:"proofPurpose"`
	Value   string `json:"proofValue,omitempty"`
}

const (
	proofType    = "DataIntegrityProof"
	proofPurpose = "assertionMethod"
)

// Embed secures a credential by a proof inside it, with the cryptosuite eddsa-rdfc-2022: the credential as JSON.
// method is the address of the public key, an Ed25519 key.
func Embed(credential any, key jwk.Key, method string, at time.Time) ([]byte, error) {
	text, err := json.Marshal(credential)
	if err != nil {
		return nil, fmt.Errorf("writing the credential: %w", err)
	}
	doc, err := decode(text)
	if err != nil {
		return nil, fmt.Errorf("writing the credential: %w", err)
	}
	p := proof{
		Type: proofType, Created: at.UTC().Truncate(time.Second).Format(time.RFC3339), Suite: suiteRDFC,
		Method:  method,
		Purpose: proofPurpose,
	}
	options, err := asMap(p)
	if err != nil {
		return nil, err
	}
	digest, err := digest(doc, options)
	if err != nil {
		return nil, fmt.Errorf("signing the credential: %w", err)
	}
	var private ed25519.PrivateKey
	if err := jwk.Export(key, &private); err != nil {
		return nil, fmt.Errorf("signing the credential: %w", err)
	}
	p.Value = "z" + base58.Encode(ed25519.Sign(private, digest))
	signed, err := json.Marshal(p)
	if err != nil {
		return nil, fmt.Errorf("writing the proof: %w", err)
	}
	// The credential's members keep their order; the proof comes last.
	return append(append(append(text[:len(text)-1:len(text)-1], `,"proof":`...), signed...), '}'), nil
}

// digest is what is signed: the hash of the proof without its value, and the hash of the document without its proof
// (Data Integrity EdDSA Cryptosuites 1.0, 3.2.4 and 3.3.4).
func digest(doc, options map[string]any) ([]byte, error) {
	bare := maps.Clone(doc)
	delete(bare, "proof")
	options = maps.Clone(options)
	delete(options, "proofValue")
	form := canonical
	if options["cryptosuite"] == suiteJCS {
		form = jsonForm
	} else {
		options["@context"] = doc["@context"]
	}
	whole := make([]byte, 0, 2*sha256.Size)
	for _, part := range []map[string]any{options, bare} {
		text, err := form(part)
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256([]byte(text))
		whole = append(whole, sum[:]...)
	}
	return whole, nil
}

// jsonForm puts JSON into its canonical form (RFC 8785).
func jsonForm(doc map[string]any) (string, error) {
	text, err := json.Marshal(doc)
	if err != nil {
		return "", err
	}
	out, err := jcs.Transform(text)
	return string(out), err
}

func asMap(x any) (map[string]any, error) {
	text, err := json.Marshal(x)
	if err != nil {
		return nil, err
	}
	return decode(text)
}

// proofsOf are the proofs of a document: one, or several of which each must hold.
func proofsOf(doc map[string]any) (all []map[string]any, err error) {
	list, ok := doc["proof"].([]any)
	if !ok {
		list = []any{doc["proof"]}
	}
	for _, x := range list {
		p, ok := x.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("%w: it has no proof", ErrInvalid)
		}
		all = append(all, p)
	}
	if len(all) == 0 || len(all) > 8 {
		return nil, fmt.Errorf("%w: it has %d proofs", ErrInvalid, len(all))
	}
	return all, nil
}
