package forward

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"widelark/core/policy"
	"widelark/internal/outbound"
	"widelark/internal/watch"
)

// syslog sends records as messages of syslog: RFC 5424, framed by counting octets (RFC 6587, section 3.4.1; RFC 5425, section 4.3).
type syslog struct {
	address string
	tls     *tls.Config // nil for none
	ranges  []netip.Prefix
	host    string
}

// tlsOf returns how TLS is spoken with a collector; nil for not at all.
func tlsOf(b *watch.ForwardBody) (*tls.Config, error) {
	if b.Protocol == "syslog" && !b.TLS {
		return nil, nil
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if b.Roots != "" {
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM([]byte(b.Roots)) {
			return nil, errors.New("there is no certificate among the authorities that are trusted")
		}
	}
	return config, nil
}

// closing is how long a collector has to close its side when everything was sent.
const closing = 5 * time.Second

// send implements sender. Syslog has no answers: what was sent is taken for taken when the collector closes its side after ours. One that keeps it open is believed, too, unless it breaks off.
func (s *syslog) send(ctx context.Context, records []Sent) error {
	conn, err := outbound.Dialer(s.ranges).DialContext(ctx, "tcp", s.address)
	if err != nil {
		return err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	if s.tls != nil {
		config := s.tls.Clone()
		config.ServerName, _, _ = net.SplitHostPort(s.address)
		over := tls.Client(conn, config)
		if err := over.HandshakeContext(ctx); err != nil {
			return err
		}
		conn = over
	}
	var b bytes.Buffer
	for i := range records {
		message := Message(&records[i], s.host)
		fmt.Fprintf(&b, "%d %s", len(message), message)
	}
	if _, err := conn.Write(b.Bytes()); err != nil {
		return err
	}
	if err := conn.(interface{ CloseWrite() error }).CloseWrite(); err != nil {
		return err
	}
	_ = conn.SetReadDeadline(time.Now().Add(closing))
	_, err = io.Copy(io.Discard, conn)
	if timeout, ok := errors.AsType[net.Error](err); ok && timeout.Timeout() {
		return ctx.Err()
	}
	return err
}

// Facility and severities (RFC 5424, section 6.2.1).
const (
	local0  = 16
	info    = 6
	notice  = 5
	warning = 4
)

// Message writes a record as a message of syslog (RFC 5424). The names of its structured data are those of the search language; its enterprise number is the one for examples (RFC 5612), as we have none.
func Message(s *Sent, host string) []byte {
	severity := map[policy.Verdict]int{policy.Allow: info, policy.Watch: notice, policy.Hold: notice, policy.Block: warning}[s.Verdict]
	if severity == 0 {
		severity = info
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "<%d>1 %s %s widelark - request [request@32473", local0*8+severity, s.At.UTC().Format("2006-01-02T15:04:05.000Z"), orNil(host))
	for _, f := range s.Fields {
		fmt.Fprintf(&b, ` %s="%s"`, f.Key, escaped.Replace(f.Value))
	}
	b.WriteString("] \ufeff" + printable(s.text())) // the mark says that it is UTF-8
	return b.Bytes()
}

var escaped = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`)

// orNil returns a name for a header: printable ASCII, or the value for none.
func orNil(name string) string {
	name = strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return -1
		}
		return r
	}, name)
	if name == "" {
		return "-"
	}
	return name[:min(len(name), 255)]
}

// printable returns a text without line ends, at which collectors would begin another message.
func printable(text string) string { return strings.NewReplacer("\n", " ", "\r", " ").Replace(text) }
