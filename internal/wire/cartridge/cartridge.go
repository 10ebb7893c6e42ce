// Package cartridge reads the outline out of a Common Cartridge 1.x manifest
// (imsmanifest.xml).
//
//	items, err := cartridge.Parse(file)
//	for _, module := range items { fmt.Println(module.Title, len(module.Items)) }
package cartridge

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Item is a folder (Resource empty) or a leaf of the outline (IMS Content Packaging, "item").
type Item struct {
	ID       string
	Title    string
	Resource string // the type of the resource, e.g. "webcontent"
	Items    []Item
}

// ErrManifest is wrapped by every error of Parse.
var ErrManifest = errors.New("not a Common Cartridge manifest")

type xmlItem struct {
	ID    string    `xml:"identifier,attr"`
	Ref   string    `xml:"identifierref,attr"`
	Title string    `xml:"title"`
	Items []xmlItem `xml:"item"`
}

type xmlManifest struct {
	XMLName xml.Name  `xml:"manifest"`
	Root    []xmlItem `xml:"organizations>organization>item"`
	Res     []struct {
		ID   string `xml:"identifier,attr"`
		Type string `xml:"type,attr"`
	} `xml:"resources>resource"`
}

// maxDepth bounds how deep folders may be nested.
const maxDepth = 20

// Parse returns the items below the untitled root of the one organization (Common Cartridge 1.3,
// "rooted-hierarchy"), in order. What is no manifest, or has not exactly one outline, is an
// ErrManifest.
func Parse(r io.Reader) ([]Item, error) {
	var m xmlManifest
	if err := xml.NewDecoder(r).Decode(&m); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrManifest, err)
	}
	if !strings.Contains(m.XMLName.Space, "imscp") {
		return nil, fmt.Errorf("%w: its namespace is %q", ErrManifest, m.XMLName.Space)
	}
	if len(m.Root) != 1 {
		return nil, fmt.Errorf("%w: it has %d outlines, exactly one is needed", ErrManifest, len(m.Root))
	}
	types := make(map[string]string, len(m.Res))
	for _, r := range m.Res {
		types[r.ID] = r.Type
	}
	return convert(m.Root[0].Items, types, 0)
}

func convert(in []xmlItem, types map[string]string, depth int) ([]Item, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("%w: its folders are nested more than %d deep", ErrManifest, maxDepth)
	}
	var out []Item
	for _, x := range in {
		item := Item{ID: x.ID, Title: strings.TrimSpace(x.Title)}
		if x.Ref != "" {
			kind, ok := types[x.Ref]
			if !ok {
				return nil, fmt.Errorf("%w: item %q refers to the unknown resource %q", ErrManifest, x.ID, x.Ref)
			}
			item.Resource = kind
		}
		var err error
		if item.Items, err = convert(x.Items, types, depth+1); err != nil {
			return nil, err
		}
		out = append(out, item)
	}
	return out, nil
}
