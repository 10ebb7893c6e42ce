package call

import (
	"bytes"
	"io"
	"net/http"
)

// whole reads every answer to its end, so that one that breaks off is a failed try like any
// other. Of one that is too long it reads one byte more than may be.
type whole struct {
	inner http.RoundTripper
	most  int64
}

func (t whole) RoundTrip(req *http.Request) (*http.Response, error) {
	resp, err := t.inner.RoundTrip(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, t.most+1))
	if err != nil {
		return nil, &brokenOff{resp.StatusCode, err}
	}
	resp.Body = io.NopCloser(bytes.NewReader(body))
	return resp, nil
}

// CloseIdleConnections is what http.Client asks its transport for.
func (t whole) CloseIdleConnections() {
	if inner, ok := t.inner.(interface{ CloseIdleConnections() }); ok {
		inner.CloseIdleConnections()
	}
}

// brokenOff is an answer that ended before its end.
type brokenOff struct {
	status int
	err    error
}

func (e *brokenOff) Error() string { return "the answer broke off: " + e.err.Error() }
func (e *brokenOff) Unwrap() error { return e.err }
