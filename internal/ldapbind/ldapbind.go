// Package ldapbind checks passwords at a directory, by a bind under a person's name (RFC 4511, section 4.2; RFC 4513, section 5.1).
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
	secured := &tls.Config{ServerName: d.url.Hostname(), RootCAs: d.roots, MinVersion: tls.VersionTLS12}
	conn, err := ldap.DialURL(d.url.String(), ldap.DialWithDialer(&net.Dialer{Timeout: patience}), ldap.DialWithTLSConfig(secured))
	if err != nil {
		return false, fmt.Errorf("the directory cannot be reached: %w", err)
	}
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	conn.SetTimeout(patience)
	if d.url.Scheme == "ldap" && !atLoopback(d.url.Hostname()) {
		if err := conn.StartTLS(secured); err != nil {
			return false, fmt.Errorf("the directory speaks no TLS: %w", err)
		}
	}
	err = conn.Bind(strings.Replace(d.name, placeholder, ldap.EscapeDN(name), 1), password)
	switch {
	case err == nil:
		return true, nil
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultInvalidCredentials, ldap.LDAPResultNoSuchObject, ldap.LDAPResultInvalidDNSyntax):
		return false, nil
	}
	return false, errors.Join(fmt.Errorf("the directory does not check the password: %w", err), ctx.Err())
}

func atLoopback(host string) bool {
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback() || host == "localhost"
}
