package dnsgate

import (
	"bytes"
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"widelark/bench/rounds"
	"widelark/core/policy"
	"widelark/demo"
)

// flight is how many questions are under way at once.
const flight = 64

// asks sends questions for names that are known, as many as are under way at once, and reads the answers.
func asks(b *testing.B, at string) func(i int) {
	conn, err := net.Dial("udp", at)
	require.NoError(b, err)
	b.Cleanup(func() { _ = conn.Close() })
	var questions [][]byte
	for i := range 1000 {
		q := question(fmt.Sprintf("site-%d.example", i), dns.TypeA)
		q.Id = uint16(i)
		packed, err := q.Pack()
		require.NoError(b, err)
		questions = append(questions, packed)
	}
	answer := make([]byte, 4096)
	return func(i int) {
		for n := range flight {
			_, _ = conn.Write(questions[(i*flight+n*7919)%len(questions)])
		}
		for range flight {
			_ = conn.SetReadDeadline(time.Now().Add(time.Second))
			if _, err := conn.Read(answer); err != nil {
				return // a datagram was lost
			}
		}
	}
}

// fixed answers the same to all, with the library alone.
func fixed(b *testing.B) string {
	return world(b, dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		r := new(dns.Msg)
		r.SetReply(q)
		r.Answer = []dns.RR{&dns.A{Hdr: dns.RR_Header{Name: q.Question[0].Name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60}, A: net.IP{192, 0, 2, 1}}}
		_ = w.WriteMsg(r)
	})).Address.String()
}

// Answers over UDP from the cache, decided for a client with a policy, compared with a fixed answer through the same library.
func BenchmarkNames(b *testing.B) {
	_, at := begin(b, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{world(b, demo.Resolver())}, Rate: 1e9})
	ours, anchor := asks(b, at), asks(b, fixed(b))
	for i := range 40 {
		ours(i) // until all are known
	}
	rounds.Against(b, ours, anchor)
}

// The longest wait of 99 in 100 questions, where 20,000 come in a second whether or not others were answered, compared with the same of a fixed answer.
func BenchmarkNamesTail(b *testing.B) {
	_, at := begin(b, Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{world(b, demo.Resolver())}, Rate: 1e9})
	known := asks(b, at)
	for i := range 40 {
		known(i)
	}
	ours, anchor := tail(b, at), tail(b, fixed(b))
	_, _ = ours(), anchor()
	rounds.Values(b, ours, anchor)
}

// tail returns what asks for names at a fixed rate for half a second, and returns how long 99 in 100 waited at most, in nanoseconds. What was lost waited for all of the time.
func tail(b *testing.B, at string) func() float64 {
	const (
		together = 20 // in a millisecond
		turns    = 500
	)
	conn, err := net.Dial("udp", at)
	require.NoError(b, err)
	b.Cleanup(func() { _ = conn.Close() })
	return func() float64 {
		var sent, waits [together * turns]time.Duration
		begin := time.Now()
		read := make(chan struct{})
		go func() {
			defer close(read)
			answer := make([]byte, 4096)
			for range sent {
				_ = conn.SetReadDeadline(begin.Add(turns*time.Millisecond + time.Second))
				if _, err := conn.Read(answer); err != nil {
					return
				}
				id := binary.BigEndian.Uint16(answer)
				waits[id] = time.Since(begin) - sent[id]
			}
		}()
		for turn := range turns {
			time.Sleep(time.Until(begin.Add(time.Duration(turn) * time.Millisecond)))
			for n := range together {
				i := turn*together + n
				q := question(fmt.Sprintf("site-%d.example", i%1000), dns.TypeA)
				q.Id = uint16(i)
				packed, err := q.Pack()
				require.NoError(b, err)
				sent[i] = time.Since(begin)
				_, _ = conn.Write(packed)
			}
		}
		<-read
		all := waits[:]
		for i, wait := range all {
			if wait == 0 {
				all[i] = turns * time.Millisecond
			}
		}
		slices.Sort(all)
		return float64(all[len(all)*99/100])
	}
}

// Answers over HTTPS, compared with the same server of HTTP/2 with fixed bytes.
func BenchmarkNamesOverHTTPS(b *testing.B) {
	s := New(Config{Gate: gateOf(floor(), policy.Facts{}), Forwarders: []Forwarder{world(b, demo.Resolver())}, Log: slog.New(slog.DiscardHandler)})
	b.Cleanup(func() { _ = s.Close() })
	q := question("heron.example", dns.TypeA)
	packed, err := q.Pack()
	require.NoError(b, err)
	serve := func(handler http.HandlerFunc) func(int) {
		server := httptest.NewUnstartedServer(handler)
		server.EnableHTTP2 = true
		server.TLS = &tls.Config{MinVersion: tls.VersionTLS13}
		server.StartTLS()
		b.Cleanup(server.Close)
		return func(int) {
			r, err := server.Client().Post(server.URL+"/dns-query", message, bytes.NewReader(packed))
			require.NoError(b, err)
			_, _ = io.Copy(io.Discard, r.Body)
			_ = r.Body.Close()
		}
	}
	fixed := bytes.Repeat([]byte("x"), 80)
	rounds.Against(b, serve(s.overHTTPS), serve(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		_, _ = w.Write(fixed)
	}))
}
