package scim

import (
	"encoding/json"
	"fmt"
	"strings"
)

// Equal writes the filter `attribute eq "value"`, with the value escaped as a
// JSON string (RFC 7644 3.4.2.2).
func Equal(attribute, value string) string {
	text, err := json.Marshal(value)
	if err != nil {
		panic("scim: a string cannot be written as JSON: " + err.Error())
	}
	return attribute + " eq " + string(text)
}

// Any writes a filter that fits whatever one of the filters fits: they are joined by "or" (RFC
// 7644 3.4.2.2).
func Any(filters ...string) string { return strings.Join(filters, " or ") }

// Term is one comparison of a filter: attribute eq value. The attribute is in
// lower case.
type Term struct{ Attribute, Value string }

// ParseAny reads what Any writes of filters that Equal wrote.
func ParseAny(filter string) ([]Term, error) {
	var terms []Term
	rest := filter
	for {
		end := endOfTerm(rest)
		attribute, value, err := ParseEqual(rest[:end])
		if err != nil {
			return nil, err
		}
		terms = append(terms, Term{attribute, value})
		if rest = strings.TrimSpace(rest[end:]); rest == "" {
			return terms, nil
		}
		after, ok := strings.CutPrefix(rest, "or ")
		if !ok {
			return nil, fmt.Errorf("the filter %q joins its parts by something else than or", filter)
		}
		rest = after
	}
}

// endOfTerm is the position after the first quoted value.
func endOfTerm(filter string) int {
	quoted := false
	for i := 0; i < len(filter); i++ {
		switch filter[i] {
		case '\\':
			i++
		case '"':
			if quoted {
				return i + 1
			}
			quoted = true
		}
	}
	return len(filter)
}

// ParseEqual reads what Equal writes. Attribute names and the operator ignore
// case; the attribute is returned in lower case.
func ParseEqual(filter string) (attribute, value string, err error) {
	attribute, rest, ok := strings.Cut(strings.TrimSpace(filter), " ")
	operator, text, ok2 := strings.Cut(strings.TrimSpace(rest), " ")
	if !ok || !ok2 || !strings.EqualFold(operator, "eq") {
		return "", "", fmt.Errorf("the filter %q is not of the form: attribute eq \"value\"", filter)
	}
	if err := json.Unmarshal([]byte(strings.TrimSpace(text)), &value); err != nil {
		return "", "", fmt.Errorf("the filter %q has no quoted value", filter)
	}
	return strings.ToLower(attribute), value, nil
}

// RemovedMember reads the path `members[value eq "id"]`; ok is false for any other.
func RemovedMember(path string) (id string, ok bool) {
	inner, found := strings.CutPrefix(path, "members[")
	inner, closed := strings.CutSuffix(inner, "]")
	if !found || !closed {
		return "", false
	}
	attribute, id, err := ParseEqual(inner)
	return id, err == nil && attribute == "value"
}
