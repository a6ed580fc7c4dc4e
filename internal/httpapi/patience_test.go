package httpapi

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"

	"widelark/internal/turn"
)

// A caller that waits too long for its turn gets an error and does not block others; only long operations wait without a limit.
func TestPatience(t *testing.T) {
	engine := gin.New()
	api := humagin.New(engine, huma.DefaultConfig("A service", "1"))
	api.UseMiddleware(impatient(30 * time.Millisecond))
	s := &server{}
	var draft turn.Lock
	waiting := func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		if err := draft.Lock(ctx); err != nil {
			return nil, s.problem(ctx, err)
		}
		draft.Unlock()
		return nil, nil
	}
	huma.Register(api, huma.Operation{Method: http.MethodGet, Path: "/draft"}, waiting)
	huma.Register(api, huma.Operation{Method: http.MethodGet, Path: "/file", Metadata: anyLength}, waiting)
	ask := func(path string) *httptest.ResponseRecorder {
		answer := httptest.NewRecorder()
		engine.ServeHTTP(answer, httptest.NewRequestWithContext(t.Context(), http.MethodGet, path, http.NoBody))
		return answer
	}

	assert.NoError(t, draft.Lock(t.Context()))
	answer := ask("/draft")
	assert.Equal(t, http.StatusServiceUnavailable, answer.Code)
	assert.Contains(t, answer.Body.String(), "This took longer than 0.03 s, and was broken off. Nothing was changed.")
	time.AfterFunc(100*time.Millisecond, draft.Unlock)
	assert.Equal(t, http.StatusNoContent, ask("/file").Code)
	assert.Equal(t, http.StatusNoContent, ask("/draft").Code, "who gave up has left the turn free")
}
