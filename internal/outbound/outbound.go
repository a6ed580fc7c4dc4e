// Package outbound fetches from addresses that people give, without letting them reach the internal network of the service.
//
// From: the ranges that the administrator allows.
// To: an HTTP client that connects to public addresses and to these ranges only.
package outbound

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"syscall"
	"time"
)

// WaitForAll is the longest time for a whole answer.
const WaitForAll = 10 * time.Minute

// A server that does not answer within these times has failed.
const (
	waitForHead = 30 * time.Second
	dialTimeout = 15 * time.Second
)

// mostRedirects is the largest number of redirects of one request.
const mostRedirects = 5

// ErrInside is the error of a connection to an internal address. It is the same for open and closed ports, as none is tried.
var ErrInside = errors.New("the address lies in a network that the service does not fetch from; its administrator can allow the range (--source-ranges)")

// inside are ranges outside the public Internet (RFC 6890) that the methods of net/netip do not cover.
var inside = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("64:ff9b::/96"),
	netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2002::/16"),
}

// Allowed reports whether the service may connect to an address.
func Allowed(addr netip.Addr, ranges []netip.Prefix) bool {
	addr = addr.Unmap()
	in := func(p netip.Prefix) bool { return p.Contains(addr.WithZone("")) }
	if slices.ContainsFunc(ranges, in) {
		return true
	}
	return addr.IsGlobalUnicast() && !addr.IsPrivate() && !addr.IsLoopback() && !addr.IsLinkLocalUnicast() && !slices.ContainsFunc(inside, in)
}

// Dialer returns a dialer that connects to no internal address outside the given ranges. It checks every address before it connects, whichever name led there.
func Dialer(ranges []netip.Prefix) *net.Dialer {
	return &net.Dialer{Timeout: dialTimeout, Control: func(_, address string, _ syscall.RawConn) error {
		to, err := netip.ParseAddrPort(address)
		if err != nil || !Allowed(to.Addr(), ranges) {
			return ErrInside
		}
		return nil
	}}
}

// Client returns a client that connects to no internal address outside the given ranges. It checks every address before it connects, whichever name
// or redirect led there. It ignores proxies of the environment, which would connect in its place.
func Client(ranges []netip.Prefix) *http.Client {
	dialer := Dialer(ranges)
	return &http.Client{
		Timeout: WaitForAll,
		Transport: &http.Transport{
			DialContext: dialer.DialContext, ResponseHeaderTimeout: waitForHead, TLSHandshakeTimeout: waitForHead, DisableCompression: true,
			MaxResponseHeaderBytes: 64 << 10,
		},
		CheckRedirect: func(_ *http.Request, via []*http.Request) error {
			if len(via) > mostRedirects {
				return fmt.Errorf("sent on more than %d times", mostRedirects)
			}
			return nil
		},
	}
}
