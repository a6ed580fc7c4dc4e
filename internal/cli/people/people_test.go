package people

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"

	"widelark/internal/cli/command"
)

func TestSome(t *testing.T) {
	var out bytes.Buffer
	a := &command.App{Out: &out}
	some(a, "Left out", nil)
	assert.Empty(t, out.String())
	some(a, "Left out", []string{"a", "b"})
	assert.Equal(t, "\nLeft out:\n  a\n  b\n", out.String())
	out.Reset()
	some(a, "Many", make([]string, 13))
	assert.Contains(t, out.String(), "  and 3 more\n")
}
