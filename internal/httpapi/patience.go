package httpapi

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// patience is how long an operation may take that neither takes a file of any length nor sends one.
const patience = 2 * time.Minute

// impatientError is why a request ends that took too long.
type impatientError struct{ after time.Duration }

func (e *impatientError) Error() string { return "the request took longer than " + e.after.String() }

// anyLength marks operations that take or send files of any length: they take as long as these.
var anyLength = map[string]any{"any length": true}

// impatient breaks off what takes too long, so that nobody computes for a client that cannot use the answer.
func impatient(after time.Duration) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if op := ctx.Operation(); op.MaxBodyBytes < 0 || op.Metadata["any length"] != nil {
			next(ctx)
			return
		}
		within, cancel := context.WithTimeoutCause(ctx.Context(), after, &impatientError{after})
		defer cancel()
		next(huma.WithContext(ctx, within))
	}
}
