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
