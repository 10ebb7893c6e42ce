package call

import (
	"errors"
	"fmt"
	"net/http"

	"golang.org/x/oauth2"
)

// TokenProblem sorts what went wrong when an access token was asked for (RFC 6749 section 5.2).
func TokenProblem(err error) error {
	var refused *oauth2.RetrieveError
	if !errors.As(err, &refused) {
		return fmt.Errorf("getting an access token: %w",
			&Problem{Kind: Unreachable, Detail: err.Error(), Err: err})
	}
	p := &Problem{
		Kind: WrongCredential, Status: refused.Response.StatusCode,
		Detail: refused.ErrorDescription, Err: err,
	}
	if p.Detail == "" {
		p.Detail = refused.ErrorCode
	}
	switch {
	case refused.ErrorCode == "invalid_scope":
		p.Kind = NotAllowed
	case p.Status >= 500:
		p.Kind = Broken
	case p.Status == http.StatusNotFound:
		p.Kind = NotFound
	case p.Status == http.StatusTooManyRequests:
		p.Kind = Throttled
	}
	return fmt.Errorf("getting an access token: %w", p)
}

// PlainHTTP is a client for what makes its calls by itself: each within the time limit, none redirected,
// none repeated.
func (c *Client) PlainHTTP() *http.Client {
	return &http.Client{
		Transport: c.http.HTTPClient.Transport, Timeout: c.options.Timeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}
