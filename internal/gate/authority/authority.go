// Package authority makes certificates for connections that a gate opens, in the name of an authority that the organisation's clients trust.
//
// From: the authority's certificate and private key.
// To: a certificate for each host that is asked for.
package authority

import (
	"container/list"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"runtime"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"widelark/core/weburl"
)

// How long certificates are good for. Those of hosts are made again before they end.
const (
	lifetime     = 5 * 365 * 24 * time.Hour
	leafLifetime = 30 * 24 * time.Hour
	renewBefore  = 7 * 24 * time.Hour
	clockSlack   = 24 * time.Hour // clients whose clocks are behind
)

// mostName is the longest name of a host (RFC 1035, section 2.3.4).
const mostName = 253

// mostKept bounds how many certificates of hosts are kept.
const mostKept = 10_000

// Make returns the certificate of a new authority (DER) and its private key (PKCS #8).
func Make(organisation string, now time.Time) (certificate, key []byte, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	template := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{CommonName: organisation + ": web gate", Organization: []string{organisation}},
		NotBefore: now.Add(-clockSlack), NotAfter: now.Add(lifetime), IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
	}
	if certificate, err = x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private); err != nil {
		return nil, nil, err
	}
	key, err = x509.MarshalPKCS8PrivateKey(private)
	return certificate, key, err
}

// serial returns a random serial number of 127 bits (RFC 5280, section 4.1.2.2, allows 20 octets).
func serial() *big.Int {
	n, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127)) // reading random bytes cannot fail
	return n
}

// PEM returns a certificate in PEM (RFC 7468).
func PEM(certificate []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate})
}

// Fingerprint returns the SHA-256 of a certificate as people compare it.
func Fingerprint(certificate []byte) string {
	sum := sha256.Sum256(certificate)
	return fmt.Sprintf("% X", sum)
}

// Authority makes certificates for hosts. It is safe for concurrent use.
type Authority struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
	leaf        *ecdsa.PrivateKey // one for all hosts: making a key would cost more than the certificate
	now         func() time.Time

	making singleflight.Group
	hands  chan struct{} // bounds how many are made at once, so that other cores go on serving

	mu   sync.Mutex
	kept map[string]*list.Element // guarded by mu, as is used
	used *list.List               // of made, the one used last first
}

type made struct {
	host        string
	certificate *tls.Certificate
}

// Open returns the authority with a certificate and a key, as [Make] returns them. now is the clock.
func Open(certificate, key []byte, now func() time.Time) (*Authority, error) {
	parsed, err := x509.ParseCertificate(certificate)
	if err != nil {
		return nil, fmt.Errorf("the authority's certificate cannot be read: %w", err)
	}
	private, err := x509.ParsePKCS8PrivateKey(key)
	if err != nil {
		return nil, fmt.Errorf("the authority's key cannot be read: %w", err)
	}
	signer, ok := private.(*ecdsa.PrivateKey)
	if !ok || !signer.PublicKey.Equal(parsed.PublicKey) {
		return nil, errors.New("the authority's key is not that of its certificate")
	}
	leaf, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	return &Authority{
		certificate: parsed, key: signer, leaf: leaf, now: now, hands: make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2)),
		kept: map[string]*list.Element{}, used: list.New(),
	}, err
}

// Raw returns the authority's own certificate (DER).
func (a *Authority) Raw() []byte { return a.certificate.Raw }

// Certificate returns a certificate for a host, a name or an address. It is made once, and kept while it is used.
func (a *Authority) Certificate(host string) (*tls.Certificate, error) {
	if c := a.find(host); c != nil {
		return c, nil
	}
	c, err, _ := a.making.Do(host, func() (any, error) {
		a.hands <- struct{}{}
		defer func() { <-a.hands }()
		c, err := a.issue(host)
		if err == nil {
			a.keep(host, c)
		}
		return c, err
	})
	if err != nil {
		return nil, err
	}
	return c.(*tls.Certificate), nil
}

// find returns the certificate that is kept for a host; nil where there is none, or it ends soon.
func (a *Authority) find(host string) *tls.Certificate {
	a.mu.Lock()
	defer a.mu.Unlock()
	at := a.kept[host]
	if at == nil {
		return nil
	}
	c := at.Value.(made).certificate
	if a.now().Add(renewBefore).After(c.Leaf.NotAfter) {
		return nil
	}
	a.used.MoveToFront(at)
	return c
}

func (a *Authority) keep(host string, c *tls.Certificate) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if before := a.kept[host]; before != nil {
		a.used.Remove(before)
	}
	a.kept[host] = a.used.PushFront(made{host, c})
	if a.used.Len() > mostKept {
		last := a.used.Back()
		delete(a.kept, last.Value.(made).host)
		a.used.Remove(last)
	}
}

// issue makes a certificate for a host.
func (a *Authority) issue(host string) (*tls.Certificate, error) {
	now := a.now()
	template := &x509.Certificate{
		SerialNumber: serial(), NotBefore: now.Add(-clockSlack), NotAfter: now.Add(leafLifetime),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	if template.NotAfter.After(a.certificate.NotAfter) {
		template.NotAfter = a.certificate.NotAfter
	}
	const longestName = 64 // of a common name (RFC 5280, appendix A.1)
	if len(host) <= longestName {
		template.Subject.CommonName = host
	}
	if ip := net.ParseIP(host); ip != nil {
		template.IPAddresses = []net.IP{ip}
	} else if u, err := weburl.Parse("https://" + host + "/"); err == nil && u.Host() == strings.ToLower(host) && len(host) <= mostName {
		template.DNSNames = []string{host}
	} else {
		return nil, fmt.Errorf("%q is not the name of a host", host)
	}
	der, err := x509.CreateCertificate(rand.Reader, template, a.certificate, &a.leaf.PublicKey, a.key)
	if err != nil {
		return nil, fmt.Errorf("no certificate can be made for %q: %w", host, err)
	}
	leaf, err := x509.ParseCertificate(der)
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: a.leaf, Leaf: leaf}, err
}
