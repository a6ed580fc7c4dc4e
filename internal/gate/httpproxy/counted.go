package httpproxy

import (
	"io"
	"net"
	"sync/atomic"

	"widelark/internal/gate"
)

// counted is a connection whose bytes are counted, in both directions.
type counted struct {
	net.Conn
	moved *atomic.Int64
}

// Read implements [net.Conn].
func (c *counted) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	c.moved.Add(int64(n))
	return n, err
}

// Write implements [net.Conn].
func (c *counted) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	c.moved.Add(int64(n))
	return n, err
}

// CloseWrite says that nothing more follows, where the connection knows of that; otherwise it closes the connection.
func (c *counted) CloseWrite() error {
	if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return c.Close()
}

// countedBody is a body whose bytes are counted.
type countedBody struct {
	io.ReadCloser
	moved *atomic.Int64
}

// Read implements [io.Reader].
func (c *countedBody) Read(b []byte) (int, error) {
	n, err := c.ReadCloser.Read(b)
	c.moved.Add(int64(n))
	return n, err
}

// counting returns a connection of a tunnel, and how many bytes have passed it so far. They are counted only where that matters: without it, the kernel copies
// them by itself.
func (p *Proxy) counting(d gate.Decision, conn net.Conn) (net.Conn, func() int64) {
	if !p.Gate.Measures(d) {
		return conn, func() int64 { return 0 }
	}
	c := &counted{conn, &atomic.Int64{}}
	return c, c.moved.Load
}
