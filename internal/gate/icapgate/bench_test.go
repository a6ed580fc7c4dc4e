package icapgate

import (
	"bufio"
	"fmt"
	"net"
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

// Questions about requests that are allowed, one after the other over one connection, compared with the same reading and a fixed answer.
func BenchmarkICAP(b *testing.B) {
	g, _ := gateOf(floor())
	g.Records = deaf{}
	ours := dial(b, begin(b, Config{Gate: g, Trusted: loopback}))
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	b.Cleanup(func() { _ = listener.Close() })
	go func() {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		r, w := bufio.NewReaderSize(conn, mostLine), bufio.NewWriter(conn)
		for {
			if _, err := read(r, w); err != nil {
				return
			}
			_, _ = fmt.Fprintf(w, "ICAP/1.0 204 No modifications\r\nISTag: %q\r\nEncapsulated: null-body=0\r\n\r\n", "fixed")
			_ = w.Flush()
		}
	}()
	anchor := dial(b, listener.Addr().String())
	_ = ours.conn.SetDeadline(noDeadline)
	_ = anchor.conn.SetDeadline(noDeadline)
	ask := func(c *talk) func(int) {
		return func(i int) {
			c.say(reqmod(ward, get(fmt.Sprintf("https://site-%d.example/wards/%d", i%500, i)), ""))
			c.hear()
		}
	}
	rounds.Against(b, ask(ours), ask(anchor))
}
