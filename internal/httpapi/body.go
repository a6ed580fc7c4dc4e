package httpapi

import (
	"errors"
	"io"
	"net/http"
)

// brokenError is the error of a request's body that breaks off or violates HTTP.
type brokenError struct{ cause error }

func (e *brokenError) Error() string { return "the request broke off: " + e.cause.Error() }

func (e *brokenError) Unwrap() error { return e.cause }

const brokenBody = "The request broke off, or its body is not as its head says. Send it again."

// whole marks errors of the body, so that the caller's mistakes are distinguished from failures of the service.
func whole(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body != nil && r.Body != http.NoBody {
			r = r.WithContext(r.Context()) // a copy: by its own the server knows what is left of the body, and whether the connection can go on
			r.Body = &body{r.Body}
		}
		next.ServeHTTP(w, r)
	})
}

type body struct{ io.ReadCloser }

func (b *body) Read(into []byte) (int, error) {
	n, err := b.ReadCloser.Read(into)
	if err != nil && !errors.Is(err, io.EOF) {
		err = &brokenError{err}
	}
	return n, err
}
