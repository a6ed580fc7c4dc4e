package postgres_test

import (
	"context"
	"io"
	"net"
	"net/url"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/postgres"
)

// wire carries connections to a database until it is silent: then they stay open and nothing passes, as with a machine that hangs.
type wire struct {
	silent atomic.Bool
	to     string
}

func (w *wire) carry(listener net.Listener) {
	for {
		near, err := listener.Accept()
		if err != nil {
			return
		}
		far, err := net.Dial("tcp", w.to)
		if err != nil {
			_ = near.Close()
			continue
		}
		go w.copy(far, near)
		go w.copy(near, far)
	}
}

// copy passes on what src says, and drops it while the wire is silent.
func (w *wire) copy(dst io.WriteCloser, src io.Reader) {
	defer func() { _ = dst.Close() }()
	said := make([]byte, 32<<10)
	for {
		n, err := src.Read(said)
		if err != nil {
			return
		}
		if w.silent.Load() {
			continue
		}
		if _, err := dst.Write(said[:n]); err != nil {
			return
		}
	}
}

func TestSilentDatabase(t *testing.T) {
	t.Parallel()
	at, err := url.Parse(server.Database(t))
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	w := &wire{to: at.Host}
	go w.carry(listener)
	at.Host = listener.Addr().String()
	store, err := postgres.Open(t.Context(), at.String())
	require.NoError(t, err)
	t.Cleanup(store.Close)
	_, err = store.Accounts(t.Context())
	require.NoError(t, err)

	w.silent.Store(true)
	time.Sleep(1100 * time.Millisecond) // a connection used within the last second is taken to be well
	ctx, stop := context.WithTimeout(t.Context(), 2*time.Minute)
	defer stop()
	_, err = store.Accounts(ctx)
	require.Error(t, err)
	require.NoError(t, ctx.Err(), "the store gave up by itself")
	require.Error(t, store.Ping(ctx))

	w.silent.Store(false)
	_, err = store.Accounts(t.Context())
	assert.NoError(t, err, "it works again by itself")
}
