package lti

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"kanban/internal/wire/call"
)

// Configuration is what a platform says of itself when a tool is to join it (LTI Dynamic Registration 1.0, 2.1).
type Configuration struct {
	Issuer       string   `json:"issuer"`
	Authorize    string   `json:"authorization_endpoint"`
	Token        string   `json:"token_endpoint"`
	Keys         string   `json:"jwks_uri"`
	Registration string   `json:"registration_endpoint"`
	Methods      []string `json:"token_endpoint_auth_methods_supported"`
	Platform     struct {
		Messages []struct {
			Type string `json:"type"`
		} `json:"messages_supported"`
	} `json:"https://purl.imsglobal.org/spec/lti-platform-configuration"`
}

// Tool is what Kanban says of itself when it joins.
type Tool struct {
	Name    string
	Base    string // its address, without a slash at its end
	Login   string
	Launch  string
	Keys    string
	Contact string
}

// Registered is what a platform gives a tool that has joined (LTI Dynamic Registration 1.0, 2.4).
type Registered struct {
	ClientID   string
	Deployment string // empty where the platform makes deployments later
}

// Variables that a platform replaces in what it says at each launch (LTI Core 1.3, B): the register's ids.
var Variables = map[string]string{"section": "$CourseSection.sourcedId", "person": "$Person.sourcedId"}

// ReadConfiguration reads what a platform says of itself at the address that it gave, which must be one of its own.
func ReadConfiguration(ctx context.Context, client *call.Client, address string) (c Configuration, err error) {
	at, err := url.Parse(address)
	if err != nil || at.Host == "" || at.Scheme != "https" && at.Scheme != "http" {
		return c, failed(WrongToken, "openid_configuration is not an address: have the platform open the whole registration address")
	}
	body, err := answered(ctx, client, http.MethodGet, address, "", nil)
	if err != nil {
		return c, err
	}
	if err := json.Unmarshal(body, &c); err != nil {
		return c, failed(WrongToken, "what is at %s is not what platforms say of themselves: %s", shortened(address), shortened(err.Error()))
	}
	return c, c.check(at)
}

// check refuses a configuration that lacks something, or that another host gave than the issuer's.
func (c Configuration) check(from *url.URL) error {
	for _, x := range []struct{ name, value string }{
		{"issuer", c.Issuer},
		{"authorization_endpoint", c.Authorize},
		{"token_endpoint", c.Token},
		{"jwks_uri", c.Keys},
		{"registration_endpoint", c.Registration},
	} {
		u, err := url.Parse(x.value)
		if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil {
			return failed(WrongToken, "the platform does not say its %s, or it is not an address", x.name)
		}
		if from.Scheme == "https" && u.Scheme != "https" {
			return failed(WrongToken, "the platform's %s is not protected by https", x.name)
		}
	}
	if u, _ := url.Parse(c.Issuer); u.Host != from.Host {
		return failed(WrongToken, "the platform calls itself %s, and its configuration is at another host, %s", shortened(c.Issuer),
			shortened(from.Host))
	}
	if len(c.Methods) > 0 && !slices.Contains(c.Methods, "private_key_jwt") {
		return failed(NotSupported, "the platform does not let tools in by their keys (private_key_jwt): it speaks an older version")
	}
	if m := c.Platform.Messages; len(m) > 0 && !slices.ContainsFunc(m, func(x struct {
		Type string `json:"type"`
	},
	) bool {
		return x.Type == ResourceLink
	}) {
		return failed(NotSupported, "the platform does not offer links to tools (%s)", ResourceLink)
	}
	return nil
}

// registration is the body with which a tool joins (LTI Dynamic Registration 1.0, 2.3), and the answer.
type registration struct {
	ApplicationType string   `json:"application_type"`
	GrantTypes      []string `json:"grant_types"`
	ResponseTypes   []string `json:"response_types"`
	Name            string   `json:"client_name"`
	Login           string   `json:"initiate_login_uri"`
	Redirects       []string `json:"redirect_uris"`
	Keys            string   `json:"jwks_uri"`
	Method          string   `json:"token_endpoint_auth_method"`
	Contacts        []string `json:"contacts,omitempty"`
	ClientID        string   `json:"client_id,omitempty"`
	Tool            tool     `json:"https://purl.imsglobal.org/spec/lti-tool-configuration"`
}

type tool struct {
	Domain      string            `json:"domain"`
	Target      string            `json:"target_link_uri"`
	Description string            `json:"description"`
	Claims      []string          `json:"claims"`
	Custom      map[string]string `json:"custom_parameters"`
	Messages    []toolMessage     `json:"messages"`
	Deployment  string            `json:"deployment_id,omitempty"`
}

type toolMessage struct {
	Type   string `json:"type"`
	Target string `json:"target_link_uri"`
	Label  string `json:"label"`
}

// Join registers a tool at a platform. token is the one that the platform gave for this, empty where it gave none.
func Join(ctx context.Context, client *call.Client, c Configuration, token string, t Tool) (r Registered, err error) {
	at, err := url.Parse(t.Base)
	if err != nil {
		return r, fmt.Errorf("reading this installation's address: %w", err)
	}
	body := registration{
		ApplicationType: "web", GrantTypes: []string{"implicit", "client_credentials"},
		ResponseTypes: []string{"id_token"},
		Name:          t.Name, Login: t.Login, Redirects: []string{t.Launch}, Keys: t.Keys, Method: "private_key_jwt",
		Tool: tool{
			Domain: at.Host, Target: t.Launch, Description: "Who is in the class, who is missing and why; progress and badges",
			Claims: []string{"iss", "sub", "name", "given_name", "family_name", "email"}, Custom: Variables,
			Messages: []toolMessage{{ResourceLink, t.Launch, t.Name}},
		},
	}
	if t.Contact != "" {
		body.Contacts = []string{t.Contact}
	}
	text, err := json.Marshal(body)
	if err != nil {
		return r, err
	}
	answer, err := answered(ctx, client, http.MethodPost, c.Registration, token, text)
	if err != nil {
		return r, err
	}
	var said registration
	if err := json.Unmarshal(answer, &said); err != nil || said.ClientID == "" || len(said.ClientID) > 255 {
		return r, failed(WrongToken, "the platform registered something, and did not say the client id")
	}
	return Registered{said.ClientID, said.Tool.Deployment}, nil
}

// answered makes one call and gives the answer's body.
func answered(ctx context.Context, client *call.Client, method, address, token string, body []byte) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(body))
	if err != nil {
		return nil, failed(WrongToken, "%s is not an address", shortened(address))
	}
	req.Header.Set("Accept", "application/json")
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	answer, err := client.Do(ctx, req)
	problem, is := call.As(err)
	switch {
	case is && problem.Kind == call.Unreachable:
		return nil, failed(Unreachable, "the platform does not answer at %s: %s", shortened(address), shortened(problem.Detail))
	case is && problem.Passing():
		return nil, failed(Unreachable, "the platform did not answer well at %s: %s", shortened(address), shortened(problem.Error()))
	case is:
		return nil, failed(WrongToken, "the platform refused (%d): %s", problem.Status, shortened(problem.Detail))
	}
	return answer.Body, err
}

// RefusalIn finds a platform's own words in an error (RFC 7591, 3.2.2), or shows the start of what it answered; see
// call.Options.
func RefusalIn(body []byte) string {
	var said struct {
		Code   string `json:"error"`
		Detail string `json:"error_description"`
	}
	if json.Unmarshal(body, &said) == nil && said.Code != "" {
		return strings.TrimSuffix(said.Code+": "+said.Detail, ": ")
	}
	return call.Excerpt(body, mostWords)
}
