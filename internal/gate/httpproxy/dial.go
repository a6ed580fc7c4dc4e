package httpproxy

import (
	"bufio"
	"context"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"syscall"

	"widelark/internal/outbound"
)

// Roots are further authorities for certificates of sites; nil for none.
type Roots = *x509.CertPool

// errInside refuses a connection into a network that the gate does not lead to.
var errInside = errors.New("the address is inside the organisation's network or on the gate's own machine, where this gate does not lead")

// dialer connects to sites. It checks the address that a name was resolved to, so that no name leads inside either.
type dialer struct {
	seats    *Seats
	reach    []netip.Prefix
	upstream *url.URL
}

func (d *dialer) dial(ctx context.Context, network, address string) (net.Conn, error) {
	direct := net.Dialer{Timeout: dialTimeout, ControlContext: d.control} // both families at once (RFC 8305)
	if d.upstream != nil && address == d.upstream.Host {
		direct.ControlContext = nil // the one address that the administrator has named
	}
	conn, err := direct.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return d.seats.seat(conn)
}

// control refuses an address that was resolved.
func (d *dialer) control(_ context.Context, _, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return fmt.Errorf("%q is not an address: %w", address, err)
	}
	addr := at.Addr().Unmap().WithZone("")
	if !outbound.Allowed(addr, d.reach) || own(addr) && !slices.ContainsFunc(d.reach, func(p netip.Prefix) bool { return p.Contains(addr) }) {
		return errInside
	}
	return nil
}

// refuses returns an error for an address that a URL names and this gate does not lead to. It counts where an upstream proxy connects in our place.
func (d *dialer) refuses(addr netip.Addr) error {
	if !addr.IsValid() || d.upstream == nil {
		return nil
	}
	return d.control(context.Background(), "", netip.AddrPortFrom(addr, 80).String(), nil)
}

// own reports whether an address is one of this machine's.
func own(addr netip.Addr) bool {
	all, err := net.InterfaceAddrs()
	return err == nil && slices.ContainsFunc(all, func(a net.Addr) bool {
		p, err := netip.ParsePrefix(a.String())
		return err == nil && p.Addr().Unmap().WithZone("") == addr
	})
}

// tunnel connects to a host and port, through the upstream proxy if there is one.
func (d *dialer) tunnel(ctx context.Context, address string) (net.Conn, error) {
	if d.upstream == nil {
		return d.dial(ctx, "tcp", address)
	}
	conn, err := d.dial(ctx, "tcp", d.upstream.Host)
	if err != nil {
		return nil, fmt.Errorf("the upstream proxy does not answer: %w", err)
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	ask := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: address}, Host: address, Header: http.Header{}}
	if user := d.upstream.User; user != nil {
		password, _ := user.Password()
		ask.Header.Set("Proxy-Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(user.Username()+":"+password)))
	}
	reader := bufio.NewReader(conn)
	var answer *http.Response
	if err = ask.Write(conn); err == nil {
		answer, err = http.ReadResponse(reader, ask) //nolint:bodyclose // an answer to CONNECT has no body: the tunnel follows
	}
	if err == nil && answer.StatusCode != http.StatusOK {
		err = fmt.Errorf("the upstream proxy answers %s", answer.Status)
	}
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	if n := reader.Buffered(); n > 0 {
		head, _ := reader.Peek(n)
		return &replayed{Conn: conn, head: slices.Clone(head)}, nil
	}
	return conn, nil
}
