package scim

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"kanban/internal/wire/call"
)

// Client calls one SCIM service with a bearer token (RFC 6750). Whatever the service refuses or
// does not answer is a *call.Problem.
type Client struct {
	address string
	token   string
	http    *call.Client
	once    *call.Client // for what is not to be repeated blindly
	late    time.Duration
	memory  *Memory
}

// NewClient calls the service whose base address, up to and without /Users, is
// given.
//
// A service may show only after a while what it has carried out; late is for how long it
// is looked at again after a lost answer, 0 for one look.
func NewClient(address, token string, late time.Duration, o call.Options) *Client {
	o.Detail = describe
	once := o
	once.Retries = -1
	return &Client{
		address: strings.TrimRight(address, "/"), token: token, http: call.New(o), once: call.New(once),
		late: late, memory: &Memory{},
	}
}

func describe(body []byte) string {
	var e Error
	if json.Unmarshal(body, &e) != nil {
		return ""
	}
	if e.ScimType == TypeNoTarget { // some services say only this
		return strings.TrimSpace(e.ScimType + ": " + e.Detail)
	}
	return e.Detail
}

// do sends one request; out may be nil.
func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	return c.send(ctx, c.http, method, path, "", in, out)
}

// WaitUntilSeen looks again (call.LookAgain) for as long as the service may be late.
func (c *Client) WaitUntilSeen(ctx context.Context, see func() (bool, error)) (seen bool, err error) {
	return call.LookAgain(ctx, c.late, see)
}

// afterLost looks for what a call without an answer may have done. When it ran into its time
// limit, the service may be at it still: then it is looked for at least as long again.
func (c *Client) afterLost(ctx context.Context, lost *call.Problem, see func() (bool, error)) (bool, error) {
	late := c.late
	if lost.TimedOut() {
		late = max(late, c.once.Limit())
	}
	return call.LookAgain(ctx, late, see)
}

// make sends a POST that makes something, once. When its answer is lost it may have been
// carried out all the same: then find looks for what was made. It is not made again here.
func (c *Client) make(ctx context.Context, path string, in, out any, find func() (bool, error)) error {
	err := c.send(ctx, c.once, http.MethodPost, path, "", in, out)
	p, ok := call.As(err)
	if !ok || !p.Passing() || p.Kind == call.Throttled {
		return err
	}
	found, findErr := c.afterLost(ctx, p, find)
	if findErr == nil && found {
		return nil
	}
	return err // whoever tries again looks first
}

// send sends one request; with a version the resource must still have it.
func (c *Client) send(ctx context.Context, over *call.Client, method, path, version string, in, out any) error {
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
	if version != "" {
		req.Header.Set("If-Match", version)
	}
	answer, err := over.Do(ctx, req)
	if err != nil {
		return err
	}
	return read(answer, out)
}

// read reads an answer. Where a resource or a list is to come, nothing at all is no answer; where
// nothing has to come (RFC 7644 3.5.2), a page of somebody in between is none either.
func read(answer call.Answer, out any) error {
	body, what := bytes.TrimSpace(answer.Body), "the answer is not what SCIM promises: "
	var err error
	switch {
	case out == nil && (len(body) == 0 || json.Valid(body)):
		return nil
	case out == nil:
	case len(body) == 0 || string(body) == "null":
		what = "the answer is empty"
	default:
		if err = json.Unmarshal(body, out); err == nil {
			return nil
		}
	}
	return broken(answer.Status, what+call.Excerpt(body, 80), err)
}

func broken(status int, detail string, cause error) *call.Problem {
	return &call.Problem{Kind: call.Broken, Status: status, Detail: detail, Err: cause}
}

// Config reads the service provider configuration (RFC 7644 4) anew.
func (c *Client) Config(ctx context.Context) (ServiceProviderConfig, error) {
	config, err := c.config(ctx)
	if err == nil {
		c.memory.mu.Lock()
		defer c.memory.mu.Unlock()
		c.memory.config, c.memory.said, c.memory.asked, c.memory.schemas = config, true, time.Now(), nil
	}
	return config, err
}

func (c *Client) config(ctx context.Context) (ServiceProviderConfig, error) {
	var config ServiceProviderConfig
	err := c.do(ctx, http.MethodGet, "/ServiceProviderConfig", nil, &config)
	return config, err
}

// Schemas reads which resource schemas the service knows, extensions among them.
func (c *Client) Schemas(ctx context.Context) ([]Schema, error) {
	var all page[Schema]
	if err := c.page(ctx, "/Schemas", &all); err != nil {
		return nil, fmt.Errorf("reading the schemas: %w", err)
	}
	return all.Resources, nil
}

// Unknown is how many there are when a service does not say.
const Unknown = math.MaxInt

// CountUsers asks how many users there are, without listing them: totalResults of a page of none
// (RFC 7644 3.4.2.4). A service that gives lists by cursor need not say: then it is Unknown.
func (c *Client) CountUsers(ctx context.Context) (int, error) {
	var none page[User]
	path := "/Users?startIndex=1&count=0"
	offers, _ := c.Offers(ctx)
	if offers.byCursor() && !offers.Pagination.Index {
		path = "/Users?count=0"
	}
	err := c.do(ctx, http.MethodGet, path, nil, &none)
	switch {
	case err != nil:
	case none.Total == nil && offers.byCursor():
		return Unknown, nil
	case none.Total == nil || *none.Total < 0:
		err = noList
	default:
		return *none.Total, nil
	}
	return 0, fmt.Errorf("counting users: %w", err)
}

// User reads one user (RFC 7644 3.4.1); one who is not there is a *call.Problem of kind NotFound.
func (c *Client) User(ctx context.Context, id string) (User, error) {
	var u User
	err := c.do(ctx, http.MethodGet, "/Users/"+url.PathEscape(id), nil, &u)
	if err == nil && u.ID != id {
		err = broken(http.StatusOK, fmt.Sprintf("the service answers about %q", u.ID), nil)
	}
	if err != nil {
		return User{}, fmt.Errorf("reading user %s: %w", id, err)
	}
	return u, nil
}

// Users reads every user that fits the filter (all of them for ""), page by page. What Equal and Any
// write is looked at here too: a service can pass over a filter, or not know any.
func (c *Client) Users(ctx context.Context, filter string) ([]User, error) {
	query := url.Values{"filter": {c.asked(ctx, filter)}}
	all, err := list(ctx, c, "/Users", query, func(u User) string { return u.ID })
	return fitting(all, filter, func(u User, t Term) bool {
		switch t.Attribute {
		case "id":
			return u.ID == t.Value
		case "externalid":
			return u.ExternalID == t.Value
		case "username":
			return strings.EqualFold(u.UserName, t.Value)
		case "emails.value", "emails":
			return slices.ContainsFunc(u.Emails, func(e Email) bool { return strings.EqualFold(e.Value, t.Value) })
		}
		return true
	}), err
}

// Groups reads every group that fits the filter, without members.
func (c *Client) Groups(ctx context.Context, filter string) ([]Group, error) {
	query := url.Values{"filter": {c.asked(ctx, filter)}, "excludedAttributes": {"members"}}
	all, err := list(ctx, c, "/Groups", query, groupID)
	return fitting(all, filter, func(g Group, t Term) bool {
		switch t.Attribute {
		case "externalid":
			return g.ExternalID == t.Value
		case "displayname":
			return strings.EqualFold(g.DisplayName, t.Value)
		}
		return true
	}), err
}

// asked is the filter that the service gets: none where it says that it knows none.
func (c *Client) asked(ctx context.Context, filter string) string {
	if offers, said := c.Offers(ctx); said && !offers.Filter.Supported {
		return ""
	}
	return filter
}

// fitting leaves away what does not fit a filter.
func fitting[T any](all []T, filter string, fits func(T, Term) bool) []T {
	terms, err := ParseAny(filter)
	if filter == "" || err != nil {
		return all
	}
	return slices.DeleteFunc(all, func(x T) bool {
		return !slices.ContainsFunc(terms, func(t Term) bool { return fits(x, t) })
	})
}

// GroupsWithMembers reads every group with its members, page by page.
func (c *Client) GroupsWithMembers(ctx context.Context) ([]Group, error) {
	return list(ctx, c, "/Groups", url.Values{}, groupID)
}

func groupID(g Group) string { return g.ID }

// known finds the account that a user to be made has already: by our key for it, or by its
// user name where it has none.
func (c *Client) known(ctx context.Context, u User) (found User, err error) {
	filter := Equal("externalId", u.ExternalID)
	if u.ExternalID == "" {
		filter = Equal("userName", u.UserName)
	}
	all, err := c.Users(ctx, filter)
	if err != nil || len(all) != 1 {
		return User{}, err
	}
	return all[0], nil
}

// CreateUser makes an account. When an account with this externalId is there
// already, as after a call whose answer was lost, that one is returned.
func (c *Client) CreateUser(ctx context.Context, u User) (User, error) {
	u.Schemas = []string{UserSchema}
	var made User
	find := func() (there bool, err error) {
		made, err = c.known(ctx, u)
		return made.ID != "", err
	}
	err := c.make(ctx, "/Users", u, &made, find)
	if p, ok := call.As(err); ok && p.Status == http.StatusConflict && u.ExternalID != "" {
		if there, findErr := c.WaitUntilSeen(ctx, find); findErr == nil && there {
			return made, nil
		}
	}
	if err != nil {
		return User{}, fmt.Errorf("creating an account: %w", err)
	}
	if made.ID == "" {
		return User{}, fmt.Errorf("creating an account: %w",
			&call.Problem{Kind: call.Broken, Detail: "the service gave the new account no id"})
	}
	return made, nil
}

// CreateUsers makes several accounts with one call (RFC 7644 3.7). It gives one
// answer per user, in their order; an error is for all of them.
func (c *Client) CreateUsers(ctx context.Context, users []User) ([]Made, error) {
	request := Bulk{Schemas: []string{BulkMessage}}
	for i, u := range users {
		u.Schemas = []string{UserSchema}
		data, err := json.Marshal(u)
		if err != nil {
			return nil, err
		}
		request.Operations = append(request.Operations,
			BulkOperation{Method: http.MethodPost, Path: "/Users", BulkID: strconv.Itoa(i), Data: data})
	}
	var answer Bulk
	err := c.send(ctx, c.once, http.MethodPost, "/Bulk", "", request, &answer)
	if p, ok := call.As(err); ok && p.Passing() && p.Kind != call.Throttled {
		return c.lookAgain(ctx, users, p)
	}
	if err != nil {
		return nil, fmt.Errorf("creating %d accounts: %w", len(users), err)
	}
	made := make([]Made, len(users))
	for i := range made { // what the answer passes over has not been done
		made[i].Err = &call.Problem{
			Kind:   call.Broken,
			Detail: "the service's answer does not say what became of this one",
		}
	}
	for _, o := range answer.Operations {
		i, err := strconv.Atoi(o.BulkID)
		if err != nil || i < 0 || i >= len(made) {
			continue
		}
		made[i] = c.made(ctx, users[i], o)
	}
	return made, nil
}

// lookAgain finds out which of several accounts were made by a call whose answer was lost.
// The others are to be made by whoever tries again.
func (c *Client) lookAgain(ctx context.Context, users []User, lost *call.Problem) ([]Made, error) {
	made := make([]Made, len(users))
	_, err := c.afterLost(ctx, lost, func() (all bool, err error) {
		all = true
		for i, u := range users {
			if made[i].ID == "" {
				found, err := c.known(ctx, u)
				if err != nil {
					return false, err
				}
				made[i].ID = found.ID
				all = all && made[i].ID != ""
			}
		}
		return all, nil
	})
	for i := range made {
		if made[i].ID == "" {
			made[i].Err = fmt.Errorf("creating an account: %w", lost)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("looking which accounts were made: %w", err)
	}
	return made, nil
}

// Made is what became of one account of several.
type Made struct {
	ID  string
	Err error
}

func (c *Client) made(ctx context.Context, u User, o BulkOperation) Made {
	status, _ := strconv.Atoi(o.Status)
	switch {
	case status == http.StatusCreated:
		id := o.Location[strings.LastIndexByte(o.Location, '/')+1:]
		if id == "" {
			return Made{Err: &call.Problem{Kind: call.Broken, Detail: "the service gave the new account no location"}}
		}
		return Made{ID: id}
	case status == http.StatusConflict && u.ExternalID != "":
		var found User
		there, err := c.WaitUntilSeen(ctx, func() (_ bool, err error) {
			found, err = c.known(ctx, u)
			return found.ID != "", err
		})
		if err == nil && there {
			return Made{ID: found.ID}
		}
	}
	kind := call.Refused
	if status >= 500 || status == 0 {
		kind = call.Broken
	}
	return Made{Err: fmt.Errorf("creating an account: %w",
		&call.Problem{Kind: kind, Status: status, Detail: describe(o.Response)})}
}

// workEmail is the address that is ours to write; a user may have others.
const workEmail = `emails[type eq "work"]`

// UpdateUser writes the given and the family name and the work address of an account;
// everything else, other addresses among it, is left as it is. With a version it is
// refused when the account has another one by now.
func (c *Client) UpdateUser(ctx context.Context, id, version string, name Name, email string) error {
	operations := c.writable(ctx, []Operation{
		operation("replace", "name.givenName", name.GivenName),
		operation("replace", "name.familyName", name.FamilyName),
	})
	address := c.writable(ctx, []Operation{operation("replace", workEmail+".value", email)})
	switch {
	case len(address) == 0 && len(operations) == 0:
		return &call.Problem{Kind: call.NotEnabled, Detail: "the service's schemas let neither name nor address be changed"}
	case len(address) == 0 || email == "":
		return c.patch(ctx, "/Users/", id, version, operations)
	}
	err := c.patch(ctx, "/Users/", id, version, append(slices.Clone(operations), address...))
	if noTarget(err) { // it has no work address yet (RFC 7644 3.5.2.3)
		return c.patch(ctx, "/Users/", id, version, append(operations,
			operation("add", "emails", []Email{{Value: email, Type: "work"}})))
	}
	return err
}

func noTarget(err error) bool {
	p, ok := call.As(err)
	return ok && p.Status == http.StatusBadRequest && strings.Contains(strings.ToLower(p.Detail),
		strings.ToLower(TypeNoTarget))
}

// SetActive switches an account on or off: PATCH of active (RFC 7643 4.1.1, RFC 7644 3.5.2).
func (c *Client) SetActive(ctx context.Context, id string, active bool) error {
	return c.patch(ctx, "/Users/", id, "", []Operation{operation("replace", "active", active)})
}

// DeleteUser removes an account (RFC 7644 section 3.6); one that is gone already is no error.
func (c *Client) DeleteUser(ctx context.Context, id string) error {
	err := c.do(ctx, http.MethodDelete, "/Users/"+url.PathEscape(id), nil, nil)
	if p, ok := call.As(err); ok && p.Kind == call.NotFound {
		return nil
	}
	return err
}

// Group reads a group with its members; one that is not there is a *call.Problem of kind NotFound.
func (c *Client) Group(ctx context.Context, id string) (Group, error) {
	var g Group
	err := c.do(ctx, http.MethodGet, "/Groups/"+url.PathEscape(id), nil, &g)
	if err == nil && g.ID != id {
		err = broken(http.StatusOK, fmt.Sprintf("the service answers about %q", g.ID), nil)
	}
	if err != nil {
		return Group{}, fmt.Errorf("reading group %s: %w", id, err)
	}
	return g, nil
}

// CreateGroup makes a group. externalID is our own key for it: a group that
// carries it already, as after a call whose answer was lost, is returned. extensions are
// attributes by schema URN and name.
func (c *Client) CreateGroup(ctx context.Context, name, externalID string,
	extensions map[string]map[string]any,
) (Group, error) {
	var made Group
	find := func() (bool, error) {
		found, err := c.Groups(ctx, Equal("externalId", externalID))
		if err != nil || len(found) == 0 {
			return false, err
		}
		if len(found) > 1 {
			return false, &call.Problem{
				Kind:   call.Refused,
				Detail: fmt.Sprintf("the service has %d groups with our key %s, called %q among others: remove all but one there", len(found), externalID, found[0].DisplayName),
			}
		}
		made = found[0]
		return true, nil
	}
	if there, err := find(); err != nil || there {
		return made, err
	}
	if err := c.make(ctx, "/Groups", Group{
		Schemas: []string{GroupSchema}, DisplayName: name, ExternalID: externalID,
		Extensions: extensions,
	}, &made, find); err != nil {
		return Group{}, fmt.Errorf("creating the group %q: %w", name, err)
	}
	if made.ID == "" {
		return Group{}, fmt.Errorf("creating the group %q: %w", name,
			&call.Problem{Kind: call.Broken, Detail: "the service gave the new group no id"})
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

// RenameGroup gives a group another name: PATCH of displayName (RFC 7644 3.5.2).
func (c *Client) RenameGroup(ctx context.Context, id, name string) error {
	return c.patch(ctx, "/Groups/", id, "", []Operation{operation("replace", "displayName", name)})
}

// AddMembers puts users into a group. Some services list a member twice who is
// added twice: add only whoever is not in it. After a lost answer it is looked who is in
// it by now, and only the others are put in.
func (c *Client) AddMembers(ctx context.Context, groupID string, userIDs ...string) error {
	missing := userIDs
	for try := 0; ; try++ {
		members := make([]Member, len(missing))
		for i, id := range missing {
			members[i] = Member{Value: id, Type: "User"}
		}
		patch := Patch{Schemas: []string{PatchMessage}, Operations: []Operation{operation("add", "members", members)}}
		err := c.send(ctx, c.once, http.MethodPatch, "/Groups/"+url.PathEscape(groupID), "", patch, nil)
		if err == nil {
			return nil
		}
		err = fmt.Errorf("changing Groups/%s: %w", groupID, err)
		p, ok := call.As(err)
		if !ok || !p.Passing() || p.RetryAfter > 0 || try == mostTries {
			return err
		}
		in, lookErr := c.afterLost(ctx, p, func() (bool, error) {
			g, err := c.Group(ctx, groupID)
			missing = slices.DeleteFunc(slices.Clone(userIDs), func(id string) bool {
				return slices.ContainsFunc(g.Members, func(m Member) bool { return m.Value == id })
			})
			return len(missing) == 0, err
		})
		if lookErr != nil {
			return err
		}
		if in {
			return nil
		}
	}
}

// mostTries is how often members are put in anew after an answer was lost.
const mostTries = 2

// RemoveMembers takes users out of a group; one who is not in it is no error.
func (c *Client) RemoveMembers(ctx context.Context, groupID string, userIDs ...string) error {
	operations := make([]Operation, len(userIDs))
	for i, id := range userIDs {
		operations[i] = Operation{Op: "remove", Path: "members[" + Equal("value", id) + "]"}
	}
	err := c.patch(ctx, "/Groups/", groupID, "", operations)
	if !noTarget(err) {
		return err
	}
	if len(userIDs) == 1 {
		return nil
	}
	for _, id := range userIDs { // one of them was not in it, so nobody was taken out
		if err := c.RemoveMembers(ctx, groupID, id); err != nil {
			return err
		}
	}
	return nil
}

func (c *Client) patch(ctx context.Context, kind, id, version string, operations []Operation) error {
	path := kind + url.PathEscape(id)
	if err := c.send(ctx, c.http, http.MethodPatch, path, version,
		Patch{Schemas: []string{PatchMessage}, Operations: operations}, nil); err != nil {
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
