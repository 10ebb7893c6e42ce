package adapter

import (
	"fmt"
	"net/mail"
	"net/url"
	"regexp"
	"strings"
	"time"
)

// Expires is the name of the field that says when an interface's credential ends.
const Expires = "expires"

// until is the field of kinds whose credential the other side may let end.
var until = Field{
	Name: Expires, Title: "Credential ends on",
	Help: "Optional: the last day on which the token, secret or password works, such as 2027-08-31; you are warned 30, 7 and 1 days before", Date: true,
}

var (
	scheme = regexp.MustCompile(`(?i)^(bearer|basic|token|authorization:)[ :]`)
	quoted = regexp.MustCompile(`^(".*"|'.*'|<.*>)$`)
	blank  = regexp.MustCompile(`\s`)
)

// tooDeep are the ends of addresses that lead deeper than to where a kind of interface
// begins; what follows from them is put there by Kanban.
var tooDeep = map[string][]string{
	KindSCIM + ".address": {
		"/Users", "/Groups", "/Bulk", "/Me", "/Schemas", "/ServiceProviderConfig",
		"/ResourceTypes",
	},
	KindOneRoster + ".address": {
		"/ims/oneroster/rostering/v1p2", "/ims/oneroster", "/ims", "/v1p2", "/users",
		"/classes", "/enrollments", "/orgs", "/token",
	},
}

// shape says why a value cannot be what the field asks for, as far as its form tells: text
// that was copied with it, the wrong box, an address that is too deep. It is empty when
// nothing is wrong.
func (k Kind) shape(f Field, values map[string]string) string {
	v := values[f.Name]
	switch {
	case quoted.MatchString(v):
		return "stands in quotes or brackets; enter what is between them"
	case f.Secret && !f.Made:
		u, err := url.Parse(v)
		switch {
		case scheme.MatchString(v):
			return fmt.Sprintf("begins with %q, which Kanban adds itself; enter only what comes after it",
				strings.TrimSpace(scheme.FindString(v)))
		case err == nil && u.Host != "" && strings.HasPrefix(u.Scheme, "http"):
			return "is an address; were two boxes swapped?"
		case f.Name != "password" && blank.MatchString(v):
			return "has white space in it; was more copied than the value?"
		}
	case f.Address:
		return k.badAddress(f, v)
	case f.Name == "clientId", f.Name == "userName":
		if u, err := url.Parse(v); err == nil && u.Host != "" && strings.HasPrefix(u.Scheme, "http") {
			return "is an address; were two boxes swapped?"
		}
		for _, other := range k.Fields {
			if other.Secret && values[other.Name] == v {
				return fmt.Sprintf("is the same as %q; were both copied from one box?", other.Title)
			}
		}
	case f.Name == "origins":
		return badOrigins(v)
	case f.Name == "server":
		if strings.Contains(v, "://") {
			return "begins with the name of a protocol; leave that away. " + f.Help
		}
	case f.Name == "from":
		if a, err := mail.ParseAddress(v); err != nil || a.Address != v {
			return "is not an e-mail address; the name of the sender has its own box"
		}
	case f.Date:
		if _, err := time.Parse(time.DateOnly, v); err != nil {
			return "is not a day; write it as 2027-08-31"
		}
	}
	return ""
}

// badAddress says what of an address does not belong there.
func (k Kind) badAddress(f Field, v string) string {
	u, err := url.Parse(v)
	switch {
	case err != nil:
		return ""
	case u.User != nil:
		return "holds a user name; enter that in its own box"
	case u.Fragment != "":
		return "has a part after #; leave that away"
	case u.RawQuery != "" && k.Name != KindWebhook:
		return "has a part after ?; leave that away"
	}
	path := strings.TrimRight(u.Path, "/")
	for _, end := range tooDeep[k.Name+"."+f.Name] {
		if len(path) >= len(end) && strings.EqualFold(path[len(path)-len(end):], end) {
			return fmt.Sprintf("leads too deep: leave %s away. %s", end, f.Help)
		}
	}
	return ""
}

// badOrigins names the first that is no origin.
func badOrigins(v string) string {
	for _, origin := range strings.Fields(v) {
		u, err := url.Parse(origin)
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || origin != u.Scheme+"://"+u.Host {
			return fmt.Sprintf("%q is no origin: enter scheme, host and port only, such as https://platform.example",
				origin)
		}
	}
	return ""
}

// EndOf says when an interface's credential ends: the day after its last one, in the given
// zone; ok is false when nobody said.
func EndOf(settings map[string]string, zone *time.Location) (at time.Time, ok bool) {
	day, err := time.ParseInLocation(time.DateOnly, settings[Expires], zone)
	return day.AddDate(0, 0, 1), err == nil
}
