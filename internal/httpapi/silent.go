package httpapi

import (
	"context"
	"errors"
	"net/http"
	"strings"
)

const silentDatabase = "The database does not answer at the moment. Try again shortly; after an edit, look first whether it was kept."

// errSilent is why a request ends that the database left without an answer.
var errSilent = errors.New("the database is silent")

// answering sends operations away while the database is silent, those in hand too: a wait for it would have no end. Its health is reported
// all the same, and the console's files are there.
func answering(silent func() <-chan struct{}, next http.Handler) http.Handler {
	if silent == nil {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/api/v1/") || r.URL.Path == "/api/v1/health" {
			next.ServeHTTP(w, r)
			return
		}
		lost := silent()
		select {
		case <-lost:
			writeProblem(w, http.StatusServiceUnavailable, silentDatabase)
			return
		default:
		}
		ctx, cancel := context.WithCancelCause(r.Context())
		defer cancel(nil)
		done := make(chan struct{})
		defer close(done)
		go func() {
			select {
			case <-lost:
				cancel(errSilent)
			case <-done:
			}
		}()
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}
