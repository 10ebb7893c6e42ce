package outlines

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/wire/call"
	"kanban/internal/wire/cartridge"
)

// Source is where an outline is read from.
type Source struct {
	Kind    string // manifest, address or table
	Text    string // the manifest or the table
	Address string
	Prefix  string // for manifests
}

// ReadOutline reads an outline without keeping it. One without a module is refused: nothing
// would be left.
func (s *Service) ReadOutline(ctx context.Context, from Source) (o learning.Outline, err error) {
	switch from.Kind {
	case "table":
		o, err = ReadTable(strings.NewReader(from.Text))
	case "address":
		o, err = s.FetchCartridge(ctx, from.Prefix, from.Address)
	default:
		o, err = ReadCartridge(from.Prefix, []byte(from.Text))
	}
	if err == nil && len(o.Modules) == 0 {
		err = refusal.Invalid("text",
			"holds no module, so that nothing would be left of the outline; see whether it is the right file")
	}
	return o, err
}

// ReadCartridge gives the outline in a Common Cartridge, which is a package or its
// manifest alone. The folders at the top become modules, the leaves below them
// activities; prefix and a leaf's identifier give the IRI under which its statements
// come.
func ReadCartridge(prefix string, content []byte) (learning.Outline, error) {
	manifest, err := cartridge.Manifest(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return learning.Outline{}, refusal.Invalid("manifest", "%v", err)
	}
	items, err := cartridge.Parse(bytes.NewReader(manifest))
	if err != nil {
		return learning.Outline{}, refusal.Invalid("manifest", "%v", err)
	}
	var o learning.Outline
	for _, i := range items {
		m := learning.Module{ID: i.ID, Title: i.Title}
		if i.Resource != "" { // a leaf at the top is a module of its own
			i.Items = []cartridge.Item{{ID: i.ID, Title: i.Title, Resource: i.Resource, Items: i.Items}}
		}
		m.Activities = leaves(i.Items, prefix)
		o.Modules = append(o.Modules, m)
	}
	return o, nil
}

// leaves gives the activities of a folder. What stands below an activity is nested in
// it; folders inside modules only sort them.
func leaves(items []cartridge.Item, prefix string) (out []learning.Activity) {
	for _, i := range items {
		below := leaves(i.Items, prefix)
		if i.Resource == "" {
			out = append(out, below...)
			continue
		}
		out = append(out, learning.Activity{
			ID: prefix + i.ID, Title: i.Title, Kind: kindOf(i.Resource),
			Activities: below,
		})
	}
	return out
}

// kindOf reads a resource type by its prefix, as versions differ.
func kindOf(resource string) learning.Kind {
	switch {
	case strings.HasPrefix(resource, "imsqti_") && strings.HasSuffix(resource, "/assessment"):
		return learning.Assessment
	case strings.HasPrefix(resource, "assignment_"):
		return learning.Assignment
	}
	return learning.Lesson
}

// mostFetched is how large a package at an address may be, in bytes.
const mostFetched = 64 << 20

// FetchCartridge reads the outline of a manifest or package at an address. Redirects are
// not followed.
func (s *Service) FetchCartridge(ctx context.Context, prefix, address string) (learning.Outline, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return learning.Outline{}, refusal.Invalid("address", "%q is not a full http or https address", address)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return learning.Outline{}, refusal.Invalid("address", "%v", err)
	}
	o := s.Call
	o.MaxBody = mostFetched
	answer, err := call.New(o).Do(ctx, req)
	if err != nil {
		return learning.Outline{}, refusal.Invalid("address", "the manifest could not be fetched: %v", err)
	}
	return ReadCartridge(prefix, answer.Body)
}

// ReadTable gives the outline in a CSV table, or says which of its rows are wrong.
func ReadTable(in io.Reader) (learning.Outline, error) {
	r := csv.NewReader(in)
	r.FieldsPerRecord = -1
	rows, err := r.ReadAll()
	if err != nil {
		return learning.Outline{}, refusal.Invalid("table", "%v", err)
	}
	o, wrong := learning.FromTable(rows)
	if len(wrong) == 0 {
		return o, nil
	}
	const most = 10
	var lines []string
	for _, w := range wrong[:min(len(wrong), most)] {
		lines = append(lines, w.Error())
	}
	if len(wrong) > most {
		lines = append(lines, fmt.Sprintf("and %d more", len(wrong)-most))
	}
	return learning.Outline{}, refusal.Invalid("table", "%s", strings.Join(lines, "; "))
}
