//go:build !linux

package httpproxy

import (
	"errors"
	"net"
	"net/netip"
)

// originalTo returns where a connection was going before it was redirected here.
func originalTo(net.Conn) (netip.AddrPort, error) {
	return netip.AddrPort{}, errors.New("redirected connections are taken on Linux alone")
}
