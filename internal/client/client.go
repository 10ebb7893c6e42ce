// Package client calls a Kanban service.
//
//	c := client.New("http://127.0.0.1:7700", token)
//	page, err := client.Get[api.Page[api.Section]](ctx, c, "/sections?state=needs-person")
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kanban/internal/wire/api"
)

// Client is one caller of one service. It is safe for concurrent use.
type Client struct {
	address string
	token   string
	http    *http.Client

	mu    sync.Mutex
	seen  map[string]string // ETags by path, of what was read
	keeps bool
	hides bool
}

// HideNames makes answers have made-up names of people from now on; nothing can be changed then.
func (c *Client) HideNames() *Client {
	c.hides = true
	return c
}

// identify says with a request who makes it, and whether names are to be hidden.
func (c *Client) identify(req *http.Request) {
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if c.hides {
		req.Header.Set("Kanban-Hide-Names", "yes")
	}
}

// KeepToRead makes every change of something that this client has read before keep to what
// it read: it is refused when somebody has changed it since.
func (c *Client) KeepToRead() *Client {
	c.seen, c.keeps = map[string]string{}, true
	return c
}

// noteTag keeps the ETag of an answer, and tagFor gives the one to keep to.
func (c *Client) noteTag(path, tag string) {
	if !c.keeps {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.seen[path] = tag; tag == "" {
		delete(c.seen, path)
	}
}

func (c *Client) tagFor(path string) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.seen[path]
}

// New calls the service at address; an empty token is for signing in.
func New(address, token string) *Client {
	jar, _ := cookiejar.New(nil) // never fails without options
	return &Client{
		address: strings.TrimRight(address, "/"), token: token,
		http: &http.Client{Jar: jar, Timeout: 15 * time.Minute},
	}
}

// Address of the service.
func (c *Client) Address() string { return c.address }

// Problem is an RFC 9457 problem that the service answered.
type Problem struct {
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Errors []struct {
		Location string `json:"location"`
		Message  string `json:"message"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	text := p.Detail
	for _, e := range p.Errors {
		if e.Location != "" && !strings.Contains(text, e.Message) {
			text += fmt.Sprintf("\n  %s: %s", e.Location, e.Message)
		}
	}
	return text
}

// Code is the finding code that the problem carries, or "".
func (p *Problem) Code() string {
	for _, e := range p.Errors {
		if e.Location == "code" {
			return e.Message
		}
	}
	return ""
}

// About reports whether the problem is about a part of the request, such as "body.code".
func (p *Problem) About(location string) bool {
	for _, e := range p.Errors {
		if e.Location == location {
			return true
		}
	}
	return false
}

// ErrUnreachable means that no service answers at the address.
var ErrUnreachable = errors.New("no Kanban service answers")

func (c *Client) do(ctx context.Context, method, path string, header http.Header, body io.Reader, out any) error {
	address := c.address + "/api/v1" + path
	if strings.HasPrefix(path, "/open/") { // what anybody may read
		address = c.address + path
	}
	req, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	c.identify(req)
	if tag := c.tagFor(path); tag != "" && method != http.MethodGet && req.Header.Get("If-Match") == "" {
		req.Header.Set("If-Match", tag)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		var dial *url.Error
		if errors.As(err, &dial) && ctx.Err() == nil {
			return fmt.Errorf("%w at %s (%v); start it with: kanban serve", ErrUnreachable, c.address, dial.Err)
		}
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		return fmt.Errorf("reading the answer to %s %s: %w", method, path, err)
	}
	if resp.StatusCode >= 300 {
		p := &Problem{Status: resp.StatusCode, Detail: resp.Status}
		_ = json.Unmarshal(text, p)
		return p
	}
	c.noteTag(path, resp.Header.Get("ETag"))
	if raw, ok := out.(*[]byte); ok {
		*raw = text
		return nil
	}
	if out == nil || len(text) == 0 {
		return nil
	}
	return json.Unmarshal(text, out)
}

// Get reads one thing. A service that says it is busy is asked again for a few seconds.
func Get[T any](ctx context.Context, c *Client, path string) (out T, err error) {
	err = patiently(ctx, whileBusy, busy, func() error { return c.do(ctx, http.MethodGet, path, nil, nil, &out) })
	return out, err
}

// How long a service that is busy, and one that work was begun at and that does not answer
// for the moment, are asked again, and how often.
const (
	whileBusy = 8 * time.Second
	whileGone = time.Minute
	askAgain  = 250 * time.Millisecond
)

func busy(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == http.StatusServiceUnavailable
}

func gone(err error) bool {
	var p *Problem
	return errors.Is(err, ErrUnreachable) || errors.As(err, &p) && p.Status >= http.StatusInternalServerError
}

// patiently asks again for a while as long as an error passes.
func patiently(ctx context.Context, patience time.Duration, passes func(error) bool, ask func() error) error {
	for end := time.Now().Add(patience); ; {
		err := ask()
		if err == nil || !passes(err) || time.Now().After(end) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(askAgain):
		}
	}
}

// GetAgain reads something that is waited for: work that was begun goes on at the service
// while that is restarted or its network is away, and so does the waiting, for a minute.
func GetAgain[T any](ctx context.Context, c *Client, path string) (out T, err error) {
	err = patiently(ctx, whileGone, gone, func() error { return c.do(ctx, http.MethodGet, path, nil, nil, &out) })
	return out, err
}

// Send posts, puts or patches a body (nil for none) and reads the answer. Every
// POST carries an idempotency key, so that it can be repeated safely.
func Send[T any](ctx context.Context, c *Client, method, path string, body any) (T, error) {
	return send[T](ctx, c, http.Header{}, method, path, body)
}

// Edit sends a record that was read with a version, and is refused when somebody changed
// it in the meantime.
func Edit[T any](ctx context.Context, c *Client, method, path string, version int, body any) (T, error) {
	return send[T](ctx, c, http.Header{"If-Match": {fmt.Sprintf("%q", strconv.Itoa(version))}}, method, path, body)
}

func send[T any](ctx context.Context, c *Client, header http.Header, method, path string, body any) (out T,
	err error,
) {
	var content io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return out, err
		}
		content = bytes.NewReader(text)
		header.Set("Content-Type", "application/json")
	}
	if method == http.MethodPost {
		header.Set("Idempotency-Key", uuid.NewString())
	}
	err = c.do(ctx, method, path, header, content, &out)
	return out, err
}

// Post sends a body and reads the answer.
func Post[T any](ctx context.Context, c *Client, path string, body any) (T, error) {
	return Send[T](ctx, c, http.MethodPost, path, body)
}

// Empty is the answer of operations that answer nothing.
type Empty = struct{}

// All reads every page of a list.
func All[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	all := []T{}
	for cursor, at := "", path; ; {
		page, err := Get[api.Page[T]](ctx, c, at)
		if err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if page.Next == cursor && cursor != "" {
			return nil, fmt.Errorf("listing %s: the service gives the same page again and again", path)
		}
		if cursor = page.Next; cursor == "" {
			return all, nil
		}
		if at = path + "?cursor="; strings.Contains(path, "?") {
			at = path + "&cursor="
		}
		at += url.QueryEscape(cursor)
	}
}

// Download reads a file.
func (c *Client) Download(ctx context.Context, path string) ([]byte, error) {
	var text []byte
	err := c.do(ctx, http.MethodGet, path, nil, nil, &text)
	return text, err
}

// LoadCartridge sets a course's outline from a Common Cartridge manifest.
func (c *Client) LoadCartridge(ctx context.Context, courseID, prefix string, manifest io.Reader) (o api.Outline,
	err error,
) {
	err = c.do(ctx, http.MethodPut, "/courses/"+courseID+"/cartridge?prefix="+url.QueryEscape(prefix),
		http.Header{"Content-Type": {"application/xml"}}, manifest, &o)
	return o, err
}

// Upload reads a package of a register of files.
func (c *Client) Upload(ctx context.Context, interfaceID string, approved bool, file io.Reader) (r api.Run,
	err error,
) {
	path := fmt.Sprintf("/interfaces/%s/upload?approved=%t", interfaceID, approved)
	err = c.do(ctx, http.MethodPost, path, http.Header{"Content-Type": {"application/zip"}}, file, &r)
	return r, err
}

// UploadGradebook hands a package of a gradebook of files in.
func (c *Client) UploadGradebook(ctx context.Context, interfaceID string, file io.Reader) (r api.GradebookRead,
	err error,
) {
	err = c.do(ctx, http.MethodPost, "/interfaces/"+interfaceID+"/gradebook/upload",
		http.Header{"Content-Type": {"application/zip"}}, file, &r)
	return r, err
}

// CheckBadge has a badge checked: a picture, a credential or an address, at most 8 MB.
func (c *Client) CheckBadge(ctx context.Context, path string, file []byte) (b api.CheckedBadge, err error) {
	err = c.do(ctx, http.MethodPost, path, http.Header{"Content-Type": {"application/octet-stream"}}, bytes.NewReader(file), &b)
	return b, err
}

// SetBadgePicture gives a badge a picture, a PNG or an SVG.
func (c *Client) SetBadgePicture(ctx context.Context, badgeID string, file []byte) (b api.Badge, err error) {
	err = c.do(ctx, http.MethodPut, "/badges/"+badgeID+"/picture",
		http.Header{"Content-Type": {"application/octet-stream"}}, bytes.NewReader(file), &b)
	return b, err
}

// SetIssuerPicture gives an issuer a picture, a PNG or an SVG.
func (c *Client) SetIssuerPicture(ctx context.Context, issuerID string, file []byte) (i api.Issuer, err error) {
	return i, c.do(ctx, http.MethodPut, "/issuers/"+issuerID+"/picture",
		http.Header{"Content-Type": {"application/octet-stream"}}, bytes.NewReader(file), &i)
}

// AwardFromFile hands a CSV file of awards in.
func (c *Client) AwardFromFile(ctx context.Context, path string, file []byte) (p api.Page[api.Awarding], err error) {
	err = c.do(ctx, http.MethodPost, path, http.Header{"Content-Type": {"text/csv"}}, bytes.NewReader(file), &p)
	return p, err
}

// SetUp spends a set-up link and makes the first administrator.
func (c *Client) SetUp(ctx context.Context, s api.Setup) (api.Caller, error) {
	return Post[api.Caller](ctx, c, "/setup", s)
}

// SignIn opens a session in this client.
func (c *Client) SignIn(ctx context.Context, with api.SignIn) (api.Caller, error) {
	return Post[api.Caller](ctx, c, "/session", with)
}

// Wait follows a run to its end, calling seen for each state on the way.
func (c *Client) Wait(ctx context.Context, runID string, seen func(api.Run)) (api.Run, error) {
	for {
		r, err := GetAgain[api.Run](ctx, c, "/runs/"+runID)
		if err != nil {
			return r, err
		}
		seen(r)
		if r.Ended() {
			return r, nil
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// Live calls news for everything that changes until ctx ends or the stream does, and opened before
// that, once nothing is missed any more.
func (c *Client) Live(ctx context.Context, opened func(), news func(api.Live)) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.address+"/api/v1/live", nil)
	if err != nil {
		return err
	}
	c.identify(req)
	resp, err := (&http.Client{}).Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return &Problem{Status: resp.StatusCode, Detail: resp.Status}
	}
	lines := bufio.NewScanner(resp.Body)
	for first := true; lines.Scan(); {
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			if first { // the service's greeting
				first = false
				opened()
			}
			var l api.Live
			if json.Unmarshal([]byte(data), &l) == nil && l.Topic != "" {
				news(l)
			}
		}
	}
	return lines.Err()
}
