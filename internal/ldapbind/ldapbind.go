// Package ldapbind connects to directories, and checks passwords there, by a bind under a person's name (RFC 4511, section 4.2; RFC 4513, section 5.1).
//
// From: a name and a password.
// To: whether they belong together.
package ldapbind

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"
)

// placeholder stands for the person's name in the pattern of distinguished names.
const placeholder = "{name}"

// patience is how long an answer of the directory is waited for.
const patience = 5 * time.Second

// Directory checks passwords. It is safe for concurrent use.
type Directory struct {
	url   *url.URL
	name  string
	roots *x509.CertPool
}

// New returns a directory at an address, as ldaps://ldap.quillmere.internal. name is the pattern of people's distinguished names, as
// uid={name},ou=people,dc=quillmere,dc=example. roots are authorities besides the system's that its certificate may be from; nil for none. Passwords go there over TLS
// alone: an address with ldap:// is asked for StartTLS (RFC 4511, section 4.14), unless it is at loopback.
func New(address, name string, roots *x509.CertPool) (*Directory, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "ldap" && u.Scheme != "ldaps" {
		return nil, fmt.Errorf("%q is not the address of a directory; write it like ldaps://ldap.example", address)
	}
	if strings.Count(name, placeholder) != 1 {
		return nil, fmt.Errorf("%q does not hold %s once; write it like uid=%s,ou=people,dc=example", name, placeholder, placeholder)
	}
	if _, err := ldap.ParseDN(strings.Replace(name, placeholder, "x", 1)); err != nil {
		return nil, fmt.Errorf("%q is not a distinguished name: %w", name, err)
	}
	return &Directory{u, name, roots}, nil
}

// Check reports whether a person's name and password belong together. The error says that the directory cannot tell now.
func (d *Directory) Check(ctx context.Context, name, password string) (bool, error) {
	if password == "" || name == "" { // a bind without a password is anonymous, and succeeds (RFC 4513, section 5.1.2)
		return false, nil
	}
	conn, end, err := Dial(ctx, d.url, &net.Dialer{Timeout: patience}, d.roots, patience)
	if err != nil {
		return false, fmt.Errorf("the directory %w", err)
	}
	defer end()
	err = conn.Bind(strings.Replace(d.name, placeholder, ldap.EscapeDN(name), 1), password)
	switch {
	case err == nil:
		return true, nil
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultInvalidCredentials, ldap.LDAPResultNoSuchObject, ldap.LDAPResultInvalidDNSyntax):
		return false, nil
	}
	return false, errors.Join(fmt.Errorf("the directory does not check the password: %w", err), ctx.Err())
}

// Dial connects to a directory over TLS, or without at loopback. The error goes on after the directory's name. end closes the connection, which also ends with the context; patience is how
// long each answer is waited for.
func Dial(ctx context.Context, u *url.URL, dialer *net.Dialer, roots *x509.CertPool, patience time.Duration) (_ *ldap.Conn, end func(), err error) {
	secured := &tls.Config{ServerName: u.Hostname(), RootCAs: roots, MinVersion: tls.VersionTLS12}
	conn, err := ldap.DialURL(u.String(), ldap.DialWithDialer(dialer), ldap.DialWithTLSConfig(secured))
	if err != nil {
		return nil, nil, fmt.Errorf("cannot be reached: %w", err)
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	end = func() {
		stop()
		_ = conn.Close()
	}
	conn.SetTimeout(patience)
	if u.Scheme == "ldap" && !atLoopback(u.Hostname()) {
		if err := conn.StartTLS(secured); err != nil {
			end()
			return nil, nil, fmt.Errorf("speaks no TLS: %w", err)
		}
	}
	return conn, end, nil
}

func atLoopback(host string) bool {
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback() || host == "localhost"
}
