package service

import (
	"bytes"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWithoutRepeats(t *testing.T) {
	var out bytes.Buffer
	h := withoutRepeats(slog.NewTextHandler(&out, nil)).WithAttrs([]slog.Attr{slog.String("part", "a")})
	begin := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	for i, row := range []struct {
		level slog.Level
		says  string
		after time.Duration
	}{
		{slog.LevelWarn, "away", 0},
		{slog.LevelWarn, "away", time.Second},
		{slog.LevelWarn, "other", time.Second},
		{slog.LevelError, "failed", time.Second},
		{slog.LevelError, "failed", time.Second},
		{slog.LevelWarn, "away", 59 * time.Second},
		{slog.LevelWarn, "away", time.Minute},
		{slog.LevelWarn, "away", 3 * time.Minute},
	} {
		require.NoError(t, h.Handle(t.Context(), slog.NewRecord(begin.Add(row.after), row.level, row.says, 0)), i)
	}
	var said []string
	for _, line := range strings.Split(strings.TrimSpace(out.String()), "\n") {
		_, text, _ := strings.Cut(line, "msg=")
		said = append(said, text)
	}
	assert.Equal(t, []string{"away part=a", "other part=a", "failed part=a", "failed part=a", "away part=a left_out=2", "away part=a"}, said)
}
