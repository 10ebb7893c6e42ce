package openbadge

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/piprate/json-gold/ld"
)

// mostAlike is how many blank nodes of a document may look alike: telling them apart takes time that grows faster
// than anything (RDF Dataset Canonicalization 1.0, 7.1).
const mostAlike = 6

// canonical gives a JSON-LD document in the form that is signed (RDF Dataset Canonicalization 1.0). A member that the
// document's contexts do not define, or a name that is no full address, is an error: it would not be signed.
func canonical(doc map[string]any) (text string, err error) {
	defer func() {
		if r := recover(); r != nil { // the library's, about documents that anybody can make
			err = fmt.Errorf("its JSON-LD cannot be read: %v", r)
		}
	}()
	if err := knownContexts(doc["@context"]); err != nil {
		return "", err
	}
	opts := ld.NewJsonLdOptions("")
	opts.ProcessingMode = ld.JsonLd_1_1
	opts.DocumentLoader = builtIn{}
	opts.SafeMode = true
	opts.Algorithm = ld.AlgorithmURDNA2015
	expanded, err := ld.NewJsonLdProcessor().Expand(doc, opts)
	if err != nil {
		return "", fmt.Errorf("its JSON-LD cannot be read: %w", err)
	}
	if err := allNamed(expanded); err != nil {
		return "", err
	}
	made := ld.NewJsonLdApi()
	quads, err := made.ToRDF(expanded, opts)
	if err != nil {
		return "", fmt.Errorf("its JSON-LD cannot be read: %w", err)
	}
	if alike(quads) > mostAlike {
		return "", fmt.Errorf("more than %d of its parts without a name look alike", mostAlike)
	}
	opts.Format = "application/n-quads"
	out, err := made.Normalize(quads, opts)
	if err != nil {
		return "", fmt.Errorf("its JSON-LD cannot be put into order: %w", err)
	}
	text, ok := out.(string)
	if !ok || text == "" {
		return "", fmt.Errorf("its JSON-LD says nothing")
	}
	return text, nil
}

// knownContexts refuses contexts that are not built in, those written into the document among them: they could give
// the members other meanings than those that are shown.
func knownContexts(contexts any) error {
	list, ok := contexts.([]any)
	if !ok {
		list = []any{contexts}
	}
	for _, c := range list {
		address, ok := c.(string)
		if !ok {
			return fmt.Errorf("it brings a vocabulary of its own, which is not used")
		}
		if _, known := contextNames[address]; !known {
			return fmt.Errorf("it uses the vocabulary %s, which is not built in", address)
		}
	}
	return nil
}

// allNamed refuses what turning into RDF would leave out without a word: ids, types and members that are no full
// addresses.
func allNamed(x any) error {
	switch x := x.(type) {
	case []any:
		for _, one := range x {
			if err := allNamed(one); err != nil {
				return err
			}
		}
	case map[string]any:
		for key, value := range x {
			switch {
			case key == "@id", key == "@type":
				if err := namesOf(value, key == "@type" && x["@value"] != nil); err != nil {
					return err
				}
			case key == "@value" || key == "@language" || key == "@direction":
			case strings.HasPrefix(key, "@"):
				if key != "@list" && key != "@set" && key != "@graph" {
					return fmt.Errorf("%s in it would not be signed", key)
				}
				if err := allNamed(value); err != nil {
					return err
				}
			default:
				if err := allNamed(value); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func namesOf(value any, datatype bool) error {
	list, ok := value.([]any)
	if !ok {
		list = []any{value}
	}
	for _, v := range list {
		name, _ := v.(string)
		if datatype || strings.HasPrefix(name, "_:") {
			continue
		}
		if u, err := url.Parse(name); err != nil || !u.IsAbs() || strings.ContainsAny(name, " <>\"{}|\\^`") {
			return fmt.Errorf("%q in it is no full address and would not be signed", name)
		}
	}
	return nil
}

// alike counts the blank nodes of which there is another that looks the same by what is said of it directly.
func alike(quads *ld.RDFDataset) (n int) {
	said := map[string][]string{}
	for _, graph := range quads.Graphs {
		for _, q := range graph {
			for _, node := range []ld.Node{q.Subject, q.Object} {
				if id := node.GetValue(); ld.IsBlankNode(node) {
					said[id] = append(said[id], strings.Join([]string{
						seenFrom(id, q.Subject), q.Predicate.GetValue(), seenFrom(id, q.Object),
					}, " "))
				}
			}
		}
	}
	same := map[string]int{}
	for _, lines := range said {
		slices.Sort(lines)
		same[strings.Join(lines, "\n")]++
	}
	for _, count := range same {
		if count > 1 {
			n += count
		}
	}
	return n
}

// seenFrom is how one node calls another.
func seenFrom(id string, n ld.Node) string {
	switch {
	case !ld.IsBlankNode(n):
		return n.GetValue()
	case n.GetValue() == id:
		return "_:a"
	}
	return "_:z"
}
