// Package call makes HTTP calls to outside systems and sorts what can go wrong
// into a few kinds that people can act on.
//
//	answer, err := call.New(call.Options{}).Do(ctx, request)
//	if problem, ok := call.As(err); ok && problem.Kind == call.WrongCredential { … }
package call

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/hashicorp/go-retryablehttp"
)

// Kind is the cause of a failed call, as far as it can be told from outside.
type Kind string

// The kinds.
const (
	Unreachable     Kind = "unreachable"      // no answer at all
	WrongCredential Kind = "wrong-credential" // 401, or the token endpoint refused
	NotAllowed      Kind = "not-allowed"      // 403
	NotFound        Kind = "not-found"        // 404
	NotEnabled      Kind = "not-enabled"      // 405 or 501: the service does not offer this
	Throttled       Kind = "throttled"        // 429, or 503 with Retry-After
	Refused         Kind = "refused"          // any other 4xx: this request, not the service
	Broken          Kind = "broken"           // 5xx, or an answer that cannot be read
)

// Problem is a failed call.
type Problem struct {
	Kind   Kind
	Status int // HTTP status, 0 without an answer
	Detail string
	// RetryAfter is how long the service asked to wait, 0 when it did not.
	RetryAfter time.Duration
	Err        error // the cause, when there was no answer
}

func (p *Problem) Error() string {
	text := string(p.Kind)
	if p.Status != 0 {
		text += " (" + strconv.Itoa(p.Status) + ")"
	}
	if p.Detail != "" {
		text += ": " + p.Detail
	}
	return text
}

func (p *Problem) Unwrap() error { return p.Err }

// Passing reports whether the same call may succeed later without anybody
// mending anything.
func (p *Problem) Passing() bool {
	return p.Kind == Unreachable || p.Kind == Throttled || p.Kind == Broken
}

// TimedOut reports whether no answer came within the time limit: the service may be at it
// still, and carry it out after nobody waits any more.
func (p *Problem) TimedOut() bool {
	var limit interface{ Timeout() bool }
	return p.Kind == Unreachable && errors.As(p.Err, &limit) && limit.Timeout()
}

// As finds the Problem in err.
func As(err error) (*Problem, bool) {
	var p *Problem
	ok := errors.As(err, &p)
	return p, ok
}

// Options of a Client. The zero value works.
type Options struct {
	// Timeout of one try, 20 s when zero.
	Timeout time.Duration
	// Retries after the first try of a call that may pass, 3 when zero, none when negative.
	Retries int
	// WaitMin and WaitMax bound the growing pause between tries: 200 ms and 5 s
	// when zero. A Retry-After up to WaitMax is obeyed; a longer one ends the
	// call with Throttled, so that the caller can plan.
	WaitMin, WaitMax time.Duration
	// MaxBody is the longest answer read, 32 MiB when zero.
	MaxBody int64
	// Detail finds the service's own words in an error body; nil shows its start.
	Detail func(body []byte) string
	// Enter is asked before each call and may wait: it bounds how many calls a
	// service gets at once and in a minute. leave ends the call. nil bounds nothing.
	Enter func(ctx context.Context) (leave func(), err error)
	// Bearer gives the token that each call carries (RFC 6750 section 2.1); refused is one that the service
	// has just refused, so that another one is wanted, and the call is made once more with that. nil leaves
	// the calls as they are.
	Bearer func(ctx context.Context, refused string) (token string, err error)
	// Transport carries the calls; one of its own when nil.
	Transport *http.Transport
	// Redirects says which are followed, none when zero.
	Redirects Redirects
}

// Client makes calls. It is safe for concurrent use.
type Client struct {
	options Options
	http    *retryablehttp.Client
}

// New prepares a client.
func New(o Options) *Client {
	if o.Timeout == 0 {
		o.Timeout = 20 * time.Second
	}
	if o.Retries == 0 {
		o.Retries = 3
	}
	if o.WaitMin == 0 {
		o.WaitMin = 200 * time.Millisecond
	}
	if o.WaitMax == 0 {
		o.WaitMax = 5 * time.Second
	}
	if o.MaxBody == 0 {
		o.MaxBody = 32 << 20
	}
	c := retryablehttp.NewClient()
	c.Logger = nil
	c.RetryMax = max(o.Retries, 0)
	c.RetryWaitMin, c.RetryWaitMax = o.WaitMin, o.WaitMax
	c.HTTPClient.Timeout = o.Timeout
	if o.Transport != nil {
		c.HTTPClient.Transport = o.Transport
	}
	o.Redirects.follow(c.HTTPClient)
	c.HTTPClient.Transport = whole{c.HTTPClient.Transport, o.MaxBody}
	c.ErrorHandler = retryablehttp.PassthroughErrorHandler
	c.Backoff = backoff
	c.CheckRetry = func(ctx context.Context, resp *http.Response, err error) (bool, error) {
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		var private *PrivateRedirect
		if errors.As(err, &private) {
			return false, nil // it stays so
		}
		if err != nil {
			return true, nil
		}
		if wait := retryAfter(resp); wait > o.WaitMax {
			return false, nil
		}
		return resp.StatusCode == http.StatusTooManyRequests || resp.StatusCode >= 500 &&
			resp.StatusCode != http.StatusNotImplemented, nil
	}
	return &Client{options: o, http: c}
}

// backoff doubles the pause at every try and obeys Retry-After.
func backoff(minimum, maximum time.Duration, attempt int, resp *http.Response) time.Duration {
	if wait := retryAfter(resp); wait > 0 {
		return min(wait, maximum)
	}
	wait := retryablehttp.DefaultBackoff(minimum, maximum, attempt, nil)
	return wait - time.Duration(rand.Int64N(int64(wait)/4+1)) // so that callers do not come back in step
}

// Limit is how long one try may take.
func (c *Client) Limit() time.Duration { return c.options.Timeout }

// Answer is a successful answer, read to its end.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// Do makes the call and reads the whole answer. Anything but a 2xx is a
// *Problem. The request's body must be a *bytes.Reader, *strings.Reader or nil,
// so that it can be sent again.
func (c *Client) Do(ctx context.Context, req *http.Request) (Answer, error) {
	retryable, err := retryablehttp.FromRequest(req.WithContext(ctx))
	if err != nil {
		return Answer{}, fmt.Errorf("preparing a call to %s: %w", req.URL.Redacted(), err)
	}
	token := ""
	if c.options.Bearer != nil {
		if token, err = c.options.Bearer(ctx, ""); err != nil {
			return Answer{}, err
		}
		retryable.Header.Set("Authorization", "Bearer "+token)
	}
	if c.options.Enter != nil {
		leave, err := c.options.Enter(ctx)
		if err != nil {
			return Answer{}, err
		}
		defer leave()
	}
	answer, err := c.do(retryable)
	if p, is := As(err); !is || p.Kind != WrongCredential || c.options.Bearer == nil {
		return answer, err
	}
	next, problem := c.options.Bearer(ctx, token)
	if problem != nil || next == token {
		return answer, errors.Join(problem, err)
	}
	retryable.Header.Set("Authorization", "Bearer "+next)
	return c.do(retryable)
}

func (c *Client) do(req *retryablehttp.Request) (Answer, error) {
	resp, err := c.http.Do(req)
	if err != nil {
		if ctxErr := req.Context().Err(); ctxErr != nil {
			return Answer{}, ctxErr
		}
		var private *PrivateRedirect
		if errors.As(err, &private) {
			return Answer{}, &Problem{Kind: Refused, Detail: private.Error(), Err: err}
		}
		var cut *brokenOff
		if errors.As(err, &cut) {
			return Answer{}, &Problem{Kind: Broken, Status: cut.status, Detail: "the answer broke off", Err: err}
		}
		return Answer{}, &Problem{Kind: Unreachable, Detail: reason(err), Err: err}
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body) // it is in memory
	if err != nil {
		return Answer{}, &Problem{Kind: Broken, Status: resp.StatusCode, Detail: "the answer broke off", Err: err}
	}
	if int64(len(body)) > c.options.MaxBody {
		return Answer{}, &Problem{
			Kind: Broken, Status: resp.StatusCode,
			Detail: fmt.Sprintf("the answer is longer than %d bytes", c.options.MaxBody),
		}
	}
	answer := Answer{Status: resp.StatusCode, Header: resp.Header, Body: body}
	if resp.StatusCode >= 200 && resp.StatusCode < 300 {
		return answer, nil
	}
	return answer, c.problem(resp, body)
}

func (c *Client) problem(resp *http.Response, body []byte) *Problem {
	p := &Problem{Status: resp.StatusCode, RetryAfter: retryAfter(resp)}
	switch s := resp.StatusCode; {
	case s == http.StatusUnauthorized:
		p.Kind = WrongCredential
	case s == http.StatusForbidden:
		p.Kind = NotAllowed
	case s == http.StatusNotFound, s == http.StatusGone:
		p.Kind = NotFound
	case s == http.StatusMethodNotAllowed, s == http.StatusNotImplemented:
		p.Kind = NotEnabled
	case s == http.StatusTooManyRequests, s == http.StatusServiceUnavailable && p.RetryAfter > 0:
		p.Kind = Throttled
	case s >= 300 && s < 400: // not followed: it may lead anywhere
		p.Kind = Refused
		p.Detail = "the service redirects to " + resp.Header.Get("Location") + "; enter that address if it is right"
		return p
	case s >= 400 && s < 500:
		p.Kind = Refused
	default:
		p.Kind = Broken
	}
	if c.options.Detail != nil {
		p.Detail = c.options.Detail(body)
	}
	if p.Detail == "" {
		p.Detail = Excerpt(body, 200)
	}
	return p
}

// reason is the innermost cause of a failed connection, in a few words.
func reason(err error) string {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err.Error()
		}
		err = inner
	}
}

func retryAfter(resp *http.Response) time.Duration {
	if resp == nil {
		return 0
	}
	text := resp.Header.Get("Retry-After")
	if seconds, err := strconv.Atoi(text); err == nil && seconds > 0 {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(time.Until(at), 0)
	}
	return 0
}

// Excerpt is the start of a body, on one line, at most n bytes of it.
func Excerpt(body []byte, n int) string {
	cut := bytes.ToValidUTF8(body[:min(len(body), n)], nil)
	text := strings.Join(strings.Fields(string(cut)), " ")
	if len(body) > n {
		text += " …"
	}
	return text
}
