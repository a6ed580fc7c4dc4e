package hands

import (
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestGroup(t *testing.T) {
	var g Group
	var done atomic.Int32
	for i := range 5 {
		g.Go(func() {
			if i == 2 {
				panic("the third hand slipped")
			}
			done.Add(1)
		})
	}
	assert.Panics(t, g.Wait, "the panic comes up where one waits")
	assert.EqualValues(t, 4, done.Load(), "the others went on")
	var well Group
	well.Go(func() { done.Add(1) })
	well.Wait()
	assert.EqualValues(t, 5, done.Load())
}
