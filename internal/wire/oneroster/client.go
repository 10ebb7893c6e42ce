package oneroster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"kanban/internal/wire/call"
)

// Collection is a list endpoint whose records decode into T.
type Collection[T any] struct {
	Path    string
	Wrapper string // the JSON member that holds the list
}

// The collections of the rostering service.
var (
	Orgs             = Collection[Org]{"/orgs", "orgs"}
	AcademicSessions = Collection[AcademicSession]{"/academicSessions", "academicSessions"}
	Courses          = Collection[Course]{"/courses", "courses"}
	Classes          = Collection[Class]{"/classes", "classes"}
	Users            = Collection[User]{"/users", "users"}
	Enrollments      = Collection[Enrollment]{"/enrollments", "enrollments"}
)

// PageSize is how many records are asked for at a time.
const PageSize = 500

// Client reads a rostering service with OAuth 2 client credentials (RFC 6749
// 4.4). It is safe for concurrent use.
type Client struct {
	address string
	grant   clientcredentials.Config
	http    *call.Client

	mu    sync.Mutex
	token *oauth2.Token
}

// NewClient reads the service at address (scheme and host, without BasePath).
func NewClient(address, tokenAddress, id, secret string, o call.Options) *Client {
	o.Detail = describe
	return &Client{
		address: strings.TrimRight(address, "/"),
		grant: clientcredentials.Config{
			ClientID: id, ClientSecret: secret, TokenURL: tokenAddress,
			Scopes: []string{ScopeRosterReadonly}, AuthStyle: oauth2.AuthStyleInHeader,
		},
		http: call.New(o),
	}
}

// describe finds the service's words in an error body.
func describe(body []byte) string {
	var info StatusInfo
	if json.Unmarshal(body, &info) != nil {
		return ""
	}
	return info.Description
}

// Authorise gets an access token unless a valid one is at hand, and returns the
// scopes that were granted.
func (c *Client) Authorise(ctx context.Context) (scopes []string, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.token.Valid() {
		token, err := c.grant.Token(ctx)
		if err != nil {
			return nil, tokenProblem(err)
		}
		c.token = token
	}
	granted, _ := c.token.Extra("scope").(string)
	return strings.Fields(granted), nil
}

func tokenProblem(err error) error {
	var refused *oauth2.RetrieveError
	if !errors.As(err, &refused) {
		return fmt.Errorf("getting an access token: %w", &call.Problem{Kind: call.Unreachable, Detail: err.Error(), Err: err})
	}
	p := &call.Problem{Kind: call.WrongCredential, Status: refused.Response.StatusCode, Detail: refused.ErrorDescription, Err: err}
	if p.Detail == "" {
		p.Detail = refused.ErrorCode
	}
	switch {
	case refused.ErrorCode == "invalid_scope":
		p.Kind = call.NotAllowed
	case p.Status >= 500:
		p.Kind = call.Broken
	case p.Status == http.StatusNotFound:
		p.Kind = call.NotFound
	case p.Status == http.StatusTooManyRequests:
		p.Kind = call.Throttled
	}
	return fmt.Errorf("getting an access token: %w", p)
}

func (c *Client) forgetToken() {
	c.mu.Lock()
	c.token = nil
	c.mu.Unlock()
}

func (c *Client) get(ctx context.Context, address string) (call.Answer, error) {
	for renewed := false; ; renewed = true {
		if _, err := c.Authorise(ctx); err != nil {
			return call.Answer{}, err
		}
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return call.Answer{}, fmt.Errorf("reading %s: %w", address, err)
		}
		c.mu.Lock()
		c.token.SetAuthHeader(req)
		c.mu.Unlock()
		req.Header.Set("Accept", "application/json")
		answer, err := c.http.Do(ctx, req)
		if p, ok := call.As(err); ok && p.Kind == call.WrongCredential && !renewed {
			c.forgetToken() // expired or withdrawn before its time: one new one
			continue
		}
		return answer, err
	}
}

// Bad is called for a record that cannot be read; the others go on.
type Bad func(path string, position int, raw json.RawMessage, cause error)

// Page is told after every page: how many records came so far, and how many the
// service says there are (0 when it does not say).
type Page func(read, total int)

// Each reads a whole collection page by page, following the Link header (RFC
// 8288) and calling each record once. A page that is no page, a link that leads
// elsewhere or in circles, ends it with an error.
func Each[T any](ctx context.Context, c *Client, from Collection[T], each func(T) error, bad Bad, page Page) error {
	next := c.address + BasePath + from.Path + "?limit=" + strconv.Itoa(PageSize) + "&offset=0"
	seen := map[string]bool{}
	read := 0
	for next != "" {
		if seen[next] {
			return fmt.Errorf("reading %s: %w", from.Path, &call.Problem{Kind: call.Broken, Detail: "the next page leads back to a page already read"})
		}
		seen[next] = true
		answer, err := c.get(ctx, next)
		if err != nil {
			return fmt.Errorf("reading %s: %w", from.Path, err)
		}
		items, err := unwrap(answer.Body, from.Wrapper)
		if err != nil {
			return fmt.Errorf("reading %s: %w", from.Path, &call.Problem{Kind: call.Broken, Status: answer.Status, Detail: err.Error()})
		}
		for _, raw := range items {
			read++
			var record T
			if err := json.Unmarshal(raw, &record); err != nil {
				bad(from.Path, read, raw, err)
				continue
			}
			if err := each(record); err != nil {
				return err
			}
		}
		total, _ := strconv.Atoi(answer.Header.Get("X-Total-Count"))
		page(read, total)
		if next, err = c.follow(next, answer.Header.Values("Link")); err != nil {
			return fmt.Errorf("reading %s: %w", from.Path, err)
		}
		if next == "" && read < total {
			return fmt.Errorf("reading %s: %w", from.Path, &call.Problem{Kind: call.Broken, Detail: fmt.Sprintf("the service announced %d records and gave %d", total, read)})
		}
	}
	return nil
}

func unwrap(body []byte, wrapper string) ([]json.RawMessage, error) {
	var members map[string]json.RawMessage
	if err := json.Unmarshal(body, &members); err != nil {
		return nil, fmt.Errorf("the page is not JSON: %w", err)
	}
	list, ok := members[wrapper]
	if !ok {
		return nil, fmt.Errorf("the page has no member %q", wrapper)
	}
	var items []json.RawMessage
	if err := json.Unmarshal(list, &items); err != nil {
		return nil, fmt.Errorf("the member %q is not a list", wrapper)
	}
	return items, nil
}

// follow resolves the next link and refuses to carry the token to another host.
func (c *Client) follow(current string, links []string) (string, error) {
	target := NextLink(links)
	if target == "" {
		return "", nil
	}
	base, err := url.Parse(current)
	if err != nil {
		return "", err
	}
	next, err := base.Parse(target)
	if err != nil {
		return "", &call.Problem{Kind: call.Broken, Detail: "the link to the next page is not an address: " + target}
	}
	if next.Scheme != base.Scheme || next.Host != base.Host {
		return "", &call.Problem{Kind: call.Broken, Detail: "the link to the next page leads to another host: " + next.Host}
	}
	return next.String(), nil
}
