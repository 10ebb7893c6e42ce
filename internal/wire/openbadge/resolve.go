package openbadge

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"github.com/lestrrat-go/jwx/v3/jwk"
)

// keyAt finds the public key of a name, which must be the issuer's: under a DID, in the issuer's controller document,
// or at an address of the issuer's.
func (x *examiner) keyAt(method, issuer string) (jwk.Key, error) {
	base, fragment, _ := strings.Cut(method, "#")
	switch {
	case strings.HasPrefix(base, "did:"):
		if base != issuer {
			return nil, fmt.Errorf("%w: the key is %s's, and the issuer is %s", errUnknown, base, issuer)
		}
		return x.keyOfDID(base, method)
	case !strings.HasPrefix(base, "https://") && !strings.HasPrefix(base, "http://"):
		return nil, fmt.Errorf("%w: its key %q is at no address", errUnknown, method)
	}
	if base == issuer {
		doc, err := x.document(base)
		if err != nil {
			return nil, err
		}
		return methodIn(doc, method, issuer)
	}
	return x.keyAtAddress(method, base, fragment, issuer)
}

// keyAtAddress fetches a key and sees whether it is the issuer's: on the same host, and, where the issuer lists its
// keys, listed.
func (x *examiner) keyAtAddress(method, base, fragment, issuer string) (jwk.Key, error) {
	doc, err := x.document(base)
	if err != nil {
		return nil, err
	}
	controller := text(doc["controller"])
	if controller != "" && controller != issuer {
		return nil, fmt.Errorf("%w: the key is %s's, and the issuer is %s", errUnknown, controller, issuer)
	}
	whose, err := x.document(controllerAddress(issuer))
	listed := err == nil && whose["assertionMethod"] != nil
	switch {
	case errors.Is(err, errUnchecked):
		return nil, err
	case listed:
		return methodIn(whose, method, issuer)
	case doc["kty"] == nil && doc["keys"] == nil:
		return nil, fmt.Errorf("%w: %s does not list the key %s as its own", errUnknown, issuer, method)
	case origin(base) != origin(issuer):
		return nil, fmt.Errorf("%w: the key is at %s, and the issuer at %s", errUnknown, origin(base), origin(issuer))
	}
	return jsonKey(doc, method, fragment)
}

// document fetches JSON.
func (x *examiner) document(address string) (map[string]any, error) {
	body, err := x.get(address)
	if errors.Is(err, ErrNothing) {
		return nil, fmt.Errorf("%w: there is nothing at %s, where its key should be", errUnknown, address)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %s cannot be had: %w", errUnchecked, address, err)
	}
	doc, err := decode(body)
	if err != nil {
		return nil, fmt.Errorf("%w: what is at %s cannot be read", errUnchecked, address)
	}
	return doc, nil
}

// keyOfDID finds a key of a DID: did:key and did:jwk are keys themselves, did:web is fetched.
func (x *examiner) keyOfDID(did, method string) (jwk.Key, error) {
	if name, ok := strings.CutPrefix(did, "did:key:"); ok {
		key, err := fromMultibase(name)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", errUnchecked, err)
		}
		return key, nil
	}
	if name, ok := strings.CutPrefix(did, "did:jwk:"); ok {
		body, err := base64.RawURLEncoding.DecodeString(name)
		if err != nil {
			return nil, fmt.Errorf("%w: %s is no key", errUnchecked, did)
		}
		doc, err := decode(body)
		if err != nil {
			return nil, fmt.Errorf("%w: %s is no key", errUnchecked, did)
		}
		return jsonKey(doc)
	}
	address := controllerAddress(did)
	if address == "" {
		return nil, fmt.Errorf("%w: issuers named %s are not known here", errUnchecked, did)
	}
	doc, err := x.document(address)
	if err != nil {
		return nil, err
	}
	return methodIn(doc, method, did)
}

// controllerAddress is where the document of an issuer is: its id, or where its did:web leads (did:web, 3.2).
func controllerAddress(issuer string) string {
	name, ok := strings.CutPrefix(issuer, "did:web:")
	if !ok {
		if strings.HasPrefix(issuer, "did:") {
			return ""
		}
		return issuer
	}
	parts := strings.Split(name, ":")
	host, err := url.PathUnescape(parts[0])
	if err != nil || host == "" || strings.ContainsAny(host, "/?#@") {
		return ""
	}
	if len(parts) == 1 {
		return "https://" + host + "/.well-known/did.json"
	}
	for _, p := range parts[1:] {
		if p == "" || p == "." || p == ".." || strings.ContainsAny(p, "/?#") {
			return ""
		}
	}
	return "https://" + host + "/" + strings.Join(parts[1:], "/") + "/did.json"
}

// methodIn finds a verification method in a controller document, where it must be listed as one that says what is true
// (Controlled Identifiers 1.0, 3.3).
func methodIn(doc map[string]any, method, issuer string) (jwk.Key, error) {
	if text(doc["id"]) != issuer {
		return nil, fmt.Errorf("%w: the document of the issuer %s says that it is %s's", errUnknown, issuer, text(doc["id"]))
	}
	called := func(id string) bool { return id == method || strings.HasPrefix(id, "#") && issuer+id == method }
	listed := false
	var found map[string]any
	for _, m := range many(doc["assertionMethod"]) {
		if id := text(part(m)["id"]); called(id) {
			listed = true
			if part(m)["type"] != nil {
				found = part(m)
			}
		}
	}
	for _, m := range many(doc["verificationMethod"]) {
		if called(text(part(m)["id"])) {
			found = part(m)
		}
	}
	switch {
	case !listed || found == nil:
		return nil, fmt.Errorf("%w: %s does not list the key %s as its own", errUnknown, issuer, method)
	case text(found["controller"]) != issuer:
		return nil, fmt.Errorf("%w: the key is %s's, and the issuer is %s", errUnknown, text(found["controller"]), issuer)
	}
	if j, ok := found["publicKeyJwk"].(map[string]any); ok {
		return jsonKey(j)
	}
	key, err := fromMultibase(text(found["publicKeyMultibase"]))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errUnchecked, err)
	}
	return key, nil
}

func origin(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Scheme + "://" + u.Host
}

// wellKnown is where an issuer's key set is by custom.
func wellKnown(issuer string) string {
	if strings.HasPrefix(issuer, "did:web:") {
		return origin(controllerAddress(issuer)) + "/.well-known/jwks.json"
	}
	return origin(issuer) + "/.well-known/jwks.json"
}
