package icapgate

import (
	"bufio"
	"fmt"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"widelark/bench/rounds"
	"widelark/internal/journal"
)

// deaf keeps no records.
type deaf struct{}

// Add implements [gate.Recorder].
func (deaf) Add(journal.Record) {}

var noDeadline time.Time

// Questions about requests that are allowed, over as many connections as a proxy keeps, compared with the same reading and a fixed answer.
func BenchmarkICAP(b *testing.B) {
	g, _ := gateOf(floor())
	g.Records = deaf{}
	at := begin(b, Config{Gate: g, Trusted: loopback})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	b.Cleanup(func() { _ = listener.Close() })
	fixed := func(conn net.Conn) {
		r, w := bufio.NewReaderSize(conn, mostLine), bufio.NewWriter(conn)
		for {
			m, err := read(r, w)
			if err != nil {
				return
			}
			if _, err := m.httpRequest(); err != nil {
				return
			}
			_, _ = fmt.Fprintf(w, "ICAP/1.0 204 No modifications\r\nISTag: %q\r\nEncapsulated: null-body=0\r\n\r\n", "fixed")
			_ = w.Flush()
		}
	}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go fixed(conn)
		}
	}()
	ask := func(at string) func(int) {
		var all [8]*talk
		for n := range all {
			all[n] = dial(b, at)
			_ = all[n].conn.SetDeadline(noDeadline)
		}
		return func(i int) {
			var asked sync.WaitGroup
			for n, c := range all {
				asked.Go(func() {
					for k := range 10 {
						c.say(reqmod(ward, get(fmt.Sprintf("https://site-%d.example/wards/%d", (i*10+k)%500, i*len(all)+n)), ""))
						c.hear()
					}
				})
			}
			asked.Wait()
		}
	}
	rounds.Against(b, ask(at), ask(listener.Addr().String()))
}
