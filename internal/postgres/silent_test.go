package postgres_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/postgres"
	"widelark/internal/testkit"
)

func TestSilentDatabase(t *testing.T) {
	t.Parallel()
	w, at := testkit.NewWire(t, server.Database(t))
	store, err := postgres.Open(t.Context(), at)
	require.NoError(t, err)
	t.Cleanup(store.Close)
	_, err = store.Accounts(t.Context())
	require.NoError(t, err)

	w.Silent.Store(true)
	time.Sleep(1100 * time.Millisecond) // a connection used within the last second is taken to be well
	ctx, stop := context.WithTimeout(t.Context(), 2*time.Minute)
	defer stop()
	_, err = store.Accounts(ctx)
	require.Error(t, err)
	require.NoError(t, ctx.Err(), "the store gave up by itself")
	require.Error(t, store.Ping(ctx))

	w.Silent.Store(false)
	_, err = store.Accounts(t.Context())
	assert.NoError(t, err, "it works again by itself")
	require.Eventually(t, func() bool { return store.Ping(t.Context()) == nil }, 10*time.Second, 50*time.Millisecond)
}

// A server that takes connections and does not answer in time is tried again; one that refuses them is an error at once.
func TestOpeningWaits(t *testing.T) {
	t.Parallel()
	w, at := testkit.NewWire(t, server.Database(t))
	w.Silent.Store(true)
	opened := make(chan error)
	go func() {
		store, err := postgres.Open(t.Context(), at)
		if err == nil {
			store.Close()
		}
		opened <- err
	}()
	require.Eventually(t, func() bool { return w.Taken.Load() > 1 }, testkit.Patience, testkit.Look)
	w.Silent.Store(false)
	require.NoError(t, <-opened)

	ctx, stop := context.WithTimeout(t.Context(), testkit.Patience)
	defer stop()
	_, err := postgres.Open(ctx, "postgres://widelark@127.0.0.1:1/widelark")
	require.ErrorContains(t, err, "the database at 127.0.0.1:1 does not answer")
	assert.NoError(t, ctx.Err())
}
