package permission

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Mapping gives a grant to whoever a provider of identities says something of: that a claim has a value, or that it is
// a list that holds it.
type Mapping struct {
	Claim string // its name; a path with dots where it is inside another one
	Value string // as text; empty for any that is there
	Grant Grant
}

// Mapped is what came of a mapping.
type Mapped struct {
	Mapping
	Holds bool
	Why   string // what was there instead, when it does not hold
}

// most bounds how many values of a claim are named in an explanation.
const most = 5

// FromClaims holds claims against mappings, in their order.
func FromClaims(claims map[string]any, mappings []Mapping) []Mapped {
	out := make([]Mapped, len(mappings))
	for i, m := range mappings {
		out[i] = Mapped{Mapping: m}
		values, there := ClaimValues(claims, m.Claim)
		switch {
		case !there && elsewhere(claims, m.Claim):
			out[i].Why = fmt.Sprintf("the provider names a place elsewhere for %s, which is not asked: have it say less, such as fewer groups", m.Claim)
		case !there:
			out[i].Why = "the claim " + m.Claim + " is not there"
		case m.Value == "" && slices.ContainsFunc(values, func(v string) bool { return v != "" && v != "false" }),
			m.Value != "" && slices.Contains(values, m.Value):
			out[i].Holds = true
		case len(values) == 0:
			out[i].Why = "the claim " + m.Claim + " is empty"
		default:
			named := strings.Join(values[:min(len(values), most)], ", ")
			if more := len(values) - most; more > 0 {
				named += fmt.Sprintf(" and %d more", more)
			}
			out[i].Why = "the claim " + m.Claim + " is " + named
		}
	}
	return out
}

// Granted gives the grants of those that hold, each once.
func Granted(all []Mapped) []Grant {
	var out []Grant
	for _, m := range all {
		if m.Holds && !slices.Contains(out, m.Grant) {
			out = append(out, m.Grant)
		}
	}
	return out
}

// ClaimValues gives what a claim says as texts, each of a list; there is false when it is not there. A name is taken
// as it is first, and as a path with dots after that.
func ClaimValues(claims map[string]any, name string) (values []string, there bool) {
	v, there := claims[name]
	for at, path := claims, strings.Split(name, "."); !there && len(path) > 1; path = path[1:] {
		inner, is := at[path[0]].(map[string]any)
		if !is {
			return nil, false
		}
		at = inner
		if v, there = at[strings.Join(path[1:], ".")]; there {
			break
		}
	}
	if !there {
		return nil, false
	}
	list, is := v.([]any)
	if !is {
		list = []any{v}
	}
	for _, x := range list {
		if text, plain := claimText(x); plain {
			values = append(values, text)
		}
	}
	return values, true
}

// claimText is a plain value of a claim as text.
func claimText(v any) (string, bool) {
	switch x := v.(type) {
	case string:
		return strings.TrimSpace(x), true
	case bool:
		return strconv.FormatBool(x), true
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64), true
	}
	return "", false
}

// elsewhere reports whether a claim is only to be had at another place (OpenID Connect Core 1.0, 5.6.2).
func elsewhere(claims map[string]any, name string) bool {
	names, _ := claims["_claim_names"].(map[string]any)
	_, there := names[name]
	return there
}
