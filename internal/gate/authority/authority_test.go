package authority

import (
	"crypto/x509"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A client that trusts the authority accepts its certificates, for the host that they are made for and no other.
func TestCertificates(t *testing.T) {
	now := time.Date(2026, 11, 27, 14, 10, 0, 0, time.UTC)
	certificate, key, err := Make("Quillmere General", now)
	require.NoError(t, err)
	a, err := Open(certificate, key, func() time.Time { return now })
	require.NoError(t, err)
	root, err := x509.ParseCertificate(a.Raw())
	require.NoError(t, err)
	roots := x509.NewCertPool()
	roots.AddCert(root)
	long := "a-label-of-a-host-that-is-rather-long-but-not-too-long.another-label-of-it.heron.example"
	for _, host := range []string{"heron.example", "www.heron.example", "192.0.2.7", "2001:db8::7", "xn--mwe-sna.example", long} {
		c, err := a.Certificate(host)
		require.NoError(t, err)
		_, err = c.Leaf.Verify(x509.VerifyOptions{DNSName: host, Roots: roots, CurrentTime: now})
		require.NoError(t, err, host)
		_, err = c.Leaf.Verify(x509.VerifyOptions{DNSName: "tern.example", Roots: roots, CurrentTime: now})
		require.Error(t, err)
	}
	_, err = a.Certificate("a name with blanks\x00")
	require.Error(t, err)

	// The certificate is kept, until a week before its end.
	first, err := a.Certificate("heron.example")
	require.NoError(t, err)
	again, err := a.Certificate("heron.example")
	require.NoError(t, err)
	assert.Same(t, first, again)
	now = now.Add(leafLifetime - renewBefore + time.Minute)
	later, err := a.Certificate("heron.example")
	require.NoError(t, err)
	assert.NotSame(t, first, later)
	now = root.NotAfter.Add(-time.Hour)
	last, err := a.Certificate("heron.example")
	require.NoError(t, err)
	assert.Equal(t, root.NotAfter, last.Leaf.NotAfter, "no longer than the authority's own")

	_, other, err := Make("Quillmere General", now)
	require.NoError(t, err)
	_, err = Open(certificate, other, time.Now)
	assert.ErrorContains(t, err, "is not that of its certificate")
	assert.Contains(t, string(PEM(certificate)), "BEGIN CERTIFICATE")
	assert.Len(t, Fingerprint(certificate), 32*3-1)
}

// Many that ask for one host at once get one certificate; those used last are kept.
func TestManyCertificates(t *testing.T) {
	certificate, key, err := Make("Quillmere General", time.Now())
	require.NoError(t, err)
	a, err := Open(certificate, key, time.Now)
	require.NoError(t, err)
	var all sync.WaitGroup
	for i := range 64 {
		all.Go(func() {
			for j := range 8 {
				_, err := a.Certificate(fmt.Sprintf("host-%d.example", (i+j)%16))
				assert.NoError(t, err)
			}
		})
	}
	all.Wait()
	assert.Len(t, a.kept, 16)
	kept := a.find("host-3.example")
	for i := range mostKept {
		a.keep(fmt.Sprintf("other-%d.example", i), kept)
		if i%1000 == 0 {
			require.NotNil(t, a.find("host-3.example"))
		}
	}
	assert.Len(t, a.kept, mostKept)
	assert.NotNil(t, a.find("host-3.example"), "it was used all the while")
	assert.Nil(t, a.find("host-4.example"))
}

func BenchmarkIssue(b *testing.B) {
	certificate, key, err := Make("Quillmere General", time.Now())
	require.NoError(b, err)
	a, err := Open(certificate, key, time.Now)
	require.NoError(b, err)
	for i := 0; b.Loop(); i++ {
		_, err := a.Certificate(fmt.Sprintf("host-%d.example", i))
		require.NoError(b, err)
	}
}
