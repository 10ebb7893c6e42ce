package scim

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"kanban/internal/wire/call"
)

// Client calls one SCIM service with a bearer token (RFC 6750).
type Client struct {
	address string
	token   string
	http    *call.Client
}

// NewClient calls the service whose base address, up to and without /Users, is
// given.
func NewClient(address, token string, o call.Options) *Client {
	o.Detail = describe
	return &Client{address: strings.TrimRight(address, "/"), token: token, http: call.New(o)}
}

func describe(body []byte) string {
	var e Error
	if json.Unmarshal(body, &e) != nil {
		return ""
	}
	return e.Detail
}

// do sends one request; out may be nil.
func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return fmt.Errorf("%s %s: writing the request: %w", method, path, err)
		}
	}
	req, err := http.NewRequestWithContext(ctx, method, c.address+path, bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("%s %s: %w", method, path, err)
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("Accept", ContentType)
	if in != nil {
		req.Header.Set("Content-Type", ContentType)
	}
	answer, err := c.http.Do(ctx, req)
	if err != nil {
		return err
	}
	if out == nil || len(answer.Body) == 0 {
		return nil
	}
	if err := json.Unmarshal(answer.Body, out); err != nil {
		return &call.Problem{Kind: call.Broken, Status: answer.Status, Detail: "the answer is not what SCIM promises: " + call.Excerpt(answer.Body, 80), Err: err}
	}
	return nil
}

// Config reads the service provider configuration.
func (c *Client) Config(ctx context.Context) (ServiceProviderConfig, error) {
	var config ServiceProviderConfig
	err := c.do(ctx, http.MethodGet, "/ServiceProviderConfig", nil, &config)
	return config, err
}

// Users reads every user that fits the filter (all of them for ""), page by page.
func (c *Client) Users(ctx context.Context, filter string) ([]User, error) {
	return list[User](ctx, c, "/Users", filter)
}

// Groups reads every group that fits the filter, without members.
func (c *Client) Groups(ctx context.Context, filter string) ([]Group, error) {
	return list[Group](ctx, c, "/Groups", filter)
}

func list[T any](ctx context.Context, c *Client, path, filter string) ([]T, error) {
	var all []T
	for start := 1; ; {
		query := url.Values{"startIndex": {strconv.Itoa(start)}, "count": {strconv.Itoa(DefaultPageSize)}}
		if filter != "" {
			query.Set("filter", filter)
		}
		if path == "/Groups" {
			query.Set("excludedAttributes", "members")
		}
		var page List[T]
		if err := c.do(ctx, http.MethodGet, path+"?"+query.Encode(), nil, &page); err != nil {
			return nil, fmt.Errorf("listing %s: %w", strings.TrimPrefix(path, "/"), err)
		}
		all = append(all, page.Resources...)
		start += len(page.Resources)
		if start > page.TotalResults || len(page.Resources) == 0 {
			if len(all) < page.TotalResults {
				return nil, fmt.Errorf("listing %s: %w", strings.TrimPrefix(path, "/"), &call.Problem{Kind: call.Broken, Detail: fmt.Sprintf("the service announced %d and gave %d", page.TotalResults, len(all))})
			}
			return all, nil
		}
	}
}

// CreateUser makes an account. When an account with this externalId is there
// already, as after a call whose answer was lost, that one is returned.
func (c *Client) CreateUser(ctx context.Context, u User) (User, error) {
	u.Schemas = []string{UserSchema}
	var made User
	err := c.do(ctx, http.MethodPost, "/Users", u, &made)
	if p, ok := call.As(err); ok && p.Status == http.StatusConflict && u.ExternalID != "" {
		found, findErr := c.Users(ctx, Equal("externalId", u.ExternalID))
		if findErr == nil && len(found) == 1 {
			return found[0], nil
		}
	}
	if err != nil {
		return User{}, fmt.Errorf("creating an account: %w", err)
	}
	if made.ID == "" {
		return User{}, fmt.Errorf("creating an account: %w", &call.Problem{Kind: call.Broken, Detail: "the service gave the new account no id"})
	}
	return made, nil
}

// UpdateUser replaces the name and the work address of an account; everything
// else is left as it is.
func (c *Client) UpdateUser(ctx context.Context, id string, name Name, email string) error {
	operations := []Operation{operation("replace", "name", name)}
	if email != "" {
		operations = append(operations, operation("replace", "emails", []Email{{Value: email, Type: "work", Primary: true}}))
	}
	return c.patch(ctx, "/Users/", id, operations)
}

// SetActive switches an account on or off.
func (c *Client) SetActive(ctx context.Context, id string, active bool) error {
	return c.patch(ctx, "/Users/", id, []Operation{operation("replace", "active", active)})
}

// Group reads a group with its members.
func (c *Client) Group(ctx context.Context, id string) (Group, error) {
	var g Group
	if err := c.do(ctx, http.MethodGet, "/Groups/"+url.PathEscape(id), nil, &g); err != nil {
		return Group{}, fmt.Errorf("reading group %s: %w", id, err)
	}
	return g, nil
}

// CreateGroup makes a group. externalID is our own key for it: a group that
// carries it already, as after a call whose answer was lost, is returned.
func (c *Client) CreateGroup(ctx context.Context, name, externalID string) (Group, error) {
	found, err := c.Groups(ctx, Equal("externalId", externalID))
	if err != nil {
		return Group{}, err
	}
	if len(found) > 0 {
		return found[0], nil
	}
	var made Group
	if err := c.do(ctx, http.MethodPost, "/Groups", Group{Schemas: []string{GroupSchema}, DisplayName: name, ExternalID: externalID}, &made); err != nil {
		return Group{}, fmt.Errorf("creating the group %q: %w", name, err)
	}
	if made.ID == "" {
		return Group{}, fmt.Errorf("creating the group %q: %w", name, &call.Problem{Kind: call.Broken, Detail: "the service gave the new group no id"})
	}
	return made, nil
}

// DeleteGroup removes a group; one that is gone already is no error.
func (c *Client) DeleteGroup(ctx context.Context, id string) error {
	err := c.do(ctx, http.MethodDelete, "/Groups/"+url.PathEscape(id), nil, nil)
	if p, ok := call.As(err); ok && p.Kind == call.NotFound {
		return nil
	}
	return err
}

// AddMember puts a user into a group; a member already in it stays.
func (c *Client) AddMember(ctx context.Context, groupID, userID string) error {
	return c.patch(ctx, "/Groups/", groupID, []Operation{operation("add", "members", []Member{{Value: userID, Type: "User"}})})
}

// RemoveMember takes a user out of a group; one who is not in it is no error.
func (c *Client) RemoveMember(ctx context.Context, groupID, userID string) error {
	err := c.patch(ctx, "/Groups/", groupID, []Operation{{Op: "remove", Path: "members[" + Equal("value", userID) + "]"}})
	var p *call.Problem
	if errors.As(err, &p) && p.Status == http.StatusBadRequest && strings.Contains(p.Detail, TypeNoTarget) {
		return nil
	}
	return err
}

func (c *Client) patch(ctx context.Context, kind, id string, operations []Operation) error {
	path := kind + url.PathEscape(id)
	if err := c.do(ctx, http.MethodPatch, path, Patch{Schemas: []string{PatchMessage}, Operations: operations}, nil); err != nil {
		return fmt.Errorf("changing %s: %w", strings.TrimPrefix(path, "/"), err)
	}
	return nil
}

func operation(op, path string, value any) Operation {
	text, err := json.Marshal(value)
	if err != nil {
		panic("scim: a value cannot be written as JSON: " + err.Error())
	}
	return Operation{Op: op, Path: path, Value: text}
}
