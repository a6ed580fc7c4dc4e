package httpapi

import (
	"context"
	"errors"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// patience is how long an operation may take that neither takes a file of any length nor sends one.
const patience = 2 * time.Minute

// errImpatient is why a request ends that took longer than patience.
var errImpatient = errors.New("the request took too long")

// anyLength marks operations that take or send files of any length: they take as long as these.
var anyLength = map[string]any{"any length": true}

// impatient breaks off what takes too long, so that nobody computes for a client that cannot use the answer.
func impatient(ctx huma.Context, next func(huma.Context)) {
	if op := ctx.Operation(); op.MaxBodyBytes < 0 || op.Metadata["any length"] != nil {
		next(ctx)
		return
	}
	within, cancel := context.WithTimeoutCause(ctx.Context(), patience, errImpatient)
	defer cancel()
	next(huma.WithContext(ctx, within))
}
