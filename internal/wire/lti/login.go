package lti

import (
	"net/url"
	"strings"
)

// Platform is a course platform that has joined: what is needed to ask it and to check what it says.
type Platform struct {
	Issuer    string
	ClientID  string
	Authorize string // where browsers are sent
	Keys      string // its public keys (RFC 7517)
}

// Login is how a platform begins (1EdTech Security Framework 1.0, 5.1.1.1): by GET or POST.
type Login struct {
	Issuer     string
	ClientID   string // empty where the platform does not say
	Deployment string // the same
	Hint       string
	Message    string // lti_message_hint
	Target     string // target_link_uri; not signed, so nothing is decided by it
	Storage    string // lti_storage_target: the frame that keeps values where cookies are blocked
}

// LoginOf reads what a platform sent.
func LoginOf(v url.Values) Login {
	return Login{
		Issuer: v.Get("iss"), ClientID: v.Get("client_id"), Deployment: v.Get("lti_deployment_id"),
		Hint:    v.Get("login_hint"),
		Message: v.Get("lti_message_hint"), Target: v.Get("target_link_uri"), Storage: v.Get("lti_storage_target"),
	}
}

// Lacks names what a platform left out.
func (l Login) Lacks() (all []string) {
	for _, x := range [][2]string{{"iss", l.Issuer}, {"login_hint", l.Hint}, {"target_link_uri", l.Target}} {
		if x[1] == "" {
			all = append(all, x[0])
		}
	}
	return all
}

// AddressAt is where the browser goes to be told who somebody is (1EdTech Security Framework 1.0, 5.1.1.2).
func (l Login) AddressAt(p Platform, redirect, state, nonce string) string {
	q := url.Values{
		"scope": {"openid"}, "response_type": {"id_token"}, "response_mode": {"form_post"}, "prompt": {"none"},
		"client_id": {p.ClientID}, "redirect_uri": {redirect}, "login_hint": {l.Hint}, "state": {state},
		"nonce": {nonce},
	}
	if l.Message != "" {
		q.Set("lti_message_hint", l.Message)
	}
	join := "?"
	if strings.Contains(p.Authorize, "?") {
		join = "&"
	}
	return p.Authorize + join + q.Encode()
}
