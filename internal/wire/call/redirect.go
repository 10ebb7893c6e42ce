package call

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"syscall"
	"time"
)

// Redirects says which redirects of a service are followed.
type Redirects int

// The policies.
const (
	// RefuseRedirects follows none: an outside service that moves is a
	// configuration to be looked at, not to be trusted with a credential.
	RefuseRedirects Redirects = iota
	// PublicRedirects follows redirects to addresses that anybody can reach. One
	// that leads into a private network, onto this machine or to a link-local
	// address is refused when the connection is made, whatever its name says.
	PublicRedirects
	// AllRedirects follows them into private networks too.
	AllRedirects
)

// most is how many redirects one call follows.
const most = 5

// follow sets a client up for the policy. Only 307 and 308 are followed for calls that
// carry something, because the others would turn them into a GET (RFC 9110, section
// 15.4); and none that leads from https to http.
func (r Redirects) follow(c *http.Client) {
	c.CheckRedirect = func(next *http.Request, before []*http.Request) error {
		last := before[len(before)-1]
		if r == RefuseRedirects || len(before) > most || next.Method != last.Method || last.URL.Scheme == "https" &&
			next.URL.Scheme != "https" {
			return http.ErrUseLastResponse
		}
		return nil
	}
	if inner, ok := c.Transport.(*http.Transport); ok && r == PublicRedirects {
		guarded := inner.Clone()
		guarded.Proxy = nil              // a proxy would look the name up where nobody checks it
		guarded.DisableKeepAlives = true // nobody closes what it has open
		guarded.DialContext = (&net.Dialer{Timeout: 30 * time.Second, Control: onlyPublic}).DialContext
		c.Transport = redirected{inner, guarded}
	}
}

// redirected sends what a redirect caused through a transport of its own.
type redirected struct{ plain, guarded *http.Transport }

func (t redirected) RoundTrip(req *http.Request) (*http.Response, error) {
	if req.Response != nil { // set by net/http on requests that a redirect caused
		return t.guarded.RoundTrip(req)
	}
	return t.plain.RoundTrip(req)
}

// CloseIdleConnections is what http.Client asks its transport for.
func (t redirected) CloseIdleConnections() {
	t.plain.CloseIdleConnections()
	t.guarded.CloseIdleConnections()
}

// PrivateRedirect is a redirect to an address that not everybody can reach.
type PrivateRedirect struct{ Address netip.Addr }

func (e *PrivateRedirect) Error() string {
	return fmt.Sprintf("the service redirects to %s, an address in a private network; enter that address if it is right, or allow it on the connection", e.Address)
}

// shared is the address space that carriers share (RFC 6598).
var shared = netip.MustParsePrefix("100.64.0.0/10")

// onlyPublic looks at the address itself, after the name was looked up.
func onlyPublic(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	a := at.Addr().Unmap()
	if !a.IsGlobalUnicast() || a.IsPrivate() || shared.Contains(a) {
		return &PrivateRedirect{a}
	}
	return nil
}
