package httpapi

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"widelark/internal/revision"
)

// auditedTags are those of operations that change what has no states of its own. What has is written into the audit log by the database.
var auditedTags = []string{"Packs", "Sources"}

// audited writes edits of packs and sources into the audit log when they went well.
func (s *server) audited(ctx huma.Context, next func(huma.Context)) {
	next(ctx)
	op := ctx.Operation()
	if op.Method == http.MethodGet || ctx.Status() >= http.StatusMultipleChoices || !slices.ContainsFunc(op.Tags, func(tag string) bool { return slices.Contains(auditedTags, tag) }) {
		return
	}
	background := context.WithoutCancel(ctx.Context())
	if err := s.Publishing.Note(background, revision.Event{By: caller(ctx.Context()).Name, What: op.Summary, Name: ctx.Param("id")}); err != nil {
		s.Log.ErrorContext(background, "an edit is missing in the audit log", "what", op.OperationID, "error", err)
	}
}
