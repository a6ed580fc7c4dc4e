package httpproxy

import (
	"io"
	"net/http"
	"time"
)

// peekFor is how long the first bytes of an answer are waited for, so that a site that sends them one by one does not pass unseen, and one that sends nothing for a
// while is not held up.
const peekFor = 2 * time.Second

// peeked is a body of which the beginning was read.
type peeked struct {
	head []byte
	late chan read // what is being read already; nil for nothing
	rest io.ReadCloser
}

type read struct {
	bytes []byte
	err   error
}

// chunk is how many bytes are read at once.
const chunk = 16 << 10

// peek returns the first bytes of an answer, which stay to be read: enough of them, or as many as there are and come soon.
func peek(r *http.Response, enough int) []byte {
	if r.Body == nil || r.Body == http.NoBody || r.ContentLength == 0 || r.Request.Method == http.MethodHead {
		return nil
	}
	body := &peeked{rest: r.Body}
	r.Body = body
	end := time.NewTimer(peekFor)
	defer end.Stop()
	for len(body.head) < enough {
		body.late = make(chan read, 1)
		go func(into chan<- read, from io.Reader) {
			some := make([]byte, chunk)
			n, err := from.Read(some)
			into <- read{some[:n], err}
		}(body.late, body.rest)
		select {
		case <-end.C:
			return body.head
		case got := <-body.late:
			body.head, body.late = append(body.head, got.bytes...), nil
			if got.err != nil {
				body.late = make(chan read, 1)
				body.late <- read{err: got.err}
				return body.head
			}
		}
	}
	return body.head
}

// Read implements [io.Reader].
func (p *peeked) Read(b []byte) (int, error) {
	if len(p.head) == 0 && p.late != nil {
		got := <-p.late
		p.late = nil
		if p.head = got.bytes; got.err != nil {
			p.late = make(chan read, 1) // once more, for whoever reads on
			p.late <- read{err: got.err}
			if len(p.head) == 0 {
				return 0, got.err
			}
		}
	}
	if len(p.head) > 0 {
		n := copy(b, p.head)
		p.head = p.head[n:]
		return n, nil
	}
	return p.rest.Read(b)
}

// Close implements [io.Closer].
func (p *peeked) Close() error { return p.rest.Close() }
