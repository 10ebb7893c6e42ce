package auth

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// ClientAddress is where a request comes from. Proxies that are trusted add to
// X-Forwarded-For whom they speak for; what anybody else writes there is not believed.
func ClientAddress(r *http.Request, trusted []netip.Prefix) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for at := host; ; {
		a, err := netip.ParseAddr(strings.TrimSpace(at))
		if err != nil {
			return host
		}
		host = a.Unmap().String()
		if !slices.ContainsFunc(trusted, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) }) ||
			len(hops) == 0 {
			return host
		}
		at, hops = hops[len(hops)-1], hops[:len(hops)-1]
	}
}
