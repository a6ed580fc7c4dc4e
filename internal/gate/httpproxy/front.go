package httpproxy

import (
	"crypto/tls"
	"errors"
	"net"
	"net/netip"
	"slices"

	proxyproto "github.com/pires/go-proxyproto"
)

// Behind returns a listener whose connections from trusted ranges may begin with a header of the PROXY protocol, version 1 or 2, that says which client they are
// from. From all others such a header is no request, and refused.
func Behind(listener net.Listener, trusted []netip.Prefix) net.Listener {
	if len(trusted) == 0 {
		return listener
	}
	return &behind{&proxyproto.Listener{Listener: listener, ReadHeaderTimeout: greetTimeout, ConnPolicy: func(from proxyproto.ConnPolicyOptions) (proxyproto.Policy, error) {
		at, err := netip.ParseAddrPort(from.Upstream.String())
		if err == nil && slices.ContainsFunc(trusted, func(r netip.Prefix) bool { return r.Contains(at.Addr().Unmap()) }) {
			return proxyproto.USE, nil
		}
		return proxyproto.SKIP, nil
	}}}
}

type behind struct{ net.Listener }

// Accept implements [net.Listener].
func (b *behind) Accept() (net.Conn, error) {
	conn, err := b.Listener.Accept()
	if headed, ok := conn.(*proxyproto.Conn); ok {
		return &headedConn{headed}, err
	}
	return conn, err
}

// headedConn is a connection that may begin with a header.
type headedConn struct{ *proxyproto.Conn }

// CloseWrite says that nothing more follows; see [net.TCPConn.CloseWrite].
func (c *headedConn) CloseWrite() error {
	if tcp, ok := c.TCPConn(); ok {
		return tcp.CloseWrite()
	}
	return net.ErrClosed
}

// errNoAuthority is the error of a client that speaks TLS to a gate that has no authority yet.
var errNoAuthority = errors.New("the gate has no authority to make its certificate with")

// overTLS returns a listener for clients that speak TLS to their proxy. The authority makes the certificate, for the name that the client asks for or else for the
// address that it has come to. What is spoken inside is HTTP/1.1, whose tunnels are as on the plain listener.
func (p *Proxy) overTLS(listener net.Listener) net.Listener {
	return tls.NewListener(listener, &tls.Config{
		MinVersion: tls.VersionTLS12, NextProtos: []string{"http/1.1"},
		GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
			signs := p.signs.Load()
			if signs == nil {
				return nil, errNoAuthority
			}
			name := hello.ServerName
			if at, err := netip.ParseAddrPort(hello.Conn.LocalAddr().String()); name == "" && err == nil {
				name = at.Addr().Unmap().String()
			}
			return signs.Certificate(name)
		},
	})
}
