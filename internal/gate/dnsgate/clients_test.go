package dnsgate

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/pem"
	"fmt"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/demo"
)

// secured serves a server over TLS and HTTPS, and returns the ports, and a file with the certificate that clients are to trust.
func secured(t *testing.T, s *Server) (overTLS, overHTTPS int, trusted string) {
	t.Helper()
	stand := httptest.NewUnstartedServer(nil)
	stand.StartTLS()
	certificate := stand.TLS.Certificates[0]
	stand.Close()
	trusted = filepath.Join(t.TempDir(), "trusted.pem")
	require.NoError(t, os.WriteFile(trusted, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate.Certificate[0]}), 0o600))
	ports := [2]int{}
	served := make(chan error, len(ports))
	for i, serve := range []func(net.Listener, *tls.Config) error{s.ServeTLS, s.ServeHTTPS} {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		ports[i] = listener.Addr().(*net.TCPAddr).Port
		go func() { served <- serve(listener, &tls.Config{Certificates: []tls.Certificate{certificate}}) }()
	}
	t.Cleanup(func() {
		assert.NoError(t, s.Close())
		for range ports {
			assert.NoError(t, <-served)
		}
	})
	return ports[0], ports[1], trusted
}

// Clients that nobody here wrote get the same answers over every transport: what is allowed, and of what is refused the reason.
func TestPublicClients(t *testing.T) {
	config := floor()
	config.Fallback.Rules = append(config.Fallback.Rules, policy.Rule{Name: "Wagers", If: policy.Cond{Op: policy.InList, Values: []string{"bad"}}, Then: policy.Block})
	s, at := begin(t, Config{Gate: gateOf(config, policy.Facts{}), Forwarders: []Forwarder{world(t, demo.Resolver())}, Rate: 1e9})
	overTLS, overHTTPS, trusted := secured(t, s)
	_, plain, _ := strings.Cut(at, ":")
	certificate := []string{"+tls-ca=" + trusted, "+tls-hostname=example.com"}
	run := func(name string, args ...string) string {
		out, err := exec.CommandContext(t.Context(), program(t, name), args...).CombinedOutput()
		require.NoError(t, err, "%s %s: %s", name, args, out)
		return string(out)
	}

	t.Run("kdig", func(t *testing.T) {
		for _, way := range [][]string{
			{"-p", plain},
			{"-p", plain, "+tcp"},
			append([]string{"-p", fmt.Sprint(overTLS), "+tls"}, certificate...), append([]string{"-p", fmt.Sprint(overHTTPS), "+https=/dns-query"}, certificate...),
			append([]string{"-p", fmt.Sprint(overHTTPS), "+https-get=/dns-query"}, certificate...),
		} {
			for range 2 { // from a resolver, and from the cache
				text := run("kdig", append([]string{"@127.0.0.1", "heron.example", "A", "+edns", "+padding", "+cookie"}, way...)...)
				assert.Contains(t, text, "status: NOERROR", way)
				assert.Contains(t, text, "192.0.2.", way)
			}
			text := run("kdig", append([]string{"@127.0.0.1", "pebble-poker.example", "AAAA", "+edns"}, way...)...)
			assert.Contains(t, text, "status: NXDOMAIN", way)
			assert.Contains(t, text, "EDE: 15 (Blocked)", way)
			assert.Contains(t, text, "Wagers", way)
		}
	})

	t.Run("dnsperf", func(t *testing.T) {
		for mode, more := range map[string][]string{"udp": {"-p", plain}, "tcp": {"-p", plain}, "dot": {"-p", fmt.Sprint(overTLS)}, "doh": {"-p", fmt.Sprint(overHTTPS), "-O", "doh-uri=https://127.0.0.1/dns-query"}} {
			names, together := 2000, []string{"-c", "8", "-q", "100"}
			if mode == "doh" {
				// Of two answers that come at once over a connection, it loses one; and it rests after each.
				names, together = 20, []string{"-c", "1", "-q", "1"}
			}
			var questions bytes.Buffer
			for i := range names {
				fmt.Fprintf(&questions, "n%d.heron.example A\nn%d.heron.example HTTPS\npebble-poker.example A\n", i%200, i%200)
			}
			file := filepath.Join(t.TempDir(), mode)
			require.NoError(t, os.WriteFile(file, questions.Bytes(), 0o600))
			text := run("dnsperf", slices.Concat([]string{"-s", "127.0.0.1", "-m", mode, "-d", file, "-e", "-T", "1", "-n", "1"}, together, more)...)
			assert.Contains(t, text, "Queries lost:         0 ", mode)
			assert.Contains(t, text, fmt.Sprintf("NOERROR %d (66.67%%), NXDOMAIN %d (33.33%%)", 2*names, names), mode)
		}
	})

	t.Run("a stub resolver", func(t *testing.T) {
		stub := net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, at)
		}}
		found, err := stub.LookupHost(t.Context(), "heron.example.")
		require.NoError(t, err)
		assert.Len(t, found, 2)
		_, err = stub.LookupHost(t.Context(), "pebble-poker.example.")
		var missing *net.DNSError
		require.ErrorAs(t, err, &missing)
		assert.True(t, missing.IsNotFound)
		texts, err := stub.LookupTXT(t.Context(), "heron.example.")
		require.NoError(t, err, "more than fits into a datagram comes over TCP")
		assert.NotEmpty(t, texts)
	})
}

// A flood of questions for names that do not exist leaves in the cache what is there, and others are answered meanwhile.
func TestFlood(t *testing.T) {
	var asked atomic.Int64
	handler := demo.Resolver()
	resolver := world(t, dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		if strings.HasSuffix(strings.ToLower(q.Question[0].Name), "heron.example.") {
			asked.Add(1)
		}
		handler.ServeDNS(w, q)
	}))
	s, at := begin(t, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{resolver}, Rate: 1e9})
	const known = 200
	name := func(i int) string { return fmt.Sprintf("n%d.heron.example", i) }
	for i := range known {
		require.Len(t, exchange(t, at, "udp", ward, question(name(i), dns.TypeA)).Answer, 1)
	}
	flood := func(each int, ask func(i int)) {
		var all sync.WaitGroup
		for k := range 8 {
			all.Go(func() {
				for i := range each {
					ask(k*each + i)
				}
			})
		}
		all.Wait()
	}
	var over sync.WaitGroup
	over.Go(func() {
		flood(500, func(i int) {
			q := question(fmt.Sprintf("r%d.gone.example", i), dns.TypeA)
			assert.Equal(t, dns.RcodeNameError, exchange(t, at, "tcp", ward, q).Rcode)
		})
	})
	for i := range known {
		assert.Len(t, exchange(t, at, "udp", office, question(name(i), dns.TypeA)).Answer, 1)
	}
	over.Wait()
	flood(mostNothing/8+100, func(i int) { // as many as the cache holds, without the network between
		q := question(fmt.Sprintf("s%d.gone.example", i), dns.TypeA)
		nothing := new(dns.Msg)
		nothing.SetRcode(q, dns.RcodeNameError)
		nothing.Ns = []dns.RR{&dns.SOA{Hdr: dns.RR_Header{Name: "example.", Rrtype: dns.TypeSOA, Class: dns.ClassINET, Ttl: 300}, Minttl: 300}}
		s.cache.put(keyOf(q, q.Question[0]), nothing, s.Gate.Now())
	})
	assert.Equal(t, mostNothing, s.cache.nothing.Len())
	for i := range known {
		assert.Len(t, exchange(t, at, "udp", ward, question(name(i), dns.TypeA)).Answer, 1)
	}
	assert.EqualValues(t, known, asked.Load(), "each was asked for once")
}
