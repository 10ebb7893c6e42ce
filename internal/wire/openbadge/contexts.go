package openbadge

import (
	"bytes"
	"embed"
	"encoding/json"
	"fmt"
	"sync"

	"github.com/piprate/json-gold/ld"
)

//go:embed contexts/*.json
var contextFiles embed.FS

// contextNames gives the file of each context that is built in: none is ever fetched, so that nobody changes what a
// credential says by changing one (VC Data Model 2.0, B.1).
var contextNames = map[string]string{
	"https://www.w3.org/ns/credentials/v2":                       "credentials-2.json",
	"https://www.w3.org/2018/credentials/v1":                     "credentials-1.json",
	"https://purl.imsglobal.org/spec/ob/v3p0/context.json":       "ob-3.0.0.json",
	"https://purl.imsglobal.org/spec/ob/v3p0/context-3.0.1.json": "ob-3.0.1.json",
	"https://purl.imsglobal.org/spec/ob/v3p0/context-3.0.2.json": "ob-3.0.2.json",
	"https://purl.imsglobal.org/spec/ob/v3p0/context-3.0.3.json": "ob-3.0.3.json",
	"https://purl.imsglobal.org/spec/ob/v3p0/extensions.json":    "ob-extensions.json",
	"https://w3id.org/security/data-integrity/v2":                "data-integrity-2.json",
	"https://w3id.org/security/multikey/v1":                      "multikey-1.json",
}

// builtIn gives out contexts of a built-in copy only.
type builtIn struct{}

var readContexts = sync.OnceValues(func() (map[string]any, error) {
	all := make(map[string]any, len(contextNames))
	for address, name := range contextNames {
		text, err := contextFiles.ReadFile("contexts/" + name)
		if err != nil {
			return nil, err
		}
		doc, err := ld.DocumentFromReader(bytes.NewReader(text))
		if err != nil {
			return nil, fmt.Errorf("reading the context %s: %w", address, err)
		}
		all[address] = doc
	}
	return all, nil
})

// LoadDocument gives the context at an address.
func (builtIn) LoadDocument(address string) (*ld.RemoteDocument, error) {
	all, err := readContexts()
	if err != nil {
		return nil, err
	}
	doc, known := all[address]
	if !known {
		return nil, ld.NewJsonLdError(ld.LoadingDocumentFailed, "unknown context "+address)
	}
	return &ld.RemoteDocument{DocumentURL: address, Document: doc}, nil
}

// decode reads JSON once, into what both the signature and the contents are read from.
func decode(text []byte) (map[string]any, error) {
	var doc map[string]any
	if err := json.Unmarshal(text, &doc); err != nil {
		return nil, err
	}
	return doc, nil
}
