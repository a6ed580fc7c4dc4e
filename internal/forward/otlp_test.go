package forward

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	"google.golang.org/protobuf/proto"
	"pgregory.net/rapid"
)

// What an answer says was refused is what the published message says; anything else says nothing, and breaks nothing.
func TestRefused(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.Int64Range(0, 1<<40).Draw(t, "refused")
		packed, err := proto.Marshal(&collector.ExportLogsServiceResponse{PartialSuccess: &collector.ExportLogsPartialSuccess{RejectedLogRecords: n, ErrorMessage: rapid.String().Draw(t, "why")}})
		require.NoError(t, err)
		assert.EqualValues(t, n, refused(packed))
		refused(rapid.SliceOf(rapid.Byte()).Draw(t, "noise"))
	})
	assert.Zero(t, refused(nil))
}
