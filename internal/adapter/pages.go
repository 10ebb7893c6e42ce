package adapter

import (
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// placeholder is what stands in a template for something of each record.
var placeholder = regexp.MustCompile(`\{([^{}]*)\}`)

// placeholders are those that a template may have, by field.
var placeholders = map[string][]string{
	"classPage":    {"id", "code", "name"},
	"itemPage":     {"id"},
	"personPage":   {"id", "identifier", "email", "userName"},
	"deliveryPage": {"id", "person"},
}

// Page gives the address of a record's own page at the other side, made of an interface's template.
// It is empty when there is no template, or when the record has nothing to put into one of its
// places: an address that leads to somebody else's page is worse than none.
func Page(settings map[string]string, template string, values map[string]string) string {
	complete := true
	page := placeholder.ReplaceAllStringFunc(settings[template], func(p string) string {
		v := values[p[1:len(p)-1]]
		complete = complete && v != ""
		return url.PathEscape(v)
	})
	if !complete {
		return ""
	}
	return page
}

// badTemplate says what is wrong with a template, and is empty when nothing is.
func badTemplate(field, v string) string {
	found := placeholder.FindAllStringSubmatch(v, -1)
	for _, p := range found {
		if !slices.Contains(placeholders[field], p[1]) {
			return "has {" + p[1] + "}, which is not known; use {" + strings.Join(placeholders[field], "}, {") + "}"
		}
	}
	u, err := url.Parse(placeholder.ReplaceAllString(v, "x"))
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || strings.ContainsAny(u.Host, "{}"):
		return "is not a full address that begins with https://"
	case u.User != nil:
		return "holds a user name; leave that away"
	case placeholder.MatchString(hostPart(v)):
		return "has a place in the name of the host; it may only stand behind it"
	case strings.ContainsAny(placeholder.ReplaceAllString(v, ""), "{}"):
		return "has a brace without its other one"
	case len(found) == 0:
		return "leads everybody to the same page; say with {id} where the id goes"
	}
	return ""
}

// hostPart is what stands before the path of an address.
func hostPart(v string) string {
	_, after, _ := strings.Cut(v, "://")
	host, _, _ := strings.Cut(after, "/")
	return host
}
