package httpproxy

import (
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"syscall"

	"golang.org/x/sys/unix"
)

// The kernel's names for the question where a connection was going before it was redirected (netfilter, linux/netfilter_ipv4.h and linux/netfilter_ipv6/ip6_tables.h).
const (
	originalV4 = 80 // SO_ORIGINAL_DST
	originalV6 = 80 // IP6T_SO_ORIGINAL_DST
)

var errNotRedirected = errors.New("the kernel does not know where it was going")

// originalTo returns where a connection was going before the kernel redirected it here.
func originalTo(conn net.Conn) (to netip.AddrPort, err error) {
	tcp := tcpOf(conn)
	if tcp == nil {
		return to, errNotRedirected
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return to, err
	}
	var failed error
	err = raw.Control(func(fd uintptr) { to, failed = askKernel(int(fd)) })
	if err == nil && failed == nil {
		return to, nil
	}
	return to, errors.Join(errNotRedirected, err, failed)
}

func askKernel(fd int) (netip.AddrPort, error) {
	if v4, err := unix.GetsockoptIPv6Mreq(fd, syscall.IPPROTO_IP, originalV4); err == nil { // of the same size as an address with its port
		return netip.AddrPortFrom(netip.AddrFrom4([4]byte(v4.Multiaddr[4:8])), binary.BigEndian.Uint16(v4.Multiaddr[2:4])), nil
	}
	v6, err := unix.GetsockoptIPv6MTUInfo(fd, syscall.IPPROTO_IPV6, originalV6)
	if err != nil {
		return netip.AddrPort{}, err
	}
	port := binary.BigEndian.Uint16(binary.NativeEndian.AppendUint16(nil, v6.Addr.Port)) // it stands in the order of the network
	return netip.AddrPortFrom(netip.AddrFrom16(v6.Addr.Addr), port), nil
}
