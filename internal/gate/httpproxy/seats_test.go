package httpproxy

import (
	"bufio"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/internal/gate"
	"widelark/internal/testkit"
)

// everything is an edition whose fallback says one thing to everything, also to what is not TLS.
func everything(revision int64, then policy.Verdict) *gate.Edition {
	return &gate.Edition{Revision: revision, Snapshot: policy.New(policy.Config{
		Zone: time.UTC, Way: policy.ByProxy,
		Fallback: &policy.Policy{Name: "Fallback", Otherwise: then, Rules: []policy.Rule{{Name: "Other", If: policy.Cond{Op: policy.HasTrait, Values: []string{"not-tls"}}, Then: then}}},
	})}
}

// As many tunnels stand as there are seats for, at two descriptors each once nothing passes, with little memory; who comes then is told so, and served as soon as
// somebody has gone. An edition that allows them no more cuts all of them.
func TestIdleTunnels(t *testing.T) {
	tunnels := int(min(2000, descriptors()/6))
	origin, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer origin.Close()
	go func() {
		for {
			conn, err := origin.Accept()
			if err != nil {
				return
			}
			go func() { // what comes goes back
				defer conn.Close()
				some := make([]byte, 64)
				for {
					n, err := conn.Read(some)
					if err != nil {
						return
					}
					_, _ = conn.Write(some[:n])
				}
			}()
		}
	}()
	s := newStand(t, false, false, http.NotFoundHandler())
	s.proxy.Ports = append(s.proxy.Ports, uint16(origin.Addr().(*net.TCPAddr).Port))
	s.proxy.Gate.Take(everything(2, policy.Allow))
	s.proxy.Seats.free.Store(2 * int64(tunnels))
	connect := func() (net.Conn, int) {
		conn, err := net.Dial("tcp", s.address)
		require.NoError(t, err)
		_ = conn.SetDeadline(time.Now().Add(time.Minute))
		_, _ = fmt.Fprintf(conn, "CONNECT %s HTTP/1.1\r\nHost: x\r\n\r\n", origin.Addr())
		answer, err := http.ReadResponse(bufio.NewReaderSize(conn, 16), &http.Request{Method: http.MethodConnect})
		if err != nil {
			return conn, 0
		}
		_ = answer.Body.Close()
		return conn, answer.StatusCode
	}
	before, memory := open(t), used()
	var all []net.Conn
	for range tunnels {
		conn, status := connect()
		require.Equal(t, http.StatusOK, status)
		const said = "SSH-2.0-tide\r\n"
		for range 2 { // the first bytes are looked at, later ones are passed on
			_, err := io.WriteString(conn, said)
			require.NoError(t, err)
			back := make([]byte, len(said))
			_, err = io.ReadFull(conn, back)
			require.NoError(t, err)
			require.Equal(t, said, string(back))
		}
		all = append(all, conn)
	}
	assert.Zero(t, s.proxy.Seats.free.Load())
	memory = used() - memory // pipes that the pool has dropped close when memory is collected
	assert.Eventually(t, func() bool { runtime.GC(); return open(t)-before <= 4*tunnels+50 }, testkit.Patience, testkit.Look,
		"two of the gate, one of the client and one of the origin, which are in this process")
	assert.Less(t, memory/int64(tunnels), int64(48<<10), "bytes a tunnel, with client and origin")

	conn, status := connect()
	assert.Equal(t, http.StatusServiceUnavailable, status)
	_ = conn.Close()
	_ = all[0].Close()
	require.Eventually(t, func() bool {
		conn, status := connect()
		all[0] = conn
		return status == http.StatusOK
	}, testkit.Patience, testkit.Look, "a seat is free again")

	running, stop := context.WithCancel(t.Context())
	defer stop()
	go s.proxy.Gate.Run(running)
	s.proxy.Gate.Take(everything(3, policy.Block))
	var cut sync.WaitGroup
	for _, conn := range all {
		cut.Go(func() {
			_, err := conn.Read(make([]byte, 1))
			assert.Error(t, err)
			assert.NotErrorIs(t, err, os.ErrDeadlineExceeded)
			_ = conn.Close()
		})
	}
	cut.Wait()
	require.Eventually(t, func() bool { return s.proxy.Seats.free.Load() == 2*int64(tunnels) }, testkit.Patience, testkit.Look, "all seats are free again")
}

// open returns how many descriptors the process has open.
func open(t *testing.T) int {
	t.Helper()
	all, err := os.ReadDir("/proc/self/fd")
	require.NoError(t, err)
	return len(all)
}

// used returns how much memory the process uses, in bytes.
func used() int64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapInuse + m.StackInuse)
}

// What passes a tunnel in large pieces and in small ones arrives as it was sent, in both directions at once, also when one side has ended.
func TestSplice(t *testing.T) {
	pair := func() (near, far net.Conn) {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer listener.Close()
		near, err = net.Dial("tcp", listener.Addr().String())
		require.NoError(t, err)
		far, err = listener.Accept()
		require.NoError(t, err)
		t.Cleanup(func() { _, _ = near.Close(), far.Close() })
		return near, far
	}
	client, in := pair()
	out, site := pair()
	go func() { _, _ = splice(out, in); closeWrite(out) }()
	go func() { _, _ = splice(in, out); closeWrite(in) }()
	var sent strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&sent, "%d %s\n", i, strings.Repeat("tide", i%700))
	}
	send := func(to net.Conn) {
		text := sent.String()
		for piece := 1; len(text) > 0; piece = piece%70_000*3 + 1 {
			n := min(piece, len(text))
			_, _ = io.WriteString(to, text[:n])
			text = text[n:]
		}
		closeWrite(to)
	}
	go send(client)
	go send(site)
	for _, conn := range []net.Conn{site, client} {
		arrived, err := io.ReadAll(conn)
		require.NoError(t, err)
		assert.Equal(t, sha256.Sum256([]byte(sent.String())), sha256.Sum256(arrived), "%d of %d bytes", len(arrived), sent.Len())
	}
}
