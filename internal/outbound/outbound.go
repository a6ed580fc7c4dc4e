// Package outbound fetches what people name by address, without letting them reach into the network that the service stands in.
//
// From: an address that somebody typed.
// To: an HTTP client that connects to public addresses, and to ranges that the administrator allows.
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

// WaitForAll is how long an answer may take, with all that it holds.
const WaitForAll = 10 * time.Minute

// A server that does not answer within these is taken for failed.
const (
	waitForHead = 30 * time.Second
	dialTimeout = 15 * time.Second
)

// mostRedirects is how often a server may send a request on.
const mostRedirects = 5

// ErrInside is what a connection to an address inside ends with. It is the same for ports that are open and closed: none is tried.
var ErrInside = errors.New("the address lies in a network that the service does not fetch from; its administrator can allow the range (--source-ranges)")

// inside are ranges that are not the public Internet (RFC 6890), beside those that net/netip names.
var inside = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("64:ff9b::/96"),
	netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2002::/16"),
}

// Allowed reports whether an address may be connected to.
func Allowed(addr netip.Addr, ranges []netip.Prefix) bool {
	addr = addr.Unmap()
	in := func(p netip.Prefix) bool { return p.Contains(addr.WithZone("")) }
	if slices.ContainsFunc(ranges, in) {
		return true
	}
	return addr.IsGlobalUnicast() && !addr.IsPrivate() && !addr.IsLoopback() && !addr.IsLinkLocalUnicast() && !slices.ContainsFunc(inside, in)
}

// Client returns a client that connects to nothing inside but the ranges. Every address that it connects to is looked at, whichever name
// or redirect led there. It takes no proxy from the environment: that would connect for it.
func Client(ranges []netip.Prefix) *http.Client {
	dialer := &net.Dialer{Timeout: dialTimeout, Control: func(_, address string, _ syscall.RawConn) error {
		to, err := netip.ParseAddrPort(address)
		if err != nil || !Allowed(to.Addr(), ranges) {
			return ErrInside
		}
		return nil
	}}
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
