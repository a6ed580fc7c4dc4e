package postgres

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
)

// The database is asked every watchEvery whether it is there, over a connection that nothing else waits on. Where it does not answer
// within watchFor, twice in a row, and answers nothing else meanwhile, it is taken to be silent: two and a half to four seconds after it hangs,
// at once where it is gone. A database that is only slow still answers some statements.
const (
	watchEvery = 500 * time.Millisecond
	watchFor   = time.Second
)

// answers notes when the database last answered a statement of the pool. It is safe for concurrent use.
type answers struct{ last atomic.Int64 } // nanoseconds since the epoch

func (a *answers) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	return ctx
}

func (a *answers) TraceQueryEnd(_ context.Context, _ *pgx.Conn, end pgx.TraceQueryEndData) {
	var refused *pgconn.PgError
	if end.Err == nil || errors.As(end.Err, &refused) && refused.Severity == "ERROR" { // not FATAL: a server that shuts down
		a.last.Store(time.Now().UnixNano())
	}
}

func (a *answers) since(t time.Time) bool { return a.last.Load() > t.UnixNano() }

// pulse monitors whether the database answers. It is safe for concurrent use.
type pulse struct {
	config   *pgx.ConnConfig
	answered *answers
	stop     context.CancelFunc
	ended    sync.WaitGroup

	mu     sync.Mutex
	silent chan struct{} // guarded by mu; closed while the database is silent
}

func newPulse(pool *pgxpool.Pool, answered *answers) *pulse {
	config := pool.Config().ConnConfig.Copy()
	config.ConnectTimeout, config.Tracer = watchFor, nil
	ctx, stop := context.WithCancel(context.Background())
	w := &pulse{config: config, answered: answered, stop: stop, silent: make(chan struct{})}
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
	var before time.Time // when the try before this one began
	for ctx.Err() == nil {
		began := time.Now()
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
				w.setSilent(!w.answered.since(before))
			}
		}
		before = began
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
