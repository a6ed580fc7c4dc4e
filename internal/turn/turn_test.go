package turn

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"widelark/core/hands"
)

func TestLock(t *testing.T) {
	var l Lock
	var held, most atomic.Int32
	var all hands.Group
	for range 20 {
		all.Go(func() {
			if l.Lock(t.Context()) != nil {
				return
			}
			defer l.Unlock()
			most.Store(max(most.Load(), held.Add(1)))
			held.Add(-1)
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, most.Load(), "one holds it at a time")

	assert.NoError(t, l.Lock(t.Context()))
	soon, cancel := context.WithTimeout(t.Context(), time.Millisecond)
	defer cancel()
	assert.ErrorIs(t, l.Lock(soon), context.DeadlineExceeded, "nobody waits longer than its context")
	l.Unlock()
	assert.Panics(t, l.Unlock)
	assert.NoError(t, l.Lock(t.Context()), "and it is free again")
}
