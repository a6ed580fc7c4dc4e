package journal

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/leodido/go-syslog/v4"
	"github.com/leodido/go-syslog/v4/octetcounting"
	"github.com/leodido/go-syslog/v4/rfc5424"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	"google.golang.org/protobuf/proto"

	"widelark/internal/testkit"
)

// taken is what a collector got: how often each URL.
type taken struct {
	mu   sync.Mutex
	urls map[string]int // guarded by mu
	any  []string       // guarded by mu; something of each message
	down bool           // guarded by mu: it takes nothing
}

func (k *taken) take(url, said string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.urls[url]++
	k.any = append(k.any, said)
}

func (k *taken) set(down bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.down = down
}

func (k *taken) isDown() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.down
}

func (k *taken) has(urls ...string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, u := range urls {
		if k.urls[u] == 0 {
			return false
		}
	}
	return true
}

func newTaken() *taken { return &taken{urls: map[string]int{}} }

// syslogServer takes messages of syslog over TCP or, with a configuration, TLS.
func syslogServer(t *testing.T, k *taken, config *tls.Config) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	if config != nil {
		listener = tls.NewListener(listener, config)
	}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				if k.isDown() {
					return
				}
				octetcounting.NewParser(syslog.WithListener(func(r *syslog.Result) {
					if r.Error != nil {
						k.take("", r.Error.Error())
						return
					}
					m := r.Message.(*rfc5424.SyslogMessage)
					of := (*m.StructuredData)["request@32473"]
					k.take(of["url"], fmt.Sprintf("%s %d %s %s | %s", *m.Appname, *m.Severity, of["verdict"], of["person"], *m.Message))
				})).Parse(conn)
			}()
		}
	}()
	return listener.Addr().String()
}

// certificate makes a certificate for 127.0.0.1, and a file with the authority that it is from.
func certificate(t *testing.T) (*tls.Config, string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "roots.pem")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}, file
}

// Records are sent on over syslog, with TLS and without, and as logs of OpenTelemetry, each at least once, though collectors are away, the service is killed, and two services run.
func TestForwards(t *testing.T) {
	t.Parallel()
	s := serve(t)
	furnish(t, s)
	api := s.API(t)
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	config, roots := certificate(t)
	plain, over, logs := newTaken(), newTaken(), newTaken()
	otlp := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		var request collector.ExportLogsServiceRequest
		if err != nil || logs.isDown() || proto.Unmarshal(body, &request) != nil {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		for _, of := range request.ResourceLogs {
			for _, scope := range of.ScopeLogs {
				for _, l := range scope.LogRecords {
					all := map[string]string{}
					for _, a := range l.Attributes {
						all[a.Key] = a.Value.GetStringValue()
					}
					logs.take(all["url.full"], fmt.Sprint(of.Resource.Attributes[0].Value.GetStringValue(), " ", l.SeverityText, " ", all["user.name"], " ", all["widelark.list"]))
				}
			}
		}
	}))
	t.Cleanup(otlp.Close)
	record(t, api, "kay.moran", time.Now(), "https://before.example/")
	run("forward", "new", "Plain", syslogServer(t, plain, nil))
	run("forward", "new", "Over TLS", syslogServer(t, over, config), "--tls", "--roots", roots, "--query", "verdict:block")
	run("forward", "new", "Collector", otlp.URL+"/v1/logs")
	assert.Contains(t, s.Run(t, "", "forward", "new", "Wrong", "nowhere").Err, "not a host and a port")
	time.Sleep(2 * time.Second) // they begin with what comes next
	record(t, api, "kay.moran", time.Now(), "https://oddsfield.example/a\"]", "https://heron.example/one")
	require.Eventually(t, func() bool {
		return plain.has("https://oddsfield.example/a%22]", "https://heron.example/one") && over.has("https://oddsfield.example/a%22]") && logs.has("https://heron.example/one")
	}, testkit.Patience, testkit.Look)
	assert.False(t, plain.has("https://before.example/"))
	assert.False(t, over.has("https://heron.example/one"), "only what the query finds")
	assert.Contains(t, plain.any[0]+plain.any[1], "widelark 4 block Kay Moran | \ufeffblock GET https://oddsfield.example/a%22] for Kay Moran: Fallback: No betting")
	assert.Contains(t, strings.Join(logs.any, "\n"), "widelark block Kay Moran Betting")

	// Collectors are away, and the service is killed meanwhile.
	for _, k := range []*taken{plain, logs} {
		k.set(true)
	}
	other := beside(t, s)
	var urls []string
	for n := range 40 {
		u := fmt.Sprintf("https://oddsfield.example/%d", n)
		urls = append(urls, u)
		record(t, api, "moss.teal", time.Now(), u)
		switch n {
		case 10:
			require.Eventually(t, func() bool { return strings.Count(run("forward", "ls"), "503") == 1 }, testkit.Patience, testkit.Look)
		case 20:
			s.Kill()
			s.Start(t)
		case 30:
			other.Kill()
			for _, k := range []*taken{plain, logs} {
				k.set(false)
			}
		}
	}
	require.Eventually(t, func() bool { return plain.has(urls...) && over.has(urls...) && logs.has(urls...) }, testkit.Patience, testkit.Look)
	assert.Zero(t, plain.urls[""]+over.urls[""], "messages that cannot be read")
	require.Eventually(t, func() bool { return !strings.Contains(run("forward", "ls", "-o", "csv"), "503") }, testkit.Patience, testkit.Look)
	run("forward", "edit", "Collector", "--off")
	run("forward", "remove", "Plain")
	assert.NotContains(t, run("forward", "ls"), "Plain")
}
