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
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"kanban/internal/wire/call"
)

// paths are the list endpoints, by the name of the CSV file that holds the same
// records. The JSON member with the list has the name of the file.
var paths = map[string]string{
	FileOrgs: "/orgs", FileSessions: "/academicSessions", FileCourses: "/courses",
	FileClasses: "/classes", FileUsers: "/users", FileEnrollments: "/enrollments",
}

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

// Page is one page of a collection.
type Page struct {
	Items []json.RawMessage
	// Read is how many records came so far, this page's among them, and Total
	// how many the service says there are, 0 when it does not say.
	Read, Total int
	// Next is the address of the next page, empty on the last one.
	Next string
}

// First is the address of a collection's first page. With since it asks only for
// what changed after that (OneRoster 1.2 REST binding, "filter").
func (c *Client) First(file string, since time.Time) string {
	query := url.Values{"limit": {strconv.Itoa(PageSize)}, "offset": {"0"}}
	if !since.IsZero() {
		query.Set("filter", fmt.Sprintf("dateLastModified>'%s'", since.UTC().Format("2006-01-02T15:04:05.000Z")))
	}
	return c.address + BasePath + paths[file] + "?" + query.Encode()
}

// Pages reads a collection page by page, following the Link header (RFC 8288),
// from the page at start, before which read records came. While each is at work
// on one page, the next one is under way. A page that is no page, a link that
// leads elsewhere or in circles, ends it with an error.
func (c *Client) Pages(ctx context.Context, file, start string, read int, each func(Page) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	seen := map[string]bool{}
	coming := c.fetch(ctx, file, start)
	for next := start; next != ""; {
		if seen[next] {
			return fmt.Errorf("reading %s: %w", paths[file], &call.Problem{Kind: call.Broken, Detail: "the next page leads back to a page already read"})
		}
		seen[next] = true
		got := <-coming
		if got.err != nil {
			return fmt.Errorf("reading %s: %w", paths[file], got.err)
		}
		page := got.page
		read += len(page.Items)
		if page.Read = read; page.Next == "" && read < page.Total {
			return fmt.Errorf("reading %s: %w", paths[file], &call.Problem{Kind: call.Broken, Detail: fmt.Sprintf("the service announced %d records and gave %d", page.Total, read)})
		}
		if page.Next != "" && !seen[page.Next] {
			coming = c.fetch(ctx, file, page.Next)
		}
		if err := each(page); err != nil {
			return err
		}
		next = page.Next
	}
	return nil
}

type fetched struct {
	page Page
	err  error
}

// fetch gets one page in the background.
func (c *Client) fetch(ctx context.Context, file, address string) <-chan fetched {
	out := make(chan fetched, 1)
	go func() {
		page, err := c.page(ctx, file, address)
		out <- fetched{page, err}
	}()
	return out
}

func (c *Client) page(ctx context.Context, file, address string) (p Page, err error) {
	answer, err := c.get(ctx, address)
	if err != nil {
		return p, err
	}
	if p.Items, err = unwrap(answer.Body, file); err != nil {
		return p, &call.Problem{Kind: call.Broken, Status: answer.Status, Detail: err.Error()}
	}
	p.Total, _ = strconv.Atoi(answer.Header.Get("X-Total-Count"))
	p.Next, err = c.follow(address, answer.Header.Values("Link"))
	return p, err
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
