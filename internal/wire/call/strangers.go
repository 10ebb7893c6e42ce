package call

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"
)

// Strangers fetches documents at addresses that anybody may have written: nothing is sent but the question, only
// addresses that everybody can reach are asked, and size and time are bounded.
type Strangers struct {
	http *http.Client
}

// mostOfStrangers bounds what is fetched from strangers, in bytes.
const mostOfStrangers = 8 << 20

// NewStrangers makes a fetcher; within bounds each answer, and private lets it reach private networks and this machine
// too.
func NewStrangers(within time.Duration, private bool) *Strangers {
	dialer := &net.Dialer{Timeout: within}
	if !private {
		dialer.Control = onlyPublic
	}
	c := &http.Client{
		Timeout: within,
		Transport: &http.Transport{
			DialContext:            dialer.DialContext,
			DisableKeepAlives:      true,
			MaxResponseHeaderBytes: 64 << 10,
		},
	}
	AllRedirects.follow(c)
	return &Strangers{http: c}
}

// ErrNothingThere says that an address answers and has nothing.
var ErrNothingThere = errors.New("there is nothing at this address")

// Get fetches what is at an address, in the form that is asked for.
func (s *Strangers) Get(ctx context.Context, address, accept string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, http.NoBody)
	if err != nil {
		return nil, fmt.Errorf("%q is no address", address)
	}
	req.Header.Set("Accept", accept)
	resp, err := s.http.Do(req)
	var private *PrivateRedirect
	switch {
	case errors.As(err, &private):
		return nil, fmt.Errorf("%s is an address in a private network, which is not asked", private.Address)
	case err != nil:
		return nil, fmt.Errorf("it does not answer: %w", err)
	}
	defer resp.Body.Close()
	switch {
	case resp.StatusCode == http.StatusNotFound || resp.StatusCode == http.StatusGone:
		return nil, ErrNothingThere
	case resp.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("it answers %d %s", resp.StatusCode, http.StatusText(resp.StatusCode))
	}
	body, err := io.ReadAll(io.LimitReader(resp.Body, mostOfStrangers+1))
	if err != nil {
		return nil, fmt.Errorf("its answer broke off: %w", err)
	}
	if len(body) > mostOfStrangers {
		return nil, fmt.Errorf("its answer is larger than %d MB", mostOfStrangers>>20)
	}
	return body, nil
}
