package memory

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestBytes(t *testing.T) {
	assert.Equal(t, []byte("heron.example"), Bytes("heron.example"))
	assert.Empty(t, Bytes(""))
}

// Memory in huge pages keeps its length, is zero, and can be written from end to end.
func TestInHugePages(t *testing.T) {
	for _, size := range []int{0, 1, 1 << 10, 4 << 20, 5<<20 + 8, 9 << 20} {
		all := InHugePages(make([]uint64, size/8, size/8+3))
		assert.Len(t, all, size/8)
		assert.Equal(t, size/8+3, cap(all))
		for i := range all {
			if all[i] != 0 {
				t.Fatalf("place %d of %d is not empty", i, size)
			}
			all[i] = uint64(i)
		}
		for i := range all {
			if all[i] != uint64(i) {
				t.Fatalf("place %d of %d holds %d", i, size, all[i])
			}
		}
	}
}
