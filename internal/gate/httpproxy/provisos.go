package httpproxy

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"mime"
	"mime/multipart"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
)

// Upload says in a clause what makes a request an upload: a body that is longer than a form, of so many bytes at most, or has a file in it; "" where it is none. It
// reads what it needs of the body, which stays to be read.
func Upload(r *http.Request, mostForm int64) (what string, err error) {
	if r.Method != http.MethodPost && r.Method != http.MethodPut && r.Method != http.MethodPatch || r.Body == nil || r.ContentLength == 0 {
		return "", nil
	}
	tooLong := "more than " + InBytes(mostForm) + " are sent"
	if r.ContentLength > mostForm {
		return tooLong, nil
	}
	var head bytes.Buffer
	n, err := io.Copy(&head, io.LimitReader(r.Body, mostForm+1))
	if err != nil {
		return "", err
	}
	if n > mostForm {
		return tooLong, nil
	}
	r.Body = &readAgain{bytes.NewReader(head.Bytes()), r.Body}
	return fileIn(r.Header.Get("Content-Type"), head.Bytes()), nil
}

// InBytes says a size, as 8 kB.
func InBytes(n int64) string {
	switch {
	case n >= 1e6:
		return strconv.FormatFloat(math.Round(float64(n)/1e5)/10, 'f', -1, 64) + " MB"
	case n >= 1e3:
		return strconv.FormatFloat(math.Round(float64(n)/1e2)/10, 'f', -1, 64) + " kB"
	}
	return fmt.Sprint(n, " bytes")
}

// fileIn says in a clause that a body has a file in it (RFC 7578, section 4.2); "" where it has none.
func fileIn(contentType string, body []byte) string {
	media, parameters, err := mime.ParseMediaType(contentType)
	if !strings.HasPrefix(strings.ToLower(strings.TrimSpace(contentType)), "multipart/") {
		return ""
	}
	const unclear = "what is sent has parts that cannot be read"
	if err != nil || !strings.HasPrefix(media, "multipart/") {
		return unclear
	}
	parts := multipart.NewReader(bytes.NewReader(body), parameters["boundary"])
	for {
		part, err := parts.NextRawPart()
		if errors.Is(err, io.EOF) {
			return ""
		}
		if err != nil {
			return unclear
		}
		if part.FileName() != "" {
			return "a file is sent"
		}
	}
}

// readAgain is a body that was read to its end.
type readAgain struct {
	*bytes.Reader
	io.Closer
}

// tooLargeError says that an answer is larger than it may be, before any of it was passed on.
type tooLargeError struct{ size int64 }

// Error implements [error].
func (e *tooLargeError) Error() string {
	return fmt.Sprintf("the answer has %s", InBytes(e.size))
}

// errAtCap ends an answer that says nothing of its size.
var errAtCap = errors.New("the answer is larger than it may be")

// sizeCap binds the answer of a request to a size. The zero sizeCap does not.
type sizeCap struct {
	most    int64        // bytes
	reached *atomic.Bool // the answer was cut there
}

// bind refuses an answer that says that it is larger, and otherwise has it end at the cap.
func (c sizeCap) bind(r *http.Response) error {
	if c.most == 0 || r.Body == nil || r.StatusCode == http.StatusSwitchingProtocols || r.Request.Method == http.MethodHead {
		return nil
	}
	if size := WholeSize(r); size > c.most {
		_ = r.Body.Close()
		return &tooLargeError{size}
	}
	r.Body = &capped{r.Body, c.most, c.reached}
	return nil
}

// WholeSize returns the size that an answer declares, of the whole where it is a part (RFC 9110, sections 8.6 and 14.4); -1 where it does not say.
func WholeSize(r *http.Response) int64 {
	size := r.ContentLength
	if _, whole, ok := strings.Cut(r.Header.Get("Content-Range"), "/"); ok {
		if n, err := strconv.ParseInt(strings.TrimSpace(whole), 10, 64); err == nil {
			size = max(size, n)
		}
	}
	return size
}

// capped is a body that fails where it would go beyond a size.
type capped struct {
	io.ReadCloser
	left    int64
	reached *atomic.Bool
}

// Read implements [io.Reader].
func (c *capped) Read(b []byte) (int, error) {
	n, err := c.ReadCloser.Read(b)
	if int64(n) > c.left {
		n, err = int(c.left), errAtCap
		c.reached.Store(true)
	}
	c.left -= int64(n)
	return n, err
}
