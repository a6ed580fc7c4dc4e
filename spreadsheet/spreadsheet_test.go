package spreadsheet

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestSafe(t *testing.T) {
	for cell, want := range map[string]string{
		"=heron.example": "'=heron.example", "+1+1": "'+1+1", "-20": "-20", "+12,5%": "+12,5%", "-cmd": "'-cmd", "@SUM(A1)": "'@SUM(A1)", "\t=1": "'\t=1", "＝1": "'＝1",
		"heron.example": "heron.example", "": "", "'": "'", "'quoted'": "'quoted'", "'=1": "''=1",
	} {
		assert.Equal(t, want, Safe(cell), "%q", cell)
	}
	rapid.Check(t, func(t *rapid.T) {
		cell := rapid.StringMatching(`'{0,3}[=+@a0\t'-]{0,3}.{0,3}`).Draw(t, "cell")
		assert.Equal(t, cell, Plain(Safe(cell)))
		assert.False(t, runs(Safe(cell)), "%q", cell)
	})
}
