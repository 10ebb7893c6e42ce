package oneroster

import (
	"context"
	"crypto/sha256"
	"encoding/json"
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
	FileCategories: "/categories", FileLineItems: "/lineItems", FileResults: "/results",
	FileScoreScales: "/scoreScales",
}

// PageSize is how many records are asked for at a time.
const PageSize = 500

// Client speaks with a rostering or a gradebook service, with OAuth 2 client credentials (RFC 6749
// 4.4). It is safe for concurrent use.
type Client struct {
	address string // with the base path
	grant   clientcredentials.Config
	http    *call.Client

	mu    sync.Mutex
	token *oauth2.Token
}

// NewClient reads the service at address (scheme and host, without BasePath), which speaks a version.
func NewClient(version Version, address, tokenAddress, id, secret string, o call.Options) *Client {
	base, scope := BasePath, ScopeRosterReadonly
	if version == V11 {
		base, scope = BasePath11, ScopeRosterReadonly11
	}
	return newClient(strings.TrimRight(address, "/")+base, tokenAddress, id, secret, []string{scope}, o)
}

func newClient(address, tokenAddress, id, secret string, scopes []string, o call.Options) *Client {
	o.Detail = describe
	return &Client{
		address: address,
		grant: clientcredentials.Config{
			ClientID: id, ClientSecret: secret, TokenURL: tokenAddress,
			Scopes: scopes, AuthStyle: oauth2.AuthStyleInHeader,
		},
		http: call.New(o),
	}
}

// describe finds the service's words in an error body.
func describe(body []byte) string {
	var info StatusInfo
	var older statusInfos
	if json.Unmarshal(body, &info) == nil && info.Description != "" {
		return info.Description
	}
	if json.Unmarshal(body, &older) == nil && len(older.Set) > 0 {
		return older.Set[0].Description
	}
	return ""
}

// Authorise gets an access token unless a valid one is at hand, and returns the
// scopes that were granted.
func (c *Client) Authorise(ctx context.Context) (scopes []string, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.token.Valid() {
		token, err := c.grant.Token(context.WithValue(ctx, oauth2.HTTPClient, c.http.PlainHTTP()))
		if err != nil {
			return nil, call.TokenProblem(err)
		}
		c.token = token
	}
	granted, _ := c.token.Extra("scope").(string)
	return strings.Fields(granted), nil
}

func (c *Client) forgetToken() {
	c.mu.Lock()
	c.token = nil
	c.mu.Unlock()
}

func (c *Client) get(ctx context.Context, address string) (call.Answer, error) {
	return c.send(ctx, http.MethodGet, address, nil)
}

// Page is one page of a collection.
type Page struct {
	Items []json.RawMessage
	// Read is how many records came so far, this page's among them, and Total
	// how many the service says there are, 0 when it does not say.
	Read, Total int
	// Next is the address of the next page, empty on the last one. Where a service gives
	// neither a link nor a number, it is the page after the records that came so far.
	Next string

	print   [sha256.Size]byte // of the records
	guessed bool              // Next is no link of the service's
}

// Bounds of a collection: a service that goes beyond them gives pages without end.
const (
	MostRecords = 20_000_000
	mostEmpty   = 3 // empty pages in a row that name a next one
)

// First is the address of a collection's first page. With since it asks only for
// what changed after that (OneRoster 1.2 REST binding, "filter").
func (c *Client) First(file string, since time.Time) string {
	query := url.Values{"limit": {strconv.Itoa(PageSize)}, "offset": {"0"}}
	if !since.IsZero() {
		query.Set("filter", fmt.Sprintf("dateLastModified>'%s'", since.UTC().Format("2006-01-02T15:04:05.000Z")))
	}
	return c.address + paths[file] + "?" + query.Encode()
}

// Pages reads a collection page by page, following the Link header (RFC 8288),
// from the page at start, before which read records came. Without a link it goes on by
// offset until as many came as were announced or, where nothing is announced, until a page
// is empty. While each is at work on one page, the next one is under way. A page that is
// no page, a page that comes twice, a link that leads elsewhere, in circles or nowhere,
// ends it with an error.
func (c *Client) Pages(ctx context.Context, file, start string, read int, each func(Page) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	broken := func(format string, args ...any) error {
		return fmt.Errorf("reading %s: %w", paths[file],
			&call.Problem{Kind: call.Broken, Detail: fmt.Sprintf(format, args...)})
	}
	seen, prints, empty, linked := map[string]bool{}, map[[sha256.Size]byte]bool{}, 0, false
	coming := c.fetch(ctx, file, start)
	for next := start; next != ""; {
		if seen[next] {
			return broken("the next page leads back to a page already read")
		}
		seen[next] = true
		got := <-coming
		if got.err != nil {
			return fmt.Errorf("reading %s: %w", paths[file], got.err)
		}
		page := got.page
		if page.guessed && linked && page.Total == 0 { // a service that links its pages ends with one without
			page.Next = ""
		}
		linked = linked || page.Next != "" && !page.guessed
		if len(page.Items) == 0 {
			empty++
		} else if empty = 0; prints[page.print] {
			return broken("the service gives the same page twice, so that it is not clear what is missing; does it take the parameter offset?")
		}
		prints[page.print] = true
		read += len(page.Items)
		switch page.Read = read; {
		case page.Next == "" && read < page.Total:
			return broken("the service announced %d records and gave %d", page.Total, read)
		case empty == mostEmpty && page.Next != "":
			return broken("%d empty pages in a row name a next one", mostEmpty)
		case read > MostRecords:
			return broken("more than %d records came, which no register has", MostRecords)
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
	hash := sha256.New()
	for _, item := range p.Items {
		_, _ = hash.Write(item)
	}
	hash.Sum(p.print[:0])
	p.Total, _ = strconv.Atoi(answer.Header.Get("X-Total-Count"))
	links := answer.Header.Values("Link")
	if p.Next, err = c.follow(address, links); err != nil || p.Next != "" || len(links) > 0 && p.Total == 0 {
		return p, err
	}
	p.Next, err = after(address, len(p.Items), p.Total)
	p.guessed = p.Next != ""
	return p, err
}

// after gives the address of the page that follows by offset, empty when there is none.
func after(address string, items, total int) (string, error) {
	u, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	query := u.Query()
	offset, err := strconv.Atoi(query.Get("offset"))
	if err != nil || items == 0 || total > 0 && offset+items >= total {
		return "", nil //nolint:nilerr // a page of the service's own addressing, which it says is the last
	}
	query.Set("offset", strconv.Itoa(offset+items))
	u.RawQuery = query.Encode()
	return u.String(), nil
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
		return "", &call.Problem{
			Kind:   call.Broken,
			Detail: "the link to the next page leads to another host: " + next.Host,
		}
	}
	return next.String(), nil
}
