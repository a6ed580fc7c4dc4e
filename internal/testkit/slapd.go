package testkit

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Slapd is Debian's LDAP server on loopback.
type Slapd struct {
	Plain, Secure string // addresses
	Roots         []byte // the authority of its certificate, in PEM
	Stop          func()
}

const peopleOfSlapd = `dn: dc=quillmere,dc=example
objectClass: dcObject
objectClass: organization
o: Quillmere General
dc: quillmere

dn: ou=people,dc=quillmere,dc=example
objectClass: organizationalUnit
ou: people

dn: uid=kay.moran,ou=people,dc=quillmere,dc=example
objectClass: inetOrgPerson
uid: kay.moran
cn: Kay Moran
sn: Moran
userPassword: heather and tide 7

dn: uid=ola\, fenn,ou=people,dc=quillmere,dc=example
objectClass: inetOrgPerson
uid: ola, fenn
cn: Ola Fenn
sn: Fenn
userPassword: another
`

func certificateFor(t testing.TB, dir string) []byte {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "slapd"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true,
		IPAddresses: []net.IP{net.ParseIP("127.0.0.1")}, DNSNames: []string{"slapd.test"},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	private, err := x509.MarshalECPrivateKey(key)
	require.NoError(t, err)
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	require.NoError(t, os.WriteFile(filepath.Join(dir, "cert.pem"), text, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key.pem"), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: private}), 0o644))
	return text
}

// FreePort returns a port of loopback that nobody listens on.
func FreePort(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port
}

// StartSlapd starts a server with two people; see [StartSlapdOf].
func StartSlapd(t testing.TB) *Slapd { return StartSlapdOf(t, peopleOfSlapd) }

// SlapdManager and SlapdPassword are who may edit what a server has.
const SlapdManager, SlapdPassword = "cn=manager,dc=quillmere,dc=example", "reed and tide 9"

// StartSlapdOf starts a server with what an LDIF file has, below dc=quillmere,dc=example, and further lines of configuration, until the test ends. Where the server is not installed, the
// test is skipped.
func StartSlapdOf(t testing.TB, people string, further ...string) *Slapd {
	t.Helper()
	const program = "/usr/sbin/slapd"
	if _, err := os.Stat(program); err != nil {
		t.Skip("Debian's slapd is not here; `make deps` installs it")
	}
	dir, err := os.MkdirTemp("/tmp", "widelark-slapd-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	s := &Slapd{Plain: fmt.Sprintf("127.0.0.1:%d", FreePort(t)), Secure: fmt.Sprintf("127.0.0.1:%d", FreePort(t)), Roots: certificateFor(t, dir)}
	config := fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile %[1]s/pid
TLSCertificateFile %[1]s/cert.pem
TLSCertificateKeyFile %[1]s/key.pem
database mdb
suffix "dc=quillmere,dc=example"
rootdn "%[2]s"
rootpw "%[3]s"
index member,entryUUID eq
directory %[1]s/db
maxsize 1073741824
%[4]s
`, dir, SlapdManager, SlapdPassword, strings.Join(further, "\n"))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "db"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "slapd.conf"), []byte(config), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "people.ldif"), []byte(people), 0o644))
	out, err := exec.CommandContext(t.Context(), "/usr/sbin/slapadd", "-q", "-f", filepath.Join(dir, "slapd.conf"), "-l", filepath.Join(dir, "people.ldif")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	server := exec.Command(program, "-h", "ldap://"+s.Plain+" ldaps://"+s.Secure, "-f", filepath.Join(dir, "slapd.conf"), "-d", "0")
	require.NoError(t, server.Start())
	s.Stop = func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	}
	t.Cleanup(s.Stop)
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", s.Secure)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, 30*time.Second, 10*time.Millisecond)
	return s
}
