package schedule

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/cli/command"
)

func TestScheduleText(t *testing.T) {
	hours := filepath.Join(t.TempDir(), "hours.txt")
	require.NoError(t, os.WriteFile(hours, []byte("mon 09:00-10:00\n"), 0o600))
	a := &command.App{In: strings.NewReader("tue 09:00-10:00")}
	for arg, want := range map[string]string{"wed 09:00-10:00": "wed 09:00-10:00", "-": "tue 09:00-10:00", "@" + hours: "mon 09:00-10:00\n"} {
		text, err := scheduleText(a, arg)
		require.NoError(t, err)
		assert.Equal(t, want, text)
	}
	_, err := scheduleText(a, "@"+hours+".none")
	assert.ErrorContains(t, err, "the file cannot be read")
}
