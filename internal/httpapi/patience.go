package httpapi

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// patience bounds how long an operation may take that transfers no file of arbitrary length.
const patience = 2 * time.Minute

// impatientError is the error of a request that took too long.
type impatientError struct{ after time.Duration }

func (e *impatientError) Error() string { return "the request took longer than " + e.after.String() }

// anyLength marks operations that transfer files of arbitrary length: they may take as long as the transfer.
var anyLength = map[string]any{"any length": true}

// impatient ends requests that take too long, so that nothing is computed for a client that no longer waits.
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
