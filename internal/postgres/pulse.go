package postgres

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// The database is asked every watchEvery whether it is there, over a connection that nothing else waits on. Where it does not answer
// within watchFor, twice in a row, it is taken to be silent: two and a half seconds after it hangs, at once where it is gone.
const (
	watchEvery = 500 * time.Millisecond
	watchFor   = time.Second
)

// pulse monitors whether the database answers. It is safe for concurrent use.
type pulse struct {
	config *pgx.ConnConfig
	stop   context.CancelFunc
	ended  sync.WaitGroup

	mu     sync.Mutex
	silent chan struct{} // guarded by mu; closed while the database is silent
}

func newPulse(pool *pgxpool.Pool) *pulse {
	config := pool.Config().ConnConfig.Copy()
	config.ConnectTimeout = watchFor
	ctx, stop := context.WithCancel(context.Background())
	w := &pulse{config: config, stop: stop, silent: make(chan struct{})}
	w.ended.Go(func() { w.run(ctx) })
	return w
}

func (w *pulse) close() {
	w.stop()
	w.ended.Wait()
}

func (w *pulse) run(ctx context.Context) {
	var conn *pgx.Conn
	failures := 0
	for ctx.Err() == nil {
		asked, cancel := context.WithTimeout(ctx, watchFor)
		var err error
		if conn == nil {
			conn, err = pgx.ConnectConfig(asked, w.config)
		} else {
			err = conn.Ping(asked)
		}
		cancel()
		if err == nil {
			failures = 0
			w.setSilent(false)
		} else if ctx.Err() == nil {
			if conn != nil {
				closing, cancel := context.WithTimeout(ctx, time.Millisecond) // without a farewell
				_ = conn.Close(closing)
				cancel()
				conn = nil
			}
			if failures++; failures >= 2 {
				w.setSilent(true)
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(watchEvery):
		}
	}
	if conn != nil {
		closing, cancel := context.WithTimeout(context.Background(), watchFor)
		defer cancel()
		_ = conn.Close(closing)
	}
}

func (w *pulse) setSilent(silent bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	select {
	case <-w.silent:
		if !silent {
			w.silent = make(chan struct{})
		}
	default:
		if silent {
			close(w.silent)
		}
	}
}

// Silent returns a channel that is closed when the database stops answering; it is already closed while the database does not answer.
func (s *Store) Silent() <-chan struct{} {
	s.pulse.mu.Lock()
	defer s.pulse.mu.Unlock()
	return s.pulse.silent
}
