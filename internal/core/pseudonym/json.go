package pseudonym

import (
	"bytes"
	"encoding/json"
	"strings"
)

// JSON replaces the names in the texts of a JSON document, and leaves everything else as it is, ids and the names of
// members included. What a document says of people who are not known, by members that only people have, is replaced as
// well. What is no JSON is given back empty: it could hold anything.
func (h Hider) JSON(doc []byte) []byte {
	var whole any
	if err := json.Unmarshal(doc, &whole); err != nil {
		return nil
	}
	var strangers []string
	collect(whole, &strangers)
	h.Names = h.Names.With(h.unknown(strangers))
	out := bytes.NewBuffer(make([]byte, 0, len(doc)+len(doc)/8))
	member, before := "", map[string]string{} // what was replaced before: texts repeat
	var holds []string                        // of each object and list that is open, the member that holds it
	for i := 0; i < len(doc); {
		if doc[i] != '"' {
			switch doc[i] {
			case '{', '[':
				holds = append(holds, member)
			case '}', ']': // what follows belongs to what holds this
				member, holds = holds[len(holds)-1], holds[:len(holds)-1]
			}
			out.WriteByte(doc[i])
			i++
			continue
		}
		end := i + 1
		for doc[end] != '"' {
			if doc[end] == '\\' {
				end++
			}
			end++
		}
		end++
		var text string
		_ = json.Unmarshal(doc[i:end], &text) // it is one, as the document is
		hidden := text
		switch after := bytes.TrimLeft(doc[end:], " \t\r\n"); {
		case len(after) > 0 && after[0] == ':':
			member = text
			hidden = h.member(text)
		case !isID(member):
			var done bool
			if hidden, done = before[text]; !done {
				hidden = h.Text(text)
				before[text] = hidden
			}
		}
		if hidden == text {
			out.Write(doc[i:end])
		} else {
			written, _ := json.Marshal(hidden) // a text always can be
			out.Write(written)
		}
		i = end
	}
	return out.Bytes()
}

// member replaces the name of a member where that is somebody's address or whole name: it may be a map.
func (h Hider) member(name string) string {
	if strings.Contains(name, "@") || strings.Contains(name, " ") {
		return h.Text(name)
	}
	return name
}

// isID reports whether a member holds what tells records apart, not what people read.
func isID(member string) bool {
	return member == "id" || strings.HasSuffix(member, "Id") || strings.HasSuffix(member, "Ids") || member == "next" ||
		member == "code" || member == "kind" || member == "state" || member == "etag"
}

// unknown leaves those of some names that are not known.
func (h Hider) unknown(all []string) (out []string) {
	for _, name := range all {
		if h.Names.titles[joined(words(name))] {
			continue
		}
		for _, w := range words(name) {
			if !h.Names.part(strings.ToLower(w)) {
				out = append(out, name)
				break
			}
		}
	}
	return out
}

// ofPeople are members that only people have, and named is where their names are.
var (
	ofPeople = []string{"email", "userName", "personId", "givenName", "familyName", "account"}
	named    = []string{"name", "person", "givenName", "familyName", "displayName"}
)

// collect finds the names of people in a document.
func collect(v any, names *[]string) {
	switch x := v.(type) {
	case []any:
		for _, y := range x {
			collect(y, names)
		}
	case map[string]any:
		for _, m := range ofPeople {
			if _, is := x[m]; !is {
				continue
			}
			for _, n := range named {
				if text, is := x[n].(string); is && text != "" {
					*names = append(*names, text)
				}
			}
			break
		}
		for _, y := range x {
			collect(y, names)
		}
	}
}
