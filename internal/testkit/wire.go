package testkit

import (
	"io"
	"net"
	"net/url"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// Wire forwards connections to a database. While it is silent, the connections stay open and nothing passes, as if the machine hung.
type Wire struct {
	Silent atomic.Bool
	Taken  atomic.Int32 // connections that were accepted so far
	to     atomic.Value // of string: the host and port of the database
}

func (w *Wire) carry(listener net.Listener) {
	for {
		near, err := listener.Accept()
		if err != nil {
			return
		}
		w.Taken.Add(1)
		far, err := net.Dial("tcp", w.to.Load().(string))
		if err != nil {
			_ = near.Close()
			continue
		}
		go w.copy(far, near)
		go w.copy(near, far)
	}
}

// copy forwards bytes from src, and drops them while the wire is silent.
func (w *Wire) copy(dst io.WriteCloser, src io.Reader) {
	defer func() { _ = dst.Close() }()
	said := make([]byte, 32<<10)
	for {
		n, err := src.Read(said)
		if err != nil {
			return
		}
		if w.Silent.Load() {
			continue
		}
		if _, err := dst.Write(said[:n]); err != nil {
			return
		}
	}
}

// NewWire returns a wire to a database, and the database's URL through the wire.
func NewWire(t testing.TB, database string) (*Wire, string) {
	t.Helper()
	at, err := url.Parse(database)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	w := &Wire{}
	w.to.Store(at.Host)
	go w.carry(listener)
	at.Host = listener.Addr().String()
	return w, at.String()
}

// Move has new connections go to a database that has come up elsewhere.
func (w *Wire) Move(t testing.TB, database string) {
	t.Helper()
	at, err := url.Parse(database)
	require.NoError(t, err)
	w.to.Store(at.Host)
}
