package directories

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"widelark/internal/ldapbind"
	"widelark/internal/outbound"
	"widelark/internal/peoplefile"
	"widelark/internal/secret"
)

// Reader reads directories where they are kept. It connects to public addresses and to some ranges only. It is safe for concurrent use.
type Reader struct {
	Ranges []netip.Prefix
	Roots  *x509.CertPool // authorities besides the system's that an LDAP server may have its certificate from; nil for none
	Client *http.Client   // see package outbound
	Box    *secret.Box    // for passwords; nil: none can be kept

	Resources Resources // what programs have sent
}

// PasswordPurpose is what passwords of directories are sealed for.
const PasswordPurpose = "password of a directory"

// MaxFile is how many bytes a file of people may have.
const MaxFile = 64 << 20

// The limits of reading from an LDAP server.
const (
	patience = 30 * time.Second // for one answer
	onePage  = 500              // entries
)

// everybody is the filter of entries that are people or groups (RFC 4519).
const everybody = "(|(objectClass=person)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=group))"

// Read reads a directory: where it is kept, or what programs have sent of it. What is wrong with the source is a sentence in the error; nothing of it is to be used then.
func (r *Reader) Read(ctx context.Context, d *Directory) (peoplefile.File, error) {
	switch d.Kind {
	case LDAP:
		return r.readLDAP(ctx, d)
	case File:
		return r.readFile(ctx, d)
	}
	sent, err := r.Resources.Resources(ctx, d.ID, ResourceQuery{})
	if err != nil {
		return peoplefile.File{}, err
	}
	return FromResources(sent)
}

func (r *Reader) readLDAP(ctx context.Context, d *Directory) (peoplefile.File, error) {
	u, err := url.Parse(d.URL)
	if err != nil {
		return peoplefile.File{}, err
	}
	conn, end, err := ldapbind.Dial(ctx, u, outbound.Dialer(r.Ranges), r.Roots, patience)
	if err != nil {
		return peoplefile.File{}, fmt.Errorf("the server %w", err)
	}
	defer end()
	if d.Bind != "" {
		if r.Box == nil {
			return peoplefile.File{}, errors.New("the service has no secret to open the password with: start it with --secret-file")
		}
		password, err := r.Box.Open(PasswordPurpose, d.Password)
		if err != nil || len(password) == 0 {
			return peoplefile.File{}, errors.New("the password to sign in with cannot be read any more: set it again")
		}
		if err := conn.Bind(d.Bind, string(password)); err != nil {
			return peoplefile.File{}, fmt.Errorf("the server refuses %s: %w", d.Bind, err)
		}
	}
	by := peoplefile.Attributes{Name: d.NameField, Stable: d.KeyField}
	wanted := []string{"objectClass", "uid", "cn", "ou", "displayName", "mail", "description", "member", "uniqueMember", "memberOf", "entryUUID"}
	for _, more := range []string{by.Name, by.Stable} {
		if more != "" {
			wanted = append(wanted, more)
		}
	}
	// A server that has more than it may give ends with an error: half of the people are not all of them.
	found, err := conn.SearchWithPaging(ldap.NewSearchRequest(d.Base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, everybody, wanted, nil), onePage)
	switch {
	case ctx.Err() != nil:
		return peoplefile.File{}, ctx.Err()
	case ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded):
		return peoplefile.File{}, errors.New("the server gives no more than some of its entries (size limit exceeded): the limit for whoever signs in has to be raised there")
	case err != nil:
		return peoplefile.File{}, fmt.Errorf("the server does not answer the search: %w", err)
	}
	return peoplefile.FromEntries(found.Entries, by, nil)
}

func (r *Reader) readFile(ctx context.Context, d *Directory) (peoplefile.File, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, d.URL, nil)
	if err != nil {
		return peoplefile.File{}, fmt.Errorf("the address cannot be asked: %w", err)
	}
	request.Header.Set("User-Agent", "widelark")
	response, err := r.Client.Do(request)
	if err != nil {
		return peoplefile.File{}, fmt.Errorf("the source does not answer: %w", err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return peoplefile.File{}, fmt.Errorf("the source answers %s", response.Status)
	}
	return ReadFile(response.Body, peoplefile.Attributes{Name: d.NameField, Stable: d.KeyField})
}

// ReadFile reads a file of people: LDIF, or a table. Which it is, its first lines say.
func ReadFile(from io.Reader, by peoplefile.Attributes) (peoplefile.File, error) {
	text, err := io.ReadAll(io.LimitReader(from, MaxFile+1))
	switch {
	case err != nil:
		return peoplefile.File{}, fmt.Errorf("the file broke off: %w", err)
	case len(text) > MaxFile:
		return peoplefile.File{}, fmt.Errorf("the file is larger than %d bytes", MaxFile)
	}
	if isLDIF(text) {
		return peoplefile.ReadLDIFBy(bytes.NewReader(text), by)
	}
	return peoplefile.ReadCSV(bytes.NewReader(text))
}

// isLDIF reports whether the first line that is no comment is one of LDIF (RFC 2849).
func isLDIF(text []byte) bool {
	for line := range bytes.Lines(bytes.TrimPrefix(text, []byte("\uFEFF"))) {
		if line = bytes.TrimSpace(line); len(line) > 0 && line[0] != '#' {
			head := strings.ToLower(string(line[:min(len(line), 9)]))
			return strings.HasPrefix(head, "version:") || strings.HasPrefix(head, "dn:")
		}
	}
	return false
}
