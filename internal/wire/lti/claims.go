// Package lti speaks LTI 1.3 as a tool: it lets course platforms join, sends browsers to them to be told who somebody
// is, and checks what they say. It decides nothing about people or courses.
//
//	ask := lti.Login{Issuer: …}.AddressAt(platform, redirect, state, nonce)
//	message, err := verifier.Verify(ctx, platform, idToken, nonce, now)
package lti

import (
	"slices"
	"strings"
	"time"
)

// The names of claims begin so (LTI Core 1.3, 5.3 and 5.4), those of what platform and tool say of themselves are
// whole (LTI Dynamic Registration 1.0, 2.1 and 2.3).
const (
	claim               = "https://purl.imsglobal.org/spec/lti/claim/"
	platformDescription = "https://purl.imsglobal.org/spec/lti-platform-configuration"
)

// Version is the only one that messages of LTI 1.3 name.
const Version = "1.3.0"

// The kinds of messages that are understood.
const (
	ResourceLink = "LtiResourceLinkRequest"
)

// Context is the course, or the part of one, in which somebody opened a link (LTI Core 1.3, 5.4.1).
type Context struct {
	ID    string `json:"id"`
	Label string `json:"label"`
	Title string `json:"title"`
}

// Link is what somebody opened (LTI Core 1.3, 5.3.5).
type Link struct {
	ID string `json:"id"`
}

// Presentation says where to go afterwards (LTI Core 1.3, 5.4.4).
type Presentation struct {
	ReturnURL string `json:"return_url"`
}

// Register is what the platform knows of the records system (LTI Core 1.3, 5.4.5).
type Register struct {
	Person  string `json:"person_sourcedid"`
	Section string `json:"course_section_sourcedid"`
}

// Message is what a platform says when somebody opens a link, checked.
type Message struct {
	Issuer   string   `json:"iss"`
	Subject  string   `json:"sub"` // empty in an anonymous launch
	Audience audience `json:"aud"`
	Party    string   `json:"azp"`
	Nonce    string   `json:"nonce"`
	Name     string   `json:"name"`
	Email    string   `json:"email"`

	Type         string         `json:"https://purl.imsglobal.org/spec/lti/claim/message_type"`
	Version      string         `json:"https://purl.imsglobal.org/spec/lti/claim/version"`
	Deployment   string         `json:"https://purl.imsglobal.org/spec/lti/claim/deployment_id"`
	Target       string         `json:"https://purl.imsglobal.org/spec/lti/claim/target_link_uri"`
	Link         Link           `json:"https://purl.imsglobal.org/spec/lti/claim/resource_link"`
	Roles        []string       `json:"https://purl.imsglobal.org/spec/lti/claim/roles"`
	Context      Context        `json:"https://purl.imsglobal.org/spec/lti/claim/context"`
	Presentation Presentation   `json:"https://purl.imsglobal.org/spec/lti/claim/launch_presentation"`
	Custom       map[string]any `json:"https://purl.imsglobal.org/spec/lti/claim/custom"`
	Register     Register       `json:"https://purl.imsglobal.org/spec/lti/claim/lis"`
}

// CustomText is a custom parameter, empty where the platform did not replace it: it then repeats the variable.
func (m Message) CustomText(name string) string {
	text, _ := m.Custom[name].(string)
	if text = strings.TrimSpace(text); strings.HasPrefix(text, "$") {
		return ""
	}
	return text
}

// Sections are the register's ids of the sections that the context is about, as the platform says them in several
// places, the surest first: a custom parameter that asks for them, the claim about the records system, and the
// context's own id and label. One place may name several, separated by commas.
func (m Message) Sections() (places [][]string) {
	for _, text := range []string{m.CustomText("section"), m.Register.Section, m.Context.ID, m.Context.Label} {
		var ids []string
		for part := range strings.SplitSeq(text, ",") {
			if part = strings.TrimSpace(part); part != "" && len(part) <= 255 && !slices.Contains(ids, part) &&
				len(ids) < mostSections {
				ids = append(ids, part)
			}
		}
		if len(ids) > 0 {
			places = append(places, ids)
		}
	}
	return places
}

// mostSections bounds how many sections one context is about.
const mostSections = 50

// PersonID is the register's id of who opened the link, as far as the platform says it.
func (m Message) PersonID() string {
	if id := m.CustomText("person"); id != "" {
		return id
	}
	return strings.TrimSpace(m.Register.Person)
}

// audience is one client id, or several.
type audience []string

// times of a message, which are numbers of seconds that may have a fraction (RFC 7519 section 2).
const (
	skew   = time.Minute
	oldest = time.Hour
)
