package httpproxy

import (
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// Seats bounds the connections of a proxy, to clients and to sites, by the descriptors that the process may have. It is safe for concurrent use.
type Seats struct {
	All  int64
	free atomic.Int64
}

// spare is how many descriptors are left for everything else: files, the database, the service's own callers.
const spare = 256

// NewSeats returns as many seats as the limit of descriptors allows; a quarter of them stays spare where the limit is low.
func NewSeats() *Seats {
	limit := descriptors()
	s := &Seats{All: limit - min(spare, limit/4)}
	s.free.Store(s.All)
	return s
}

// errNoSeat says that the gate has as many connections as it can have.
var errNoSeat = errors.New("the gate has as many connections as it can have")

func (s *Seats) take() bool {
	if s.free.Add(-1) >= 0 {
		return true
	}
	s.free.Add(1)
	return false
}

// seat returns a connection that gives its seat back when it is closed; an error if there is none for it.
func (s *Seats) seat(conn net.Conn) (net.Conn, error) {
	tcp, ok := conn.(*net.TCPConn)
	if !ok || s == nil {
		return conn, nil
	}
	if !s.take() {
		return nil, errors.Join(errNoSeat, conn.Close())
	}
	return &seated{TCPConn: tcp, seats: s}, nil
}

// seated is a connection with a seat.
type seated struct {
	*net.TCPConn
	seats *Seats
	once  sync.Once
}

// Close implements [net.Conn].
func (c *seated) Close() error {
	c.once.Do(func() { c.seats.free.Add(1) })
	return c.TCPConn.Close()
}

// tcpOf returns the connection of TCP beneath a connection that passes its bytes on as they are; nil where there is none.
func tcpOf(conn net.Conn) *net.TCPConn {
	switch c := conn.(type) {
	case *net.TCPConn:
		return c
	case *seated:
		return c.TCPConn
	}
	return nil
}

// Listener returns a listener whose connections have seats. Where there is none, a client is told so and sent away. speaks says that clients speak HTTP from the
// beginning, so that they can be told.
func (s *Seats) Listener(listener net.Listener, speaks bool) net.Listener {
	return &seatedListener{listener, s, speaks}
}

type seatedListener struct {
	net.Listener
	seats  *Seats
	speaks bool
}

const fullHouse = "HTTP/1.1 503 Service Unavailable\r\nContent-Type: text/plain; charset=utf-8\r\nRetry-After: 5\r\nConnection: close\r\nContent-Length: 58\r\n\r\nThis gate has as many connections as it can have just now."

// Accept implements [net.Listener].
func (l *seatedListener) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if l.seats.take() {
			return &seated{TCPConn: conn.(*net.TCPConn), seats: l.seats}, nil
		}
		if l.speaks {
			_ = conn.SetWriteDeadline(time.Now().Add(time.Second))
			_, _ = io.WriteString(conn, fullHouse)
		}
		_ = conn.Close()
	}
}

// splice copies what one connection says to another until that ends. The kernel moves the bytes where both are of TCP; while none come, nothing is held but the two
// connections: [io.Copy] would hold a pipe all the time, and with it two more descriptors.
func splice(dst, src net.Conn) (copied int64, err error) {
	to, from := tcpOf(dst), tcpOf(src)
	if to == nil || from == nil {
		return io.Copy(dst, src)
	}
	for {
		n, err := waiting(from)
		if n == 0 || err != nil {
			return copied, err
		}
		moved, err := io.CopyN(to, from, n)
		copied += moved
		switch {
		case errors.Is(err, io.EOF):
			return copied, nil
		case err != nil:
			return copied, err
		}
	}
}
