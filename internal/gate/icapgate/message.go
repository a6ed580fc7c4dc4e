package icapgate

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/textproto"
	"strconv"
	"strings"
	"sync"
)

// Bounds of what a client sends besides bodies, in bytes.
const (
	mostHead = 64 << 10 // of a message of ICAP
	mostHTTP = 256 << 10
	mostLine = 8 << 10
)

// wrong is what is wrong with a message, and the status that says so (RFC 3507, section 4.3.3).
type wrong struct {
	status int
	text   string
}

// Error implements [error].
func (e *wrong) Error() string { return e.text }

func bad(format string, with ...any) error { return &wrong{400, fmt.Sprintf(format, with...)} }

// part is a part of what a message holds, as its head says.
type part struct {
	name string // req-hdr, res-hdr, req-body, res-body, opt-body or null-body
	at   int
}

// message is a request of ICAP up to the body that it holds.
type message struct {
	method, service string
	header          textproto.MIMEHeader
	parts           []part
	request         []byte // the head of the HTTP request; nil for none
	response        []byte
	body            *body // nil for none
}

// line reads a line without its end.
func line(r *bufio.Reader) (string, error) {
	text, err := r.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		return "", bad("a line of the head is longer than %d bytes", mostLine)
	}
	return strings.TrimRight(string(text), "\r\n"), err
}

// read reads a message. The error is [io.EOF] where the client has ended.
func read(r *bufio.Reader, w *bufio.Writer) (*message, error) {
	first, err := line(r)
	for n := 0; err == nil && first == "" && n < 4; n++ { // blank lines between messages do no harm
		first, err = line(r)
	}
	if err != nil {
		return nil, err
	}
	m := &message{header: textproto.MIMEHeader{}}
	words := strings.Fields(first)
	if len(words) != 3 || !strings.HasPrefix(words[2], "ICAP/") {
		return nil, bad("a request is METHOD icap://HOST/SERVICE ICAP/1.0")
	}
	if words[2] != "ICAP/1.0" {
		return nil, &wrong{505, "this gate speaks ICAP/1.0"}
	}
	m.method = words[0]
	if _, rest, ok := strings.Cut(words[1], "://"); ok {
		_, path, _ := strings.Cut(rest, "/")
		m.service, _, _ = strings.Cut(path, "?")
	}
	for size := 0; ; {
		text, err := line(r)
		if err != nil {
			return nil, cut(err)
		}
		if text == "" {
			break
		}
		if size += len(text); size > mostHead {
			return nil, bad("the head is longer than %d bytes", mostHead)
		}
		name, value, ok := strings.Cut(text, ":")
		if !ok || name == "" || strings.ContainsAny(name, " \t") {
			return nil, bad("%q is no field of a head", text)
		}
		m.header.Add(name, strings.TrimSpace(value))
	}
	if m.method == "OPTIONS" {
		return m, nil
	}
	return m, m.hold(r, w)
}

// cut says that a message ended before its end.
func cut(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// hold reads the heads of what a message holds (RFC 3507, section 4.4.1).
func (m *message) hold(r *bufio.Reader, w *bufio.Writer) error {
	last := -1
	for text := range strings.SplitSeq(m.header.Get("Encapsulated"), ",") {
		name, value, ok := strings.Cut(strings.TrimSpace(text), "=")
		at, err := strconv.Atoi(strings.TrimSpace(value))
		if !ok || err != nil || at < 0 || at > mostHTTP || at < last || last < 0 && at != 0 {
			return bad("the field Encapsulated cannot be read: %q", m.header.Get("Encapsulated"))
		}
		m.parts, last = append(m.parts, part{strings.ToLower(strings.TrimSpace(name)), at}), at
	}
	heads := make([]byte, last)
	if _, err := io.ReadFull(r, heads); err != nil {
		return cut(err)
	}
	for i, p := range m.parts {
		if i == len(m.parts)-1 {
			switch p.name {
			case "req-body", "res-body":
				m.body = &body{r: r, w: w, preview: -1}
			case "null-body":
			default:
				return bad("a message ends with a body: req-body, res-body or null-body")
			}
			break
		}
		head := heads[p.at:m.parts[i+1].at]
		switch p.name {
		case "req-hdr":
			m.request = head
		case "res-hdr":
			m.response = head
		default:
			return bad("a message holds req-hdr and res-hdr, and not %q", p.name)
		}
	}
	if text := m.header.Get("Preview"); text != "" && m.body != nil {
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 {
			return bad("the field Preview cannot be read: %q", text)
		}
		m.body.preview = n
		return m.body.readPreview()
	}
	return nil
}

// allows204 reports whether the answer may be that nothing is changed (RFC 3507, section 4.6).
func (m *message) allows204() bool {
	if m.body != nil && m.body.preview >= 0 && !m.body.continued {
		return true
	}
	for text := range strings.SplitSeq(m.header.Get("Allow"), ",") {
		if strings.TrimSpace(text) == "204" {
			return true
		}
	}
	return false
}

// httpRequest returns the HTTP request that a message holds; nil for none.
func (m *message) httpRequest() (*http.Request, error) {
	if m.request == nil {
		return nil, nil
	}
	reader := readerOf(m.request)
	defer heads.Put(reader)
	r, err := http.ReadRequest(reader)
	if err != nil {
		return nil, bad("the HTTP request cannot be read: %v", err)
	}
	r.Body = http.NoBody // it stands beside the head
	return r, nil
}

// httpResponse returns the HTTP response that a message holds.
func (m *message) httpResponse(to *http.Request) (*http.Response, error) {
	reader := readerOf(m.response)
	defer heads.Put(reader)
	r, err := http.ReadResponse(reader, to)
	if err != nil {
		return nil, bad("the HTTP response cannot be read: %v", err)
	}
	r.Body = http.NoBody
	return r, nil
}

// heads are readers of HTTP heads.
var heads = sync.Pool{New: func() any { return bufio.NewReader(nil) }}

func readerOf(head []byte) *bufio.Reader {
	r := heads.Get().(*bufio.Reader) //nolint:forcetypeassert // the pool holds nothing else
	r.Reset(bytes.NewReader(head))
	return r
}

// body is the body that a message holds: chunks, of which only the first come where there is a preview (RFC 3507, section 4.5).
type body struct {
	r       *bufio.Reader
	w       *bufio.Writer
	preview int // how many bytes were announced; -1 for none

	head      []byte // what was read and not passed on yet
	left      int64  // of the chunk that is being read
	ended     bool   // all of it was read
	continued bool   // after a preview, the client was asked for the rest
	most      int64  // bytes that it may have; 0 for any number
	passed    int64  // bytes that were passed on
}

// chunk reads the head of the next chunk; 0 at the end, and whether that is the end of the whole body.
func (b *body) chunk() (size int64, whole bool, err error) {
	text, err := line(b.r)
	if err != nil {
		return 0, false, cut(err)
	}
	digits, extension, _ := strings.Cut(text, ";")
	size, err = strconv.ParseInt(strings.TrimSpace(digits), 16, 63)
	if err != nil || size < 0 || strings.HasPrefix(strings.TrimSpace(digits), "+") {
		return 0, false, bad("a chunk cannot be read: %q", text)
	}
	if size > 0 {
		return size, false, nil
	}
	for { // trailers, and the blank line
		text, err := line(b.r)
		if err != nil {
			return 0, false, cut(err)
		}
		if text == "" {
			break
		}
	}
	for one := range strings.SplitSeq(extension, ";") {
		if strings.EqualFold(strings.TrimSpace(one), "ieof") {
			whole = true
		}
	}
	return 0, whole, nil
}

// after reads the end of a chunk.
func (b *body) after() error {
	text, err := line(b.r)
	if err == nil && text != "" {
		err = bad("a chunk is longer than it says")
	}
	return cut(err)
}

// mostPreview is the largest preview that is read.
const mostPreview = 64 << 10

func (b *body) readPreview() error {
	for {
		size, whole, err := b.chunk()
		if err != nil {
			return err
		}
		if size == 0 {
			b.ended = whole
			return nil
		}
		if int64(len(b.head))+size > mostPreview || len(b.head)+int(size) > b.preview {
			return bad("the preview is longer than it says")
		}
		some := make([]byte, size)
		if _, err := io.ReadFull(b.r, some); err != nil {
			return cut(err)
		}
		b.head = append(b.head, some...)
		if err := b.after(); err != nil {
			return err
		}
	}
}

// errAtCap ends a body that is longer than it may be.
var errAtCap = errors.New("the answer is larger than it may be")

// Read implements [io.Reader]. After a preview, it asks the client for the rest. It fails where the body would go beyond its size: the connection ends then, so that
// nobody takes the beginning for the whole.
func (b *body) Read(p []byte) (n int, err error) {
	if len(b.head) > 0 {
		n = copy(p, b.head)
		b.head = b.head[n:]
	} else {
		n, err = b.next(p)
	}
	if b.passed += int64(n); b.most > 0 && b.passed > b.most {
		return 0, errAtCap
	}
	return n, err
}

// next reads what was not read yet.
func (b *body) next(p []byte) (int, error) {
	if b.ended {
		return 0, io.EOF
	}
	if b.preview >= 0 && !b.continued {
		b.continued = true
		_, _ = b.w.WriteString("ICAP/1.0 100 Continue\r\n\r\n")
		if err := b.w.Flush(); err != nil {
			return 0, err
		}
	}
	if b.left == 0 {
		size, _, err := b.chunk()
		if err != nil {
			return 0, err
		}
		if size == 0 {
			b.ended = true
			return 0, io.EOF
		}
		b.left = size
	}
	n, err := b.r.Read(p[:min(int64(len(p)), b.left)])
	if b.left -= int64(n); b.left == 0 && err == nil {
		err = b.after()
	}
	return n, cut(err)
}

// peek returns the first bytes of the body, so many or all that there are, which stay to be read.
func (b *body) peek(n int) ([]byte, error) {
	some := make([]byte, 16<<10)
	for len(b.head) < n {
		got, err := b.next(some)
		b.head = append(b.head, some[:got]...)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
	}
	return b.head, nil
}

// drain reads what the client still sends of the body before it listens.
func (b *body) drain() error {
	if b == nil || b.ended || b.preview >= 0 && !b.continued {
		return nil
	}
	b.head = nil
	_, err := io.Copy(io.Discard, b)
	return err
}
